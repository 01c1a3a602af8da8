-- Open items and applications: everything on a customer account that carries a balance, owed to us
-- or by us, and the dated ties between them. Receipts become payments, with the place their money
-- is in; containers that came back are documents of their own; invoices keep how their tax was
-- computed. Tables that lose a column or a CHECK are built anew (SQLite's own page on ALTER TABLE,
-- section 7): the program applies migrations with foreign keys off and checks them all afterwards.

PRAGMA legacy_alter_table = ON;

-- Places of money, and ways of paying --------------------------------------------------------

CREATE TABLE money_places (
    code TEXT PRIMARY KEY CHECK (length(code) > 0),
    name TEXT NOT NULL CHECK (length(name) > 0),
    kind TEXT NOT NULL CHECK (kind IN ('bank', 'drawer', 'checks_in_hand', 'card_clearing')),
    account TEXT NOT NULL REFERENCES accounts (number),
    -- NULL: takes any.
    currency TEXT CHECK (length(currency) = 3)
) STRICT, WITHOUT ROWID;

CREATE TABLE payment_methods (
    code TEXT PRIMARY KEY CHECK (length(code) > 0),
    name TEXT NOT NULL CHECK (length(name) > 0),
    position INTEGER NOT NULL,
    -- NULL: not money; kept for receipts of older books.
    place TEXT REFERENCES money_places (code),
    active INTEGER NOT NULL DEFAULT 1 CHECK (active IN (0, 1)),
    CHECK (place IS NOT NULL OR active = 0)
) STRICT, WITHOUT ROWID;

INSERT INTO money_places (code, name, kind, account)
SELECT 'bank', 'Bank', 'bank', account FROM account_map WHERE purpose = 'bank' AND item_class IS NULL AND customer_class IS NULL
UNION ALL
SELECT 'checks', 'Checks in hand', 'checks_in_hand', account FROM account_map WHERE purpose = 'in_hand' AND item_class IS NULL AND customer_class IS NULL
UNION ALL
SELECT 'drawer', 'Cash drawer', 'drawer', account FROM account_map WHERE purpose = 'in_hand' AND item_class IS NULL AND customer_class IS NULL;
INSERT INTO payment_methods (code, name, position, place)
SELECT 'transfer', 'transfer', 1, 'bank' FROM money_places WHERE code = 'bank'
UNION ALL SELECT 'check', 'check', 2, 'checks' FROM money_places WHERE code = 'checks'
UNION ALL SELECT 'cash', 'cash', 3, 'drawer' FROM money_places WHERE code = 'drawer';
-- Containers were a way of paying once; receipts of them stay as they were posted.
INSERT INTO payment_methods (code, name, position, active)
SELECT 'containers', 'containers', 9, 0 FROM receipts WHERE method = 'containers' LIMIT 1;

-- Payments -----------------------------------------------------------------------------------

CREATE TABLE payments (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    direction TEXT NOT NULL DEFAULT 'in' CHECK (direction IN ('in', 'out')),
    number TEXT NOT NULL UNIQUE,
    sequence INTEGER NOT NULL UNIQUE,
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    method TEXT NOT NULL REFERENCES payment_methods (code),
    -- Where the money went as it came in; NULL for containers of older books.
    place TEXT REFERENCES money_places (code),
    -- Where it is: a state of its own, beside its being applied.
    whereabouts TEXT NOT NULL CHECK (whereabouts IN ('in_hand', 'at_bank', 'cleared', 'returned', 'none')),
    posting_date TEXT NOT NULL CHECK (posting_date = date(posting_date)),
    reference TEXT,
    currency TEXT NOT NULL CHECK (length(currency) = 3),
    rate_e9 INTEGER NOT NULL CHECK (rate_e9 > 0),
    amount_minor INTEGER NOT NULL CHECK (amount_minor > 0),
    amount_base_minor INTEGER NOT NULL,
    entry_id INTEGER NOT NULL REFERENCES entries (id),
    -- Typed in error, and taken back as a whole.
    reversed_on TEXT CHECK (reversed_on IS NULL OR (reversed_on = date(reversed_on) AND reversed_on >= posting_date)),
    reversal_reason TEXT,
    reversal_entry_id INTEGER REFERENCES entries (id),
    version INTEGER NOT NULL DEFAULT 1,
    CHECK ((reversed_on IS NULL) = (reversal_reason IS NULL) AND (reversed_on IS NULL) = (reversal_entry_id IS NULL))
) STRICT;
INSERT INTO payments (id, number, sequence, customer_id, method, place, whereabouts, posting_date, reference, currency, rate_e9,
                      amount_minor, amount_base_minor, entry_id, version)
