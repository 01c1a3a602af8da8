-- Requests for approval keep a mark of what was asked for ----------------------------------------------

-- Empty on requests of before it was kept: they are asked for again.
ALTER TABLE approvals ADD COLUMN mark TEXT NOT NULL DEFAULT '';

-- One commercial document --------------------------------------------------------------------------------

-- Invoices and credit memos are one kind of thing: a document with lines, taxes and links to others.
-- What it takes back carries a minus, so that sums over documents are what was sold and taxed.

DROP TRIGGER invoices_keep;
DROP TRIGGER invoices_cancelled_once;
DROP TRIGGER invoices_stay;
DROP TRIGGER invoice_lines_keep;
DROP TRIGGER invoice_lines_stay;
DROP TRIGGER invoice_lines_closed;
DROP TRIGGER invoice_taxes_keep;
DROP TRIGGER invoice_taxes_stay;
DROP TRIGGER invoice_taxes_closed;
DROP TRIGGER invoice_orders_closed;
DROP TRIGGER credit_memos_keep;
DROP TRIGGER credit_memos_stay;

CREATE TABLE documents (
    -- One range of ids for all kinds.
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    kind TEXT NOT NULL CHECK (kind IN ('invoice', 'credit_memo')),
    -- Given at posting, in order of posting, for each kind.
    number TEXT,
    sequence INTEGER,
    state TEXT NOT NULL CHECK (state IN ('draft', 'posted')),
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    -- On a draft: as typed, NULL for the business date.
    document_date TEXT CHECK (document_date = date(document_date)),
    posting_date TEXT CHECK (posting_date = date(posting_date)),
    tax_date TEXT CHECK (tax_date = date(tax_date)),
    due_date TEXT CHECK (due_date = date(due_date)),
    -- NULL on what is not paid in parts or by a day.
    terms TEXT CHECK (terms IS NULL OR json_valid(terms)),
    currency TEXT NOT NULL CHECK (length(currency) = 3),
    rate_e9 INTEGER CHECK (rate_e9 > 0),
    net_minor INTEGER,
    tax_minor INTEGER,
    total_minor INTEGER,
    total_base_minor INTEGER,
    -- As printed: what the customer is called later changes nothing here.
    bill_to_name TEXT,
    bill_to_address TEXT,
    bill_to_tax_id TEXT,
    entry_id INTEGER REFERENCES entries (id),
    cost_entry_id INTEGER REFERENCES entries (id),
    version INTEGER NOT NULL DEFAULT 1,
    gross_priced INTEGER NOT NULL DEFAULT 0 CHECK (gross_priced IN (0, 1)),
    -- At which step its tax was rounded, whatever the setting says later.
    tax_computed TEXT CHECK (tax_computed IN ('per_document', 'per_line')),
    -- Before the discount over the document.
    lines_minor INTEGER,
    discount_e6 INTEGER CHECK (discount_e6 IS NULL OR discount_e6 BETWEEN 0 AND 1000000),
    discount_minor INTEGER,
    discount_reason TEXT,
    discount_allowed_minor INTEGER,
    text_above TEXT,
    text_below TEXT,
    -- Why it is there, where it takes something back.
    reason TEXT CHECK (length(reason) > 0),
    -- Its arithmetic as it was posted. NULL on invoices of before it was kept: it is made anew from their rows.
    tape TEXT CHECK (tape IS NULL OR json_valid(tape)),
    -- Why it came to something else than its orders promised.
    differences TEXT NOT NULL DEFAULT '[]' CHECK (json_valid(differences)),
    run_id INTEGER REFERENCES billing_runs (id),
    left_out INTEGER NOT NULL DEFAULT 0 CHECK (left_out IN (0, 1)),
    -- The figures that were seen when the run was posted, and why it was not posted then.
    seen TEXT,
    held TEXT,
    -- The id a credit memo had when each kind had a range of its own: the audit log still says it.
    earlier_id INTEGER,
    -- The kind comes last: by itself it finds nothing, and no query is to begin with it.
    UNIQUE (number, kind),
    UNIQUE (sequence, kind),
    CHECK (kind <> 'credit_memo' OR (reason IS NOT NULL AND tape IS NOT NULL)),
    CHECK (state = 'draft' OR (
        bill_to_name IS NOT NULL AND bill_to_address IS NOT NULL AND tax_computed IS NOT NULL AND
        number IS NOT NULL AND sequence IS NOT NULL AND document_date IS NOT NULL AND posting_date IS NOT NULL
        AND tax_date IS NOT NULL AND due_date IS NOT NULL AND (terms IS NOT NULL OR kind = 'credit_memo') AND rate_e9 IS NOT NULL
        AND net_minor IS NOT NULL AND tax_minor IS NOT NULL AND total_minor = net_minor + tax_minor
        AND total_base_minor IS NOT NULL))
) STRICT;

