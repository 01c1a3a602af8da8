-- What suppliers answer to claims for goods that went back to them. The claim is the line of the inspection that made it.
CREATE TABLE claim_answers (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    claim_id INTEGER NOT NULL REFERENCES return_step_lines (id),
    posting_date TEXT NOT NULL CHECK (posting_date = date(posting_date)),
    -- In base currency: what they pay, and what they refuse.
    settled_minor INTEGER NOT NULL CHECK (settled_minor >= 0),
    refused_minor INTEGER NOT NULL CHECK (refused_minor >= 0),
    method TEXT REFERENCES payment_methods (code),
    -- What the supplier calls it.
    reference TEXT CHECK (length(reference) > 0),
    entry_id INTEGER NOT NULL REFERENCES entries (id),
    reversed_on TEXT CHECK (reversed_on IS NULL OR (reversed_on = date(reversed_on) AND reversed_on >= posting_date)),
    reversal_reason TEXT CHECK ((reversal_reason IS NULL) = (reversed_on IS NULL)),
    reversal_entry_id INTEGER REFERENCES entries (id),
    CHECK (settled_minor + refused_minor > 0),
    CHECK ((settled_minor > 0) = (method IS NOT NULL)),
    CHECK ((reversal_entry_id IS NULL) = (reversed_on IS NULL))
) STRICT;
CREATE INDEX claim_answers_by_claim ON claim_answers (claim_id);
CREATE TRIGGER claim_answers_keep BEFORE UPDATE OF id, claim_id, posting_date, settled_minor, refused_minor, method, reference, entry_id ON claim_answers
BEGIN SELECT RAISE(ABORT, 'an answer to a claim never changes; it is reversed'); END;
CREATE TRIGGER claim_answers_reversed_once BEFORE UPDATE OF reversed_on, reversal_reason, reversal_entry_id ON claim_answers
WHEN OLD.reversed_on IS NOT NULL
BEGIN SELECT RAISE(ABORT, 'an answer to a claim is reversed once'); END;
CREATE TRIGGER claim_answers_stay BEFORE DELETE ON claim_answers
BEGIN SELECT RAISE(ABORT, 'an answer to a claim is never deleted'); END;

-- What is claimed of suppliers, day by day.
CREATE VIEW claim_moves AS
SELECT done.id AS claim_id, step.posting_date, done.claim_minor AS amount_minor
FROM return_step_lines AS done JOIN return_steps AS step ON step.id = done.step_id WHERE done.claim_minor > 0
UNION ALL
SELECT done.id, step.reversed_on, -done.claim_minor
FROM return_step_lines AS done JOIN return_steps AS step ON step.id = done.step_id WHERE done.claim_minor > 0 AND step.reversed_on IS NOT NULL
UNION ALL
SELECT claim_id, posting_date, -(settled_minor + refused_minor) FROM claim_answers
UNION ALL
SELECT claim_id, reversed_on, settled_minor + refused_minor FROM claim_answers WHERE reversed_on IS NOT NULL;

-- Pictures that belong to a return. They are part of the books, so that every copy of the books is whole; of what was removed
-- the row stays and says by whom it was there.
CREATE TABLE return_pictures (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    return_id INTEGER NOT NULL REFERENCES returns (id),
    name TEXT NOT NULL CHECK (length(name) BETWEEN 1 AND 200),
    format TEXT NOT NULL CHECK (format IN ('jpeg', 'png', 'webp')),
    width INTEGER NOT NULL CHECK (width > 0),
    height INTEGER NOT NULL CHECK (height > 0),
    size INTEGER NOT NULL CHECK (size > 0),
    -- SHA-256 of its content.
    hash TEXT NOT NULL CHECK (length(hash) = 64),
    added_on TEXT NOT NULL CHECK (added_on = date(added_on)),
    -- NULL once it was removed.
    content BLOB CHECK (content IS NULL OR length(content) = size)
) STRICT;
CREATE UNIQUE INDEX return_pictures_once ON return_pictures (return_id, hash) WHERE content IS NOT NULL;
CREATE TRIGGER return_pictures_keep BEFORE UPDATE OF id, return_id, name, format, width, height, size, hash, added_on ON return_pictures
BEGIN SELECT RAISE(ABORT, 'a picture never changes'); END;
CREATE TRIGGER return_pictures_stay BEFORE DELETE ON return_pictures
BEGIN SELECT RAISE(ABORT, 'a picture is removed, its row stays'); END;