SELECT id, number, sequence, customer_id, method, place,
       CASE method WHEN 'transfer' THEN 'at_bank' WHEN 'containers' THEN 'none' ELSE 'in_hand' END,
       posting_date, reference, currency, rate_e9, amount_minor, amount_base_minor, entry_id, version
FROM receipts LEFT JOIN payment_methods ON code = method ORDER BY id;
CREATE INDEX payments_by_customer ON payments (customer_id);
CREATE TRIGGER payments_keep BEFORE UPDATE OF direction, number, sequence, customer_id, method, place, posting_date, reference,
    currency, rate_e9, amount_minor, amount_base_minor, entry_id ON payments
BEGIN SELECT RAISE(ABORT, 'a posted receipt never changes'); END;
CREATE TRIGGER payments_reversed_once BEFORE UPDATE OF reversed_on, reversal_reason, reversal_entry_id ON payments
WHEN OLD.reversed_on IS NOT NULL
BEGIN SELECT RAISE(ABORT, 'a receipt is reversed once'); END;
CREATE TRIGGER payments_stay BEFORE DELETE ON payments
BEGIN SELECT RAISE(ABORT, 'a posted receipt is never deleted'); END;

-- Containers brought back ----------------------------------------------------------------------

CREATE TABLE container_returns (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    number TEXT NOT NULL UNIQUE,
    sequence INTEGER NOT NULL UNIQUE,
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    item_id INTEGER NOT NULL REFERENCES items (id),
    quantity_e4 INTEGER NOT NULL CHECK (quantity_e4 > 0),
    posting_date TEXT NOT NULL CHECK (posting_date = date(posting_date)),
    -- What had been charged for them, in base currency.
    amount_minor INTEGER NOT NULL CHECK (amount_minor > 0),
    entry_id INTEGER NOT NULL REFERENCES entries (id)
) STRICT;
CREATE TRIGGER container_returns_keep BEFORE UPDATE ON container_returns
BEGIN SELECT RAISE(ABORT, 'a container return never changes'); END;
CREATE TRIGGER container_returns_stay BEFORE DELETE ON container_returns
BEGIN SELECT RAISE(ABORT, 'a container return is never deleted'); END;
INSERT INTO number_ranges (kind, prefix, first, next) SELECT 'container_return', 'CR-', 1, 1 FROM company;

CREATE TABLE container_moves_new (
    id INTEGER PRIMARY KEY,
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    item_id INTEGER NOT NULL REFERENCES items (id),
    posting_date TEXT NOT NULL CHECK (posting_date = date(posting_date)),
    -- Positive: sent; negative: brought back. Amounts in base currency.
    quantity_e4 INTEGER NOT NULL CHECK (quantity_e4 <> 0),
    amount_minor INTEGER NOT NULL,
    invoice_id INTEGER REFERENCES invoices (id),
    container_return_id INTEGER REFERENCES container_returns (id),
    -- Containers were a way of paying once.
    payment_id INTEGER REFERENCES payments (id),
    CHECK ((invoice_id IS NOT NULL) + (container_return_id IS NOT NULL) + (payment_id IS NOT NULL) = 1),
    CHECK (quantity_e4 < 0 OR invoice_id IS NOT NULL)
) STRICT;
INSERT INTO container_moves_new (id, customer_id, item_id, posting_date, quantity_e4, amount_minor, invoice_id, payment_id)
SELECT id, customer_id, item_id, posting_date, quantity_e4, amount_minor, invoice_id, receipt_id FROM container_moves;
DROP TRIGGER container_moves_stay;
DROP TABLE container_moves;
ALTER TABLE container_moves_new RENAME TO container_moves;
CREATE INDEX container_moves_by_customer ON container_moves (customer_id, item_id);
CREATE TRIGGER container_moves_keep BEFORE UPDATE ON container_moves
BEGIN SELECT RAISE(ABORT, 'a container move never changes'); END;
CREATE TRIGGER container_moves_stay BEFORE DELETE ON container_moves
BEGIN SELECT RAISE(ABORT, 'a container move is never deleted'); END;

-- Open items ----------------------------------------------------------------------------------