CREATE TABLE document_links (
    from_id INTEGER NOT NULL REFERENCES documents (id),
    to_id INTEGER NOT NULL REFERENCES documents (id),
    -- Cancels: takes all of it back, its quantities to be billed again. Credits: takes part of it back.
    -- Replaces: bills anew what was cancelled.
    role TEXT NOT NULL CHECK (role IN ('cancels', 'credits', 'replaces')),
    PRIMARY KEY (from_id, role, to_id),
    CHECK (from_id <> to_id)
) STRICT, WITHOUT ROWID;

INSERT INTO documents (id, kind, number, sequence, state, customer_id, document_date, posting_date, tax_date, due_date, terms, currency,
    rate_e9, net_minor, tax_minor, total_minor, total_base_minor, bill_to_name, bill_to_address, bill_to_tax_id, entry_id, cost_entry_id,
    version, gross_priced, tax_computed, lines_minor, discount_e6, discount_minor, discount_reason, discount_allowed_minor, text_above,
    text_below, differences, run_id, left_out, seen, held)
SELECT id, 'invoice', number, sequence, state, customer_id, document_date, posting_date, tax_date, due_date, terms, currency,
    rate_e9, net_minor, tax_minor, total_minor, total_base_minor, bill_to_name, bill_to_address, bill_to_tax_id, entry_id, cost_entry_id,
    version, gross_priced, tax_computed, lines_minor, discount_e6, discount_minor, discount_reason, discount_allowed_minor, text_above,
    text_below, differences, run_id, left_out, seen, held
FROM invoices ORDER BY id;
-- Ids of drafts that were deleted stand on the audit log: none of them comes again.
INSERT INTO sqlite_sequence (name, seq) SELECT 'documents', 0 WHERE NOT EXISTS (SELECT 1 FROM sqlite_sequence WHERE name = 'documents');
UPDATE sqlite_sequence SET seq = max(seq, coalesce((SELECT seq FROM sqlite_sequence WHERE name = 'invoices'), 0)) WHERE name = 'documents';

INSERT INTO documents (id, kind, number, sequence, state, customer_id, document_date, posting_date, tax_date, due_date, currency,
    rate_e9, net_minor, tax_minor, total_minor, total_base_minor, bill_to_name, bill_to_address, bill_to_tax_id, entry_id, cost_entry_id,
    gross_priced, tax_computed, lines_minor, discount_e6, discount_minor, discount_reason, reason, tape, earlier_id)
SELECT (SELECT seq FROM sqlite_sequence WHERE name = 'documents') + row_number() OVER (ORDER BY credit_memos.id),
    'credit_memo', credit_memos.number, credit_memos.sequence, 'posted', credit_memos.customer_id, credit_memos.document_date,
    credit_memos.posting_date, tax_date, credit_memos.document_date, currency, rate_e9, -net_minor, -tax_minor, -invoices.total_minor,
    -invoices.total_base_minor, bill_to_name, bill_to_address, bill_to_tax_id, credit_memos.entry_id, credit_memos.cost_entry_id,
    gross_priced, tax_computed, -lines_minor, discount_e6, -discount_minor, discount_reason, credit_memos.reason, credit_memos.tape, credit_memos.id