-- What is paid back of what lies unapplied: of a receipt, or of a credit memo that was kept.
CREATE TABLE refunds (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    number TEXT NOT NULL UNIQUE,
    sequence INTEGER NOT NULL UNIQUE,
    -- The open item it is paid back of.
    item_id INTEGER NOT NULL,
    method TEXT NOT NULL REFERENCES payment_methods (code),
    place TEXT NOT NULL REFERENCES money_places (code),
    posting_date TEXT NOT NULL CHECK (posting_date = date(posting_date)),
    amount_minor INTEGER NOT NULL CHECK (amount_minor > 0),
    -- What was carried of it, and what was paid, in base currency.
    amount_base_minor INTEGER NOT NULL,
    paid_base_minor INTEGER NOT NULL,
    reason TEXT NOT NULL,
    entry_id INTEGER NOT NULL REFERENCES entries (id),
    reversed_on TEXT CHECK (reversed_on IS NULL OR (reversed_on = date(reversed_on) AND reversed_on >= posting_date)),
    reversal_reason TEXT CHECK ((reversal_reason IS NULL) = (reversed_on IS NULL)),
    reversal_entry_id INTEGER REFERENCES entries (id),
    CHECK ((reversal_entry_id IS NULL) = (reversed_on IS NULL)),
    FOREIGN KEY (item_id) REFERENCES open_items (id)
) STRICT;
CREATE INDEX refunds_by_item ON refunds (item_id);
CREATE TRIGGER refunds_keep BEFORE UPDATE OF id, number, sequence, item_id, method, place, posting_date, amount_minor, amount_base_minor,
    paid_base_minor, reason, entry_id ON refunds
BEGIN SELECT RAISE(ABORT, 'a refund never changes; it is reversed'); END;
CREATE TRIGGER refunds_reversed_once BEFORE UPDATE OF reversed_on, reversal_reason, reversal_entry_id ON refunds
WHEN OLD.reversed_on IS NOT NULL
BEGIN SELECT RAISE(ABORT, 'a refund is reversed once'); END;
CREATE TRIGGER refunds_stay BEFORE DELETE ON refunds
BEGIN SELECT RAISE(ABORT, 'a refund is never deleted'); END;
INSERT INTO number_ranges (kind, prefix, first, next) SELECT 'refund', 'RF-', 1, 1 FROM company;

PRAGMA legacy_alter_table = ON;
CREATE TABLE open_items_new (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    -- The control account its balance stands on: what it is for, and its number. No number where it
    -- never had a balance.
    purpose TEXT NOT NULL CHECK (purpose IN ('receivable', 'unapplied', 'deposit_liability', 'prepayment_liability')),
    account TEXT REFERENCES accounts (number),
    side TEXT NOT NULL CHECK (side IN ('owed_to_us', 'owed_by_us')),
    -- The document it came from.
    kind TEXT NOT NULL CHECK (kind IN ('invoice', 'credit_memo', 'receipt', 'container_return', 'opening', 'deposit', 'deposit_end', 'card_return', 'refund')),
    document_id INTEGER NOT NULL,
    number TEXT NOT NULL,
    currency TEXT NOT NULL CHECK (length(currency) = 3),
    amount_minor INTEGER NOT NULL CHECK (amount_minor >= 0),
    amount_base_minor INTEGER NOT NULL,
    posting_date TEXT NOT NULL CHECK (posting_date = date(posting_date)),
    document_date TEXT NOT NULL CHECK (document_date = date(document_date)),
    -- What falls due when; NULL where it is due at once.
    terms TEXT CHECK (terms IS NULL OR json_valid(terms)),
    -- Kept for speed, proved by `verify` from the applications and the terms.
    open_minor INTEGER NOT NULL CHECK (open_minor BETWEEN 0 AND amount_minor),
    open_base_minor INTEGER NOT NULL,
    next_due_date TEXT NOT NULL CHECK (next_due_date = date(next_due_date)),
    CHECK (open_minor > 0 OR open_base_minor = 0),
    CHECK (side = 'owed_by_us' OR purpose IN ('receivable', 'unapplied', 'deposit_liability')),
    UNIQUE (kind, document_id, purpose, side)
) STRICT;
INSERT INTO open_items_new SELECT id, customer_id, purpose, account, side, kind, document_id, number, currency, amount_minor, amount_base_minor,
    posting_date, document_date, terms, open_minor, open_base_minor, next_due_date FROM open_items ORDER BY id;
DROP TABLE open_items;
ALTER TABLE open_items_new RENAME TO open_items;
PRAGMA legacy_alter_table = OFF;
CREATE INDEX open_items_open ON open_items (customer_id, next_due_date) WHERE open_minor > 0;
CREATE TRIGGER open_items_keep BEFORE UPDATE OF customer_id, purpose, account, side, kind, document_id, number, currency,
    amount_minor, amount_base_minor, posting_date, document_date, terms ON open_items