CREATE TABLE open_items (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    -- The control account its balance stands on: what it is for, and its number. No number where it
    -- never had a balance.
    purpose TEXT NOT NULL CHECK (purpose IN ('receivable', 'unapplied', 'deposit_liability', 'prepayment_liability')),
    account TEXT REFERENCES accounts (number),
    side TEXT NOT NULL CHECK (side IN ('owed_to_us', 'owed_by_us')),
    -- The document it came from.
    kind TEXT NOT NULL CHECK (kind IN ('invoice', 'credit_memo', 'receipt', 'container_return', 'opening')),
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
    CHECK (side = 'owed_by_us' OR purpose IN ('receivable', 'unapplied')),
    UNIQUE (kind, document_id, purpose, side)
) STRICT;
CREATE INDEX open_items_open ON open_items (customer_id, next_due_date) WHERE open_minor > 0;
CREATE TRIGGER open_items_keep BEFORE UPDATE OF customer_id, purpose, account, side, kind, document_id, number, currency,
    amount_minor, amount_base_minor, posting_date, document_date, terms ON open_items
BEGIN SELECT RAISE(ABORT, 'an open item never changes; something is applied to it'); END;
CREATE TRIGGER open_items_stay BEFORE DELETE ON open_items
BEGIN SELECT RAISE(ABORT, 'an open item is never deleted'); END;

INSERT INTO open_items (customer_id, purpose, account, side, kind, document_id, number, currency, amount_minor, amount_base_minor,
                        posting_date, document_date, terms, open_minor, open_base_minor, next_due_date)
SELECT customer_id, 'receivable', (SELECT account FROM entry_lines WHERE entry_lines.entry_id = invoices.entry_id AND purpose = 'receivable' LIMIT 1),
       'owed_to_us', 'invoice', id, number, currency, total_minor, total_base_minor, posting_date, document_date, terms,
       open_minor, open_base_minor, coalesce(next_due_date, due_date)
FROM invoices WHERE state = 'posted' ORDER BY sequence;
INSERT INTO open_items (customer_id, purpose, account, side, kind, document_id, number, currency, amount_minor, amount_base_minor,
                        posting_date, document_date, open_minor, open_base_minor, next_due_date)
SELECT customer_id, 'unapplied',
       coalesce((SELECT account FROM entry_lines WHERE entry_lines.entry_id = receipts.entry_id AND purpose = 'unapplied' LIMIT 1),
                (SELECT account FROM account_map WHERE purpose = 'unapplied' AND item_class IS NULL AND customer_class IS NULL)),
       'owed_by_us', 'receipt', id, number, currency, amount_minor, amount_base_minor, posting_date, posting_date,
       unapplied_minor, unapplied_base_minor, posting_date
FROM receipts ORDER BY id;
INSERT INTO open_items (customer_id, purpose, account, side, kind, document_id, number, currency, amount_minor, amount_base_minor,
                        posting_date, document_date, open_minor, open_base_minor, next_due_date)
SELECT credit_memos.customer_id, 'receivable', open_items.account, 'owed_by_us', 'credit_memo', credit_memos.id, credit_memos.number,
       invoices.currency, credit_memos.total_minor, credit_memos.total_base_minor, credit_memos.posting_date, credit_memos.document_date,
       0, 0, credit_memos.document_date
FROM credit_memos JOIN invoices ON invoices.id = invoice_id
JOIN open_items ON open_items.kind = 'invoice' AND open_items.document_id = invoices.id ORDER BY credit_memos.id;

-- Applications --------------------------------------------------------------------------------

CREATE TABLE applications_new (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    application_date TEXT NOT NULL CHECK (application_date = date(application_date)),
    debit_item INTEGER NOT NULL REFERENCES open_items (id),
    credit_item INTEGER NOT NULL REFERENCES open_items (id),
    -- On the side that is owed to us, and on the side that is owed by us: in each item's currency, and
    -- what it released in base currency. A reversal has the signs turned.
    debit_minor INTEGER NOT NULL CHECK (debit_minor <> 0),
    debit_base_minor INTEGER NOT NULL,
    credit_minor INTEGER NOT NULL CHECK (credit_minor <> 0),
    credit_base_minor INTEGER NOT NULL,
    -- What of the debit was settled without a credit: a discount earned, a difference given up.
    discount_minor INTEGER NOT NULL DEFAULT 0,
    written_off_minor INTEGER NOT NULL DEFAULT 0,
    -- NULL where the two stand on one account at one base amount: nothing to write.
    entry_id INTEGER REFERENCES entries (id),
    reverses_id INTEGER UNIQUE REFERENCES applications (id),
    CHECK ((reverses_id IS NULL) = (debit_minor > 0)),
    CHECK ((debit_minor > 0) = (credit_minor > 0)),
    CHECK (debit_item <> credit_item)
) STRICT;
INSERT INTO applications_new (id, application_date, debit_item, credit_item, debit_minor, debit_base_minor, credit_minor,
                              credit_base_minor, entry_id)