FROM credit_memos JOIN invoices ON invoices.id = credit_memos.invoice_id ORDER BY credit_memos.id;

INSERT INTO document_links (from_id, to_id, role)
SELECT documents.id, invoice_id, 'cancels' FROM credit_memos JOIN documents ON earlier_id = credit_memos.id
UNION ALL SELECT id, replaces_id, 'replaces' FROM invoices WHERE replaces_id IS NOT NULL;

CREATE TABLE document_lines (
    id INTEGER PRIMARY KEY,
    document_id INTEGER NOT NULL REFERENCES documents (id),
    position INTEGER NOT NULL,
    -- Where it comes from: a shipment, an order, what was typed, or the line it takes back.
    shipment_line_id INTEGER REFERENCES shipment_lines (id),
    order_line_id INTEGER REFERENCES order_lines (id),
    typed TEXT CHECK (typed IS NULL OR json_valid(typed)),
    credits_line_id INTEGER REFERENCES document_lines (id),
    -- With a minus where it takes back; zero where only the price is taken back.
    quantity_e4 INTEGER NOT NULL,
    -- The rest is filled in when the document is posted.
    kind TEXT,
    item_id INTEGER REFERENCES items (id),
    account TEXT REFERENCES accounts (number),
    ordered_e4 INTEGER,
    billed_before_e4 INTEGER,
    still_to_come_e4 INTEGER,
    code TEXT,
    description TEXT,
    unit TEXT,
    unit_price_e6 INTEGER,
    order_price_e6 INTEGER,
    list_price_e6 INTEGER,
    price_reason TEXT,
    price_allowed_minor INTEGER,
    price_steps TEXT NOT NULL DEFAULT '[]',
    discount_e6 INTEGER,
    discount_reason TEXT,
    surcharge_e6 INTEGER NOT NULL DEFAULT 0,
    surcharge_name TEXT,
    marks TEXT NOT NULL DEFAULT '{}',
    full_minor INTEGER,
    amount_minor INTEGER,
    off_minor INTEGER NOT NULL DEFAULT 0,
    net_minor INTEGER,
    tax_code TEXT REFERENCES tax_codes (code),
    tax_category TEXT,
    tax_rate_e6 INTEGER,
    tax_date TEXT CHECK (tax_date IS NULL OR tax_date = date(tax_date)),
    order_tax_code TEXT,
    tax_reason TEXT,
    cost_minor INTEGER NOT NULL DEFAULT 0,
    UNIQUE (document_id, position),
    UNIQUE (document_id, shipment_line_id),
    UNIQUE (document_id, credits_line_id),
    CHECK (CASE WHEN credits_line_id IS NULL THEN quantity_e4 > 0
                ELSE quantity_e4 <= 0 AND shipment_line_id IS NULL AND order_line_id IS NULL AND typed IS NULL END)
) STRICT;
INSERT INTO document_lines (id, document_id, position, shipment_line_id, order_line_id, typed, quantity_e4, kind, item_id, account,
    ordered_e4, billed_before_e4, still_to_come_e4, code, description, unit, unit_price_e6, order_price_e6, list_price_e6, price_reason,
    price_allowed_minor, price_steps, discount_e6, discount_reason, surcharge_e6, surcharge_name, marks, full_minor, amount_minor,
    off_minor, net_minor, tax_code, tax_category, tax_rate_e6, tax_date, order_tax_code, tax_reason, cost_minor)
SELECT id, invoice_id, position, shipment_line_id, order_line_id, typed, quantity_e4, kind, item_id, account,
    ordered_e4, billed_before_e4, still_to_come_e4, code, description, unit, unit_price_e6, order_price_e6, list_price_e6, price_reason,
    price_allowed_minor, price_steps, discount_e6, discount_reason, surcharge_e6, surcharge_name, marks, full_minor, amount_minor,
    off_minor, net_minor, tax_code, tax_category, tax_rate_e6, tax_date, order_tax_code, tax_reason, cost_minor