BEGIN SELECT RAISE(ABORT, 'an open item never changes; something is applied to it'); END;
CREATE TRIGGER open_items_stay BEFORE DELETE ON open_items
BEGIN SELECT RAISE(ABORT, 'an open item is never deleted'); END;

-- Credit memos, also those that stand alone: no invoice stands behind them.
DROP VIEW credit_memos;
CREATE VIEW credit_memos AS
SELECT documents.*, to_id AS invoice_id, coalesce(role = 'cancels', 0) AS whole
FROM documents LEFT JOIN document_links ON from_id = documents.id AND role IN ('cancels', 'credits')
WHERE +kind = 'credit_memo' AND (to_id IS NOT NULL OR state = 'posted');

-- The slip of a return goes out as documents do.
CREATE TABLE deliveries_new (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    document_id INTEGER REFERENCES documents (id),
    return_id INTEGER REFERENCES returns (id),
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
    CHECK ((document_id IS NULL) <> (return_id IS NULL)),
    CHECK ((state = 'done') = (done_at IS NOT NULL)),
    CHECK ((state = 'failed') = (problem IS NOT NULL))
) STRICT;
INSERT INTO deliveries_new (id, document_id, customer_id, way, state, recipient, subject, body, tries, problem, done_at, version)
SELECT id, document_id, customer_id, way, state, recipient, subject, body, tries, problem, done_at, version FROM deliveries ORDER BY id;
-- Ids of those that never went are not given again.
INSERT INTO sqlite_sequence (name, seq)
SELECT 'deliveries_new', 0 WHERE NOT EXISTS (SELECT 1 FROM sqlite_sequence WHERE name = 'deliveries_new');
UPDATE sqlite_sequence SET seq = max(seq, coalesce((SELECT seq FROM sqlite_sequence WHERE name = 'deliveries'), 0)) WHERE name = 'deliveries_new';
DROP TABLE deliveries;
ALTER TABLE deliveries_new RENAME TO deliveries;
CREATE INDEX deliveries_by_document ON deliveries (document_id) WHERE document_id IS NOT NULL;
CREATE INDEX deliveries_by_return ON deliveries (return_id) WHERE return_id IS NOT NULL;
CREATE INDEX deliveries_open ON deliveries (id) WHERE state <> 'done';