SELECT applications.id, application_date, debit.id, credit.id, applications.amount_minor, receivable_base_minor,
       applications.amount_minor, money_base_minor, entry_id
FROM applications
JOIN open_items AS debit ON debit.kind = 'invoice' AND debit.document_id = invoice_id
JOIN open_items AS credit ON credit.kind = 'receipt' AND credit.document_id = receipt_id ORDER BY applications.id;
INSERT INTO applications_new (application_date, debit_item, credit_item, debit_minor, debit_base_minor, credit_minor,
                              credit_base_minor, entry_id, reverses_id)
SELECT unapplications.application_date, debit_item, credit_item, -debit_minor, -debit_base_minor, -credit_minor, -credit_base_minor,
       unapplications.entry_id, application_id
FROM unapplications JOIN applications_new ON applications_new.id = application_id ORDER BY application_id;
-- A credit memo over a whole invoice stands against it.
INSERT INTO applications_new (application_date, debit_item, credit_item, debit_minor, debit_base_minor, credit_minor, credit_base_minor)
SELECT credit_memos.posting_date, debit.id, credit.id, credit_memos.total_minor, credit_memos.total_base_minor,
       credit_memos.total_minor, credit_memos.total_base_minor
FROM credit_memos
JOIN open_items AS debit ON debit.kind = 'invoice' AND debit.document_id = invoice_id
JOIN open_items AS credit ON credit.kind = 'credit_memo' AND credit.document_id = credit_memos.id
WHERE credit_memos.total_minor > 0 ORDER BY credit_memos.id;
DROP TABLE unapplications;
DROP TABLE applications;
ALTER TABLE applications_new RENAME TO applications;
DROP TABLE receipts;
CREATE INDEX applications_by_debit ON applications (debit_item);
CREATE INDEX applications_by_credit ON applications (credit_item);
CREATE TRIGGER applications_keep BEFORE UPDATE ON applications
BEGIN SELECT RAISE(ABORT, 'an application never changes; it is reversed'); END;
CREATE TRIGGER applications_stay BEFORE DELETE ON applications
BEGIN SELECT RAISE(ABORT, 'an application is never deleted; it is reversed'); END;
CREATE TRIGGER applications_mirror BEFORE INSERT ON applications
WHEN NEW.reverses_id IS NOT NULL AND NOT EXISTS (
    SELECT 1 FROM applications AS first WHERE first.id = NEW.reverses_id AND first.debit_item = NEW.debit_item
      AND first.credit_item = NEW.credit_item AND first.debit_minor = -NEW.debit_minor AND first.credit_minor = -NEW.credit_minor
      AND first.debit_base_minor = -NEW.debit_base_minor AND first.credit_base_minor = -NEW.credit_base_minor
      AND first.application_date <= NEW.application_date)
BEGIN SELECT RAISE(ABORT, 'a reversal turns the very application round'); END;

-- Invoices: what is open stands on their open item ------------------------------------------------