FROM invoice_lines ORDER BY id;
INSERT INTO document_lines (document_id, position, credits_line_id, quantity_e4, kind, item_id, account,
    ordered_e4, billed_before_e4, still_to_come_e4, code, description, unit, unit_price_e6, order_price_e6, list_price_e6, price_reason,
    price_steps, discount_e6, discount_reason, surcharge_e6, surcharge_name, marks, full_minor, amount_minor,
    off_minor, net_minor, tax_code, tax_category, tax_rate_e6, tax_date, order_tax_code, tax_reason, cost_minor)
SELECT documents.id, position, invoice_lines.id, -quantity_e4, coalesce(invoice_lines.kind, items.kind), item_id, account,
    ordered_e4, billed_before_e4, still_to_come_e4, invoice_lines.code, invoice_lines.description, invoice_lines.unit, unit_price_e6,
    order_price_e6, invoice_lines.list_price_e6, price_reason, price_steps, invoice_lines.discount_e6, invoice_lines.discount_reason, invoice_lines.surcharge_e6,
    invoice_lines.surcharge_name, invoice_lines.marks, -full_minor, -amount_minor, -off_minor, -invoice_lines.net_minor, invoice_lines.tax_code,
    tax_category, tax_rate_e6, invoice_lines.tax_date, order_tax_code, tax_reason, -cost_minor
FROM documents JOIN document_links ON from_id = documents.id AND role = 'cancels'
JOIN invoice_lines ON invoice_id = to_id LEFT JOIN items ON items.id = item_id ORDER BY documents.id, position;

CREATE TABLE document_taxes (
    document_id INTEGER NOT NULL REFERENCES documents (id),
    position INTEGER NOT NULL,
    tax_code TEXT NOT NULL REFERENCES tax_codes (code),
    category TEXT NOT NULL,
    rate_e6 INTEGER NOT NULL,
    base_minor INTEGER NOT NULL,
    tax_minor INTEGER NOT NULL,
    PRIMARY KEY (document_id, position)
) STRICT, WITHOUT ROWID;
INSERT INTO document_taxes SELECT * FROM invoice_taxes;
INSERT INTO document_taxes
SELECT from_id, position, tax_code, category, rate_e6, -base_minor, -tax_minor
FROM document_links JOIN invoice_taxes ON invoice_id = to_id WHERE role = 'cancels';

-- The orders a document is about.
CREATE TABLE document_orders (
    document_id INTEGER NOT NULL REFERENCES documents (id),
    order_id INTEGER NOT NULL REFERENCES orders (id),
    position INTEGER NOT NULL,
    gross_minor INTEGER NOT NULL,
    -- The number the customer had given the order when it was billed.
    customer_order_number TEXT,
    PRIMARY KEY (document_id, order_id)
) STRICT, WITHOUT ROWID;
INSERT INTO document_orders SELECT * FROM invoice_orders;

-- What goes out is a document.
CREATE TABLE deliveries_new (
    id INTEGER PRIMARY KEY,
    document_id INTEGER NOT NULL REFERENCES documents (id),
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    way TEXT NOT NULL CHECK (way IN ('print', 'mail')),
    state TEXT NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'done', 'failed')),
    -- As changed before it went; NULL: as the template makes it.
    recipient TEXT,
    subject TEXT,
    body TEXT,
    tries INTEGER NOT NULL DEFAULT 0,
    problem TEXT,
    done_at TEXT,
    version INTEGER NOT NULL DEFAULT 1,
    CHECK ((state = 'done') = (done_at IS NOT NULL)),
    CHECK ((state = 'failed') = (problem IS NOT NULL))
) STRICT;
INSERT INTO deliveries_new
SELECT id, coalesce(invoice_id, (SELECT documents.id FROM documents WHERE earlier_id = credit_memo_id)), customer_id, way, state,
    recipient, subject, body, tries, problem, done_at, version FROM deliveries ORDER BY id;