CREATE TABLE mail_templates_new (
    kind TEXT PRIMARY KEY CHECK (kind IN ('invoice', 'credit_memo', 'return')),
    subject TEXT NOT NULL CHECK (length(subject) > 0),
    body TEXT NOT NULL CHECK (length(body) > 0),
    version INTEGER NOT NULL DEFAULT 1
) STRICT, WITHOUT ROWID;
INSERT INTO mail_templates_new (kind, subject, body, version) SELECT kind, subject, body, version FROM mail_templates;
DROP TABLE mail_templates;
ALTER TABLE mail_templates_new RENAME TO mail_templates;
INSERT INTO mail_templates (kind, subject, body) VALUES
('return', 'Return {number} to {company}', 'Dear {contact},

please find attached the slip for return {number}. Put a copy of it into the parcel, so that we know at once whose goods they are. They may arrive until {due}.

Kind regards
{company}');

-- A line that credits need not point at one that was billed: a credit memo may stand alone.
PRAGMA legacy_alter_table = ON;
DROP VIEW invoice_lines;
CREATE TABLE document_lines_new (
    id INTEGER PRIMARY KEY,
    document_id INTEGER NOT NULL REFERENCES documents (id),
    position INTEGER NOT NULL,
    -- Where it comes from: a shipment, an order, what was typed, or the line it takes back.
    shipment_line_id INTEGER REFERENCES shipment_lines (id),
    order_line_id INTEGER REFERENCES order_lines (id),
    typed TEXT CHECK (typed IS NULL OR json_valid(typed)),
    credits_line_id INTEGER REFERENCES document_lines (id),
    -- With a minus where it takes back or credits; zero where only the price is taken back.
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
    leaves_e4 INTEGER CHECK (leaves_e4 > 0),
    prepays_line_id INTEGER REFERENCES order_lines (id),
    asks TEXT CHECK (asks IS NULL OR json_valid(asks)),
    prepaid_tax_minor INTEGER,
    prepaid_base_minor INTEGER,
    return_line_id INTEGER REFERENCES return_lines (id),
    UNIQUE (document_id, position),
    UNIQUE (document_id, shipment_line_id),
    UNIQUE (document_id, credits_line_id),
    CHECK (CASE WHEN credits_line_id IS NULL THEN quantity_e4 > 0 OR (quantity_e4 < 0 AND shipment_line_id IS NULL AND order_line_id IS NULL
                                                                      AND typed IS NULL AND leaves_e4 IS NULL)
                ELSE quantity_e4 <= 0 AND shipment_line_id IS NULL AND order_line_id IS NULL AND typed IS NULL END)
) STRICT;
INSERT INTO document_lines_new (id, document_id, position, shipment_line_id, order_line_id, typed, credits_line_id, quantity_e4, kind, item_id, account,
    ordered_e4, billed_before_e4, still_to_come_e4, code, description, unit, unit_price_e6, order_price_e6, list_price_e6, price_reason,
    price_allowed_minor, price_steps, discount_e6, discount_reason, surcharge_e6, surcharge_name, marks, full_minor, amount_minor, off_minor,
    net_minor, tax_code, tax_category, tax_rate_e6, tax_date, order_tax_code, tax_reason, cost_minor, leaves_e4, prepays_line_id, asks,
    prepaid_tax_minor, prepaid_base_minor, return_line_id)
SELECT id, document_id, position, shipment_line_id, order_line_id, typed, credits_line_id, quantity_e4, kind, item_id, account,
    ordered_e4, billed_before_e4, still_to_come_e4, code, description, unit, unit_price_e6, order_price_e6, list_price_e6, price_reason,
    price_allowed_minor, price_steps, discount_e6, discount_reason, surcharge_e6, surcharge_name, marks, full_minor, amount_minor, off_minor,
    net_minor, tax_code, tax_category, tax_rate_e6, tax_date, order_tax_code, tax_reason, cost_minor, leaves_e4, prepays_line_id, asks,
    prepaid_tax_minor, prepaid_base_minor, return_line_id
FROM document_lines ORDER BY id;
DROP TABLE document_lines;
ALTER TABLE document_lines_new RENAME TO document_lines;
PRAGMA legacy_alter_table = OFF;
CREATE INDEX document_lines_by_shipment_line ON document_lines (shipment_line_id) WHERE shipment_line_id IS NOT NULL;
CREATE INDEX document_lines_by_order_line ON document_lines (order_line_id) WHERE order_line_id IS NOT NULL;
CREATE INDEX document_lines_by_credited ON document_lines (credits_line_id) WHERE credits_line_id IS NOT NULL;
CREATE UNIQUE INDEX document_lines_order_line_once ON document_lines (document_id, order_line_id)
    WHERE shipment_line_id IS NULL AND order_line_id IS NOT NULL;
CREATE INDEX document_lines_by_prepaid ON document_lines (prepays_line_id) WHERE prepays_line_id IS NOT NULL;
CREATE INDEX document_lines_by_return_line ON document_lines (return_line_id) WHERE return_line_id IS NOT NULL;
CREATE TRIGGER document_lines_closed BEFORE INSERT ON document_lines
WHEN (SELECT state FROM documents WHERE id = NEW.document_id) = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted document never changes'); END;
CREATE TRIGGER document_lines_keep BEFORE UPDATE ON document_lines
WHEN (SELECT state FROM documents WHERE id = OLD.document_id) = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted document never changes'); END;
CREATE TRIGGER document_lines_stay BEFORE DELETE ON document_lines
WHEN (SELECT state FROM documents WHERE id = OLD.document_id) = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted document never changes'); END;
-- What bills, of invoices and drafts; what a credit memo without an invoice credits is no line of an invoice.
CREATE VIEW invoice_lines AS
SELECT document_lines.*, document_id AS invoice_id FROM document_lines WHERE credits_line_id IS NULL AND quantity_e4 > 0;

-- What was back and not credited at the end of a month: entered, and reversed on the first day of the next.
CREATE TABLE return_accruals (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    number TEXT NOT NULL UNIQUE,
    sequence INTEGER NOT NULL UNIQUE,
    posting_date TEXT NOT NULL CHECK (posting_date = date(posting_date)),
    reversed_on TEXT NOT NULL CHECK (reversed_on = date(reversed_on) AND reversed_on > posting_date),
    net_minor INTEGER NOT NULL CHECK (net_minor > 0),
    entry_id INTEGER NOT NULL REFERENCES entries (id),
    reversal_entry_id INTEGER NOT NULL REFERENCES entries (id)
) STRICT;
CREATE TRIGGER return_accruals_keep BEFORE UPDATE ON return_accruals
BEGIN SELECT RAISE(ABORT, 'what was entered at the end of a month never changes'); END;
CREATE TRIGGER return_accruals_stay BEFORE DELETE ON return_accruals
BEGIN SELECT RAISE(ABORT, 'what was entered at the end of a month is never deleted'); END;
INSERT INTO number_ranges (kind, prefix, first, next) SELECT 'return_accrual', 'AR-', 1, 1 FROM company;