CREATE TABLE invoices_new (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    -- Given at posting, in order of posting.
    number TEXT UNIQUE,
    sequence INTEGER UNIQUE,
    state TEXT NOT NULL CHECK (state IN ('draft', 'posted')),
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    -- On a draft: as typed, NULL for the business date.
    document_date TEXT CHECK (document_date = date(document_date)),
    posting_date TEXT CHECK (posting_date = date(posting_date)),
    tax_date TEXT CHECK (tax_date = date(tax_date)),
    due_date TEXT CHECK (due_date = date(due_date)),
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
    version INTEGER NOT NULL DEFAULT 1,
    cost_entry_id INTEGER REFERENCES entries (id),
    gross_priced INTEGER NOT NULL DEFAULT 0 CHECK (gross_priced IN (0, 1)),
    -- At which step its tax was rounded, whatever the setting says later.
    tax_computed TEXT CHECK (tax_computed IN ('per_document', 'per_line')),
    -- Before the discount over the document.
    lines_minor INTEGER,
    discount_e6 INTEGER CHECK (discount_e6 IS NULL OR discount_e6 BETWEEN 0 AND 1000000),
    discount_minor INTEGER CHECK (discount_minor IS NULL OR discount_minor >= 0),
    discount_reason TEXT,
    discount_allowed_minor INTEGER,
    text_above TEXT,
    text_below TEXT,
    -- Why it came to something else than its orders promised.
    differences TEXT NOT NULL DEFAULT '[]' CHECK (json_valid(differences)),
    cancelled_by INTEGER REFERENCES credit_memos (id),
    -- The cancelled invoice it bills anew.
    replaces_id INTEGER REFERENCES invoices (id),
    run_id INTEGER REFERENCES billing_runs (id),
    left_out INTEGER NOT NULL DEFAULT 0 CHECK (left_out IN (0, 1)),
    -- The figures that were seen when the run was posted, and why it was not posted then.
    seen TEXT,
    held TEXT,
    CHECK (state = 'draft' OR (
        bill_to_name IS NOT NULL AND bill_to_address IS NOT NULL AND tax_computed IS NOT NULL AND
        number IS NOT NULL AND sequence IS NOT NULL AND document_date IS NOT NULL AND posting_date IS NOT NULL
        AND tax_date IS NOT NULL AND due_date IS NOT NULL AND terms IS NOT NULL AND rate_e9 IS NOT NULL
        AND net_minor IS NOT NULL AND tax_minor IS NOT NULL AND total_minor = net_minor + tax_minor
        AND total_base_minor IS NOT NULL))
) STRICT;
INSERT INTO invoices_new (id, number, sequence, state, customer_id, document_date, posting_date, tax_date, due_date, terms, currency,
    rate_e9, net_minor, tax_minor, total_minor, total_base_minor, bill_to_name, bill_to_address, bill_to_tax_id, entry_id, version,
    cost_entry_id, gross_priced, tax_computed, lines_minor, discount_e6, discount_minor, discount_reason, discount_allowed_minor,
    text_above, text_below, differences, cancelled_by, replaces_id, run_id, left_out, seen, held)
SELECT id, number, sequence, state, customer_id, document_date, posting_date, tax_date, due_date, terms, currency,
    rate_e9, net_minor, tax_minor, total_minor, total_base_minor, bill_to_name, bill_to_address, bill_to_tax_id, entry_id, version,
    cost_entry_id, gross_priced,
    -- As its figures say: where the tax of a code is not its base times its rate, it was rounded line by line.
    CASE WHEN state = 'draft' THEN NULL WHEN gross_priced = 0 AND EXISTS (
        SELECT 1 FROM invoice_taxes WHERE invoice_id = invoices.id
          AND invoice_taxes.tax_minor <> (base_minor * rate_e6 * 2 + 1000000 * (CASE WHEN base_minor < 0 THEN -1 ELSE 1 END)) / 2000000)
    THEN 'per_line' ELSE 'per_document' END,
    lines_minor, discount_e6, discount_minor, discount_reason, discount_allowed_minor,
    text_above, text_below, differences, cancelled_by, replaces_id, run_id, left_out, seen, held
FROM invoices ORDER BY id;
DROP TRIGGER invoices_stay;
DROP TABLE invoices;
ALTER TABLE invoices_new RENAME TO invoices;
CREATE INDEX invoices_by_customer ON invoices (customer_id, state);
CREATE INDEX invoices_by_document_date ON invoices (document_date) WHERE state = 'posted';
CREATE INDEX invoices_by_run ON invoices (run_id, id) WHERE run_id IS NOT NULL;
CREATE INDEX invoices_drafts ON invoices (id) WHERE state = 'draft';
CREATE TRIGGER invoices_keep BEFORE UPDATE OF number, sequence, state, customer_id, document_date, posting_date, tax_date,
    due_date, terms, currency, rate_e9, net_minor, tax_minor, total_minor, total_base_minor, bill_to_name,
    bill_to_address, bill_to_tax_id, entry_id, gross_priced, tax_computed, lines_minor, discount_e6, discount_minor, discount_reason,
    text_above, text_below, differences, replaces_id, run_id ON invoices
WHEN OLD.state = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted invoice never changes'); END;
CREATE TRIGGER invoices_cancelled_once BEFORE UPDATE OF cancelled_by ON invoices WHEN OLD.cancelled_by IS NOT NULL
BEGIN SELECT RAISE(ABORT, 'an invoice is cancelled once'); END;
CREATE TRIGGER invoices_stay BEFORE DELETE ON invoices WHEN OLD.state = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted invoice is never deleted'); END;