DROP TABLE deliveries;
ALTER TABLE deliveries_new RENAME TO deliveries;
CREATE INDEX deliveries_by_document ON deliveries (document_id);
CREATE INDEX deliveries_open ON deliveries (id) WHERE state <> 'done';

CREATE TABLE container_moves_new (
    id INTEGER PRIMARY KEY,
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    item_id INTEGER NOT NULL REFERENCES items (id),
    posting_date TEXT NOT NULL CHECK (posting_date = date(posting_date)),
    -- Positive: sent; negative: brought back. Amounts in base currency.
    quantity_e4 INTEGER NOT NULL CHECK (quantity_e4 <> 0),
    amount_minor INTEGER NOT NULL,
    invoice_id INTEGER REFERENCES documents (id),
    container_return_id INTEGER REFERENCES container_returns (id),
    -- Containers were a way of paying once.
    payment_id INTEGER REFERENCES payments (id),
    CHECK ((invoice_id IS NOT NULL) + (container_return_id IS NOT NULL) + (payment_id IS NOT NULL) = 1),
    CHECK (quantity_e4 < 0 OR invoice_id IS NOT NULL)
) STRICT;
INSERT INTO container_moves_new SELECT * FROM container_moves ORDER BY id;
DROP TABLE container_moves;
ALTER TABLE container_moves_new RENAME TO container_moves;
CREATE INDEX container_moves_by_customer ON container_moves (customer_id, item_id);
CREATE TRIGGER container_moves_keep BEFORE UPDATE ON container_moves
BEGIN SELECT RAISE(ABORT, 'a container move never changes'); END;
CREATE TRIGGER container_moves_stay BEFORE DELETE ON container_moves
BEGIN SELECT RAISE(ABORT, 'a container move is never deleted'); END;

-- Items and entries of credit memos name the document by its new id.
DROP TRIGGER open_items_keep;
UPDATE open_items SET document_id = (SELECT documents.id FROM documents WHERE earlier_id = open_items.document_id) WHERE kind = 'credit_memo';
CREATE TRIGGER open_items_keep BEFORE UPDATE OF customer_id, purpose, account, side, kind, document_id, number, currency,
    amount_minor, amount_base_minor, posting_date, document_date, terms ON open_items
BEGIN SELECT RAISE(ABORT, 'an open item never changes; something is applied to it'); END;
DROP TRIGGER entries_keep;
UPDATE entries SET source_id = (SELECT documents.id FROM documents WHERE earlier_id = entries.source_id) WHERE source_kind = 'credit_memo';
CREATE TRIGGER entries_keep BEFORE UPDATE ON entries
BEGIN SELECT RAISE(ABORT, 'a journal entry never changes'); END;

DROP TABLE invoice_orders;
DROP TABLE invoice_taxes;
DROP TABLE invoice_lines;
DROP TABLE credit_memos;
DROP TABLE invoices;

CREATE INDEX documents_by_customer ON documents (customer_id, state);
CREATE INDEX documents_by_date ON documents (document_date) WHERE state = 'posted';
CREATE INDEX documents_by_run ON documents (run_id, id) WHERE run_id IS NOT NULL;
CREATE INDEX documents_drafts ON documents (id) WHERE state = 'draft';
CREATE INDEX documents_earlier ON documents (earlier_id) WHERE earlier_id IS NOT NULL;
CREATE INDEX document_lines_by_shipment_line ON document_lines (shipment_line_id) WHERE shipment_line_id IS NOT NULL;
CREATE INDEX document_lines_by_order_line ON document_lines (order_line_id) WHERE order_line_id IS NOT NULL;
CREATE INDEX document_lines_by_credited ON document_lines (credits_line_id) WHERE credits_line_id IS NOT NULL;
CREATE UNIQUE INDEX document_lines_order_line_once ON document_lines (document_id, order_line_id)
    WHERE shipment_line_id IS NULL AND order_line_id IS NOT NULL;
