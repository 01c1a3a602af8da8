-- Prepayment invoices: what an order asks for before it ships, billed with its tax, and used as its goods are billed.

-- Which share is asked in advance (customers have their usual one, items may bring their own): what someone set for an order
-- and its lines: {"percent", "lines": [{"order_line", "included", "percent"}]}.
ALTER TABLE orders ADD COLUMN advance TEXT CHECK (advance IS NULL OR json_valid(advance));
-- Whether goods wait until what was billed in advance of their order is paid.
ALTER TABLE company ADD COLUMN hold_until_prepaid INTEGER NOT NULL DEFAULT 0 CHECK (hold_until_prepaid IN (0, 1));

INSERT INTO number_ranges (kind, prefix, first, next) SELECT 'prepayment_invoice', 'P-', 1, 1 FROM company;

-- Documents of a further kind: the table is made anew. What points to it and what looks at it by name stays.
PRAGMA legacy_alter_table = ON;
CREATE TABLE documents_new (
    -- One range of ids for all kinds.
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    kind TEXT NOT NULL CHECK (kind IN ('invoice', 'prepayment_invoice', 'credit_memo')),
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
    -- What is billed now: what was prepaid of its lines is left out.
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
    deposits_wanted TEXT CHECK (deposits_wanted IS NULL OR json_valid(deposits_wanted)),
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
INSERT INTO documents_new (id, kind, number, sequence, state, customer_id, document_date, posting_date, tax_date, due_date, terms, currency,
    rate_e9, net_minor, tax_minor, total_minor, total_base_minor, bill_to_name, bill_to_address, bill_to_tax_id, entry_id, cost_entry_id,
    version, gross_priced, tax_computed, lines_minor, discount_e6, discount_minor, discount_reason, discount_allowed_minor, text_above,
    text_below, reason, tape, differences, run_id, left_out, seen, held, earlier_id, deposits_wanted)
SELECT id, kind, number, sequence, state, customer_id, document_date, posting_date, tax_date, due_date, terms, currency,
    rate_e9, net_minor, tax_minor, total_minor, total_base_minor, bill_to_name, bill_to_address, bill_to_tax_id, entry_id, cost_entry_id,
    version, gross_priced, tax_computed, lines_minor, discount_e6, discount_minor, discount_reason, discount_allowed_minor, text_above,
    text_below, reason, tape, differences, run_id, left_out, seen, held, earlier_id, deposits_wanted
FROM documents ORDER BY id;
-- Ids of drafts that were deleted stand on the audit log: none of them comes again.
INSERT INTO sqlite_sequence (name, seq)
SELECT 'documents_new', 0 WHERE NOT EXISTS (SELECT 1 FROM sqlite_sequence WHERE name = 'documents_new');
UPDATE sqlite_sequence SET seq = max(seq, coalesce((SELECT seq FROM sqlite_sequence WHERE name = 'documents'), 0)) WHERE name = 'documents_new';
DROP VIEW invoices;
DROP VIEW credit_memos;
DROP VIEW invoice_lines;
DROP TABLE documents;
ALTER TABLE documents_new RENAME TO documents;
PRAGMA legacy_alter_table = OFF;

CREATE INDEX documents_by_customer ON documents (customer_id, state);
CREATE INDEX documents_by_date ON documents (document_date) WHERE state = 'posted';
CREATE INDEX documents_by_run ON documents (run_id, id) WHERE run_id IS NOT NULL;
CREATE INDEX documents_drafts ON documents (id) WHERE state = 'draft';
CREATE INDEX documents_earlier ON documents (earlier_id) WHERE earlier_id IS NOT NULL;
CREATE INDEX documents_memos_by_date ON documents (document_date) WHERE kind = 'credit_memo' AND state = 'posted';
CREATE TRIGGER documents_keep BEFORE UPDATE OF kind, number, sequence, state, customer_id, document_date, posting_date, tax_date,
    due_date, terms, currency, rate_e9, net_minor, tax_minor, total_minor, total_base_minor, bill_to_name,
    bill_to_address, bill_to_tax_id, entry_id, cost_entry_id, gross_priced, tax_computed, lines_minor, discount_e6, discount_minor,
    discount_reason, text_above, text_below, reason, tape, differences, run_id, earlier_id ON documents
WHEN OLD.state = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted document never changes'); END;
CREATE TRIGGER documents_stay BEFORE DELETE ON documents WHEN OLD.state = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted document is never deleted'); END;

-- A line of a prepayment invoice is a row of the register: what was billed in advance of an order line. It bills no quantity
-- of it, so it does not stand in order_line_id.
ALTER TABLE document_lines ADD COLUMN prepays_line_id INTEGER REFERENCES order_lines (id);
-- What it asks for: share, of what, asked and used before, on which quantity.
ALTER TABLE document_lines ADD COLUMN asks TEXT CHECK (asks IS NULL OR json_valid(asks));
-- Its share of the tax of its code, in the currency of the document.
ALTER TABLE document_lines ADD COLUMN prepaid_tax_minor INTEGER;
-- What the account carries of it, in base currency; on a credit memo over such a line, with a minus: what it gives up.
ALTER TABLE document_lines ADD COLUMN prepaid_base_minor INTEGER;
CREATE INDEX document_lines_by_prepaid ON document_lines (prepays_line_id) WHERE prepays_line_id IS NOT NULL;

-- What lines of invoices use of it; with a minus as the invoice is canceled.
CREATE TABLE prepaid_uses (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    -- The line of the prepayment invoice.
    prepaid_line_id INTEGER NOT NULL REFERENCES document_lines (id),
    -- The line that uses it.
    line_id INTEGER NOT NULL REFERENCES document_lines (id),
    posting_date TEXT NOT NULL CHECK (posting_date = date(posting_date)),
    net_minor INTEGER NOT NULL,
    tax_minor INTEGER NOT NULL,
    -- At what it was carried at.
    net_base_minor INTEGER NOT NULL,
    -- Whether the invoice that used it was canceled: this one gives it back.
    given_back INTEGER NOT NULL DEFAULT 0 CHECK (given_back IN (0, 1)),
    CHECK (CASE given_back WHEN 0 THEN net_minor >= 0 AND tax_minor >= 0 ELSE net_minor <= 0 AND tax_minor <= 0 END),
    UNIQUE (line_id, prepaid_line_id, given_back)
) STRICT;
CREATE INDEX prepaid_uses_by_prepaid ON prepaid_uses (prepaid_line_id);
CREATE TRIGGER prepaid_uses_keep BEFORE UPDATE ON prepaid_uses
BEGIN SELECT RAISE(ABORT, 'what was used of a prepayment never changes'); END;
CREATE TRIGGER prepaid_uses_stay BEFORE DELETE ON prepaid_uses
BEGIN SELECT RAISE(ABORT, 'what was used of a prepayment is never deleted'); END;

-- The documents by kind, for what is about one of them. A prepayment invoice is an invoice.
CREATE VIEW invoices AS
SELECT documents.*,
       (SELECT from_id FROM document_links WHERE to_id = documents.id AND role = 'cancels') AS cancelled_by,
       (SELECT to_id FROM document_links WHERE from_id = documents.id AND role = 'replaces') AS replaces_id
FROM documents WHERE +kind <> 'credit_memo';
CREATE VIEW credit_memos AS
SELECT documents.*, to_id AS invoice_id, role = 'cancels' AS whole
FROM documents JOIN document_links ON from_id = documents.id AND role IN ('cancels', 'credits') WHERE +kind = 'credit_memo';
CREATE VIEW invoice_lines AS SELECT document_lines.*, document_id AS invoice_id FROM document_lines WHERE credits_line_id IS NULL;

-- What was billed in advance of each order line, by prepayment invoice: all of it, what is used, credited and left.
CREATE VIEW prepaid_register AS
SELECT line.id, line.document_id, documents.number, documents.customer_id, documents.currency, documents.gross_priced,
       documents.posting_date, line.position, line.prepays_line_id AS order_line_id, order_lines.order_id, line.account,
       line.tax_code, line.tax_category, line.tax_rate_e6,
       line.asks, line.net_minor, line.prepaid_tax_minor AS tax_minor, line.prepaid_base_minor AS net_base_minor,
       coalesce((SELECT sum(net_minor) FROM prepaid_uses WHERE prepaid_line_id = line.id), 0) AS used_minor,
       coalesce((SELECT sum(tax_minor) FROM prepaid_uses WHERE prepaid_line_id = line.id), 0) AS used_tax_minor,
       coalesce((SELECT sum(net_base_minor) FROM prepaid_uses WHERE prepaid_line_id = line.id), 0) AS used_base_minor,
       coalesce((SELECT -sum(net_minor) FROM document_lines WHERE credits_line_id = line.id), 0) AS credited_minor,
       coalesce((SELECT -sum(prepaid_tax_minor) FROM document_lines WHERE credits_line_id = line.id), 0) AS credited_tax_minor,
       coalesce((SELECT -sum(prepaid_base_minor) FROM document_lines WHERE credits_line_id = line.id), 0) AS credited_base_minor
FROM document_lines AS line JOIN documents ON documents.id = line.document_id AND documents.state = 'posted'
JOIN order_lines ON order_lines.id = line.prepays_line_id
WHERE line.prepays_line_id IS NOT NULL AND line.credits_line_id IS NULL;

-- Requests for payment in advance, where the order may still be canceled: the same paper, and no entry before it is paid; then
-- it becomes a prepayment invoice of that day.
INSERT INTO number_ranges (kind, prefix, first, next) SELECT 'payment_request', 'PR-', 1, 1 FROM company;
CREATE TABLE payment_requests (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    number TEXT NOT NULL UNIQUE,
    sequence INTEGER NOT NULL UNIQUE,
    order_id INTEGER NOT NULL REFERENCES orders (id),
    requested_on TEXT NOT NULL CHECK (requested_on = date(requested_on)),
    due_date TEXT NOT NULL CHECK (due_date = date(due_date)),
    currency TEXT NOT NULL CHECK (length(currency) = 3),
    total_minor INTEGER NOT NULL CHECK (total_minor > 0),
    -- What was typed, and what it came to, as it was sent.
    form TEXT NOT NULL CHECK (json_valid(form)),
    document TEXT NOT NULL CHECK (json_valid(document)),
    tape TEXT NOT NULL CHECK (json_valid(tape)),
    bill_to_name TEXT NOT NULL,
    bill_to_address TEXT NOT NULL,
    bill_to_tax_id TEXT,
    -- What became of it: paid, with the prepayment invoice it became, or withdrawn.
    invoice_id INTEGER REFERENCES documents (id),
    withdrawn_because TEXT CHECK (length(withdrawn_because) > 0),
    version INTEGER NOT NULL DEFAULT 1,
    CHECK (invoice_id IS NULL OR withdrawn_because IS NULL)
) STRICT;
CREATE INDEX payment_requests_by_order ON payment_requests (order_id);
CREATE TRIGGER payment_requests_keep BEFORE UPDATE OF number, sequence, order_id, requested_on, due_date, currency, total_minor, form,
    document, tape, bill_to_name, bill_to_address, bill_to_tax_id ON payment_requests
BEGIN SELECT RAISE(ABORT, 'a request for payment never changes'); END;
CREATE TRIGGER payment_requests_end_once BEFORE UPDATE OF invoice_id, withdrawn_because ON payment_requests
WHEN OLD.invoice_id IS NOT NULL OR OLD.withdrawn_because IS NOT NULL
BEGIN SELECT RAISE(ABORT, 'a request for payment is paid or withdrawn once'); END;
CREATE TRIGGER payment_requests_stay BEFORE DELETE ON payment_requests
BEGIN SELECT RAISE(ABORT, 'a request for payment is never deleted'); END;