-- The tax date of each line: the day it was delivered, or that of the document.
DROP TRIGGER invoice_lines_keep;
ALTER TABLE invoice_lines ADD COLUMN tax_date TEXT CHECK (tax_date IS NULL OR tax_date = date(tax_date));
UPDATE invoice_lines SET tax_date = (
    SELECT CASE (SELECT tax_date FROM company) WHEN 'document' THEN invoices.document_date ELSE coalesce(
        (SELECT shipments.posting_date FROM shipment_lines JOIN shipments ON shipments.id = shipment_id
         WHERE shipment_lines.id = shipment_line_id), invoices.document_date) END
    FROM invoices WHERE invoices.id = invoice_id AND invoices.state = 'posted');
CREATE TRIGGER invoice_lines_keep BEFORE UPDATE ON invoice_lines
WHEN (SELECT state FROM invoices WHERE id = OLD.invoice_id) = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted invoice never changes'); END;

-- Runs: an id is never given twice -----------------------------------------------------------------

CREATE TABLE billing_runs_new (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    name TEXT NOT NULL CHECK (length(name) > 0),
    made_on TEXT NOT NULL CHECK (made_on = date(made_on)),
    person TEXT NOT NULL,
    recipe_id INTEGER REFERENCES recipes (id),
    -- Open: being looked at. Posting: under way, or cut off. Posted: nothing left to post.
    state TEXT NOT NULL DEFAULT 'open' CHECK (state IN ('open', 'posting', 'posted')),
    -- Who posts it, as the record names them.
    poster TEXT CHECK (poster IS NULL OR json_valid(poster)),
    -- Shipments of customers who are billed when all has gone, not taken in.
    waiting INTEGER NOT NULL DEFAULT 0,
    version INTEGER NOT NULL DEFAULT 1
) STRICT;
INSERT INTO billing_runs_new SELECT * FROM billing_runs ORDER BY id;
DROP TABLE billing_runs;
ALTER TABLE billing_runs_new RENAME TO billing_runs;
-- Ids of drafts and runs that were deleted stand on the record: none of them comes again.
INSERT INTO sqlite_sequence (name, seq) SELECT 'invoices', 0 WHERE NOT EXISTS (SELECT 1 FROM sqlite_sequence WHERE name = 'invoices');
INSERT INTO sqlite_sequence (name, seq) SELECT 'billing_runs', 0 WHERE NOT EXISTS (SELECT 1 FROM sqlite_sequence WHERE name = 'billing_runs');
UPDATE sqlite_sequence SET seq = max(seq, coalesce((SELECT max(document_id) FROM record WHERE document_kind = 'invoice'), 0)) WHERE name = 'invoices';
UPDATE sqlite_sequence SET seq = max(seq, coalesce((SELECT max(document_id) FROM record WHERE document_kind = 'run'), 0)) WHERE name = 'billing_runs';

-- Ledger lines: own currency; tax with its rate, date and taxed amount in both currencies ------------

DROP TRIGGER entry_lines_keep;
ALTER TABLE entry_lines ADD COLUMN currency TEXT CHECK (length(currency) = 3);
ALTER TABLE entry_lines ADD COLUMN tax_document_base_minor INTEGER;
ALTER TABLE entry_lines ADD COLUMN tax_rate_e6 INTEGER;
ALTER TABLE entry_lines ADD COLUMN tax_date TEXT CHECK (tax_date IS NULL OR tax_date = date(tax_date));
UPDATE entry_lines SET currency = (SELECT currency FROM entries WHERE entries.id = entry_id);
CREATE TRIGGER entry_lines_keep BEFORE UPDATE ON entry_lines
BEGIN SELECT RAISE(ABORT, 'a journal entry never changes'); END;

-- Who wrote an entry, and when. NULL on entries of before it was kept: the record tells.
ALTER TABLE entries ADD COLUMN made_by TEXT;
ALTER TABLE entries ADD COLUMN made_at TEXT;

-- Entries from here on carry a tax line for every supply, where the tax is zero too, with rate, tax
-- date and taxed amount as its revenue lines carry it. What stood before keeps its figures.
CREATE TABLE ledger_since (
    what TEXT PRIMARY KEY,
    entry_id INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
INSERT INTO ledger_since SELECT 'taxed_supplies', coalesce(max(id), 0) + 1 FROM entries;

PRAGMA legacy_alter_table = OFF;