CREATE INDEX document_orders_by_order ON document_orders (order_id);
CREATE INDEX document_links_to ON document_links (to_id, role);
CREATE UNIQUE INDEX document_links_cancelled_once ON document_links (to_id) WHERE role = 'cancels';

CREATE TRIGGER documents_keep BEFORE UPDATE OF kind, number, sequence, state, customer_id, document_date, posting_date, tax_date,
    due_date, terms, currency, rate_e9, net_minor, tax_minor, total_minor, total_base_minor, bill_to_name,
    bill_to_address, bill_to_tax_id, entry_id, cost_entry_id, gross_priced, tax_computed, lines_minor, discount_e6, discount_minor,
    discount_reason, text_above, text_below, reason, tape, differences, run_id, earlier_id ON documents
WHEN OLD.state = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted document never changes'); END;
CREATE TRIGGER documents_stay BEFORE DELETE ON documents WHEN OLD.state = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted document is never deleted'); END;
CREATE TRIGGER document_links_keep BEFORE UPDATE ON document_links
BEGIN SELECT RAISE(ABORT, 'a link between documents never changes'); END;
CREATE TRIGGER document_links_stay BEFORE DELETE ON document_links
WHEN (SELECT state FROM documents WHERE id = OLD.from_id) = 'posted'
BEGIN SELECT RAISE(ABORT, 'a link between documents never changes'); END;
-- Lines come while the document is a draft; those of a document that is posted at once, with it.
CREATE TRIGGER document_lines_closed BEFORE INSERT ON document_lines
WHEN (SELECT state FROM documents WHERE id = NEW.document_id) = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted document never changes'); END;
CREATE TRIGGER document_lines_keep BEFORE UPDATE ON document_lines
WHEN (SELECT state FROM documents WHERE id = OLD.document_id) = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted document never changes'); END;
CREATE TRIGGER document_lines_stay BEFORE DELETE ON document_lines
WHEN (SELECT state FROM documents WHERE id = OLD.document_id) = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted document never changes'); END;
CREATE TRIGGER document_taxes_closed BEFORE INSERT ON document_taxes
WHEN (SELECT state FROM documents WHERE id = NEW.document_id) = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted document never changes'); END;
CREATE TRIGGER document_taxes_keep BEFORE UPDATE ON document_taxes
BEGIN SELECT RAISE(ABORT, 'a posted document never changes'); END;
CREATE TRIGGER document_taxes_stay BEFORE DELETE ON document_taxes
BEGIN SELECT RAISE(ABORT, 'a posted document never changes'); END;
CREATE TRIGGER document_orders_closed BEFORE INSERT ON document_orders
WHEN (SELECT state FROM documents WHERE id = NEW.document_id) = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted document never changes'); END;
CREATE TRIGGER document_orders_keep BEFORE UPDATE ON document_orders
BEGIN SELECT RAISE(ABORT, 'a posted document never changes'); END;
CREATE TRIGGER document_orders_stay BEFORE DELETE ON document_orders
BEGIN SELECT RAISE(ABORT, 'a posted document never changes'); END;

-- The documents by kind, for what is about one of them.
CREATE VIEW invoices AS
SELECT documents.*,
       (SELECT from_id FROM document_links WHERE to_id = documents.id AND role = 'cancels') AS cancelled_by,
       (SELECT to_id FROM document_links WHERE from_id = documents.id AND role = 'replaces') AS replaces_id
FROM documents WHERE +kind = 'invoice';
CREATE VIEW credit_memos AS
SELECT documents.*, to_id AS invoice_id, role = 'cancels' AS whole
FROM documents JOIN document_links ON from_id = documents.id AND role IN ('cancels', 'credits') WHERE +kind = 'credit_memo';
CREATE VIEW invoice_lines AS SELECT document_lines.*, document_id AS invoice_id FROM document_lines WHERE credits_line_id IS NULL;
