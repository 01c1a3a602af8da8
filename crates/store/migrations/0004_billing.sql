-- Billing: lines that come from orders or are typed, discounts over a document, prices with tax,
-- credit memos over whole invoices, billing runs, documents on their way to customers.

-- CHECKs and NOT NULLs that grew looser: the way SQLite's documentation gives for changes that do
-- not touch what is stored (ALTER TABLE, section 7).
PRAGMA writable_schema = ON;
UPDATE sqlite_schema SET sql = replace(sql, 'shipment_line_id INTEGER NOT NULL REFERENCES shipment_lines (id)',
    'shipment_line_id INTEGER REFERENCES shipment_lines (id)') WHERE type = 'table' AND name = 'invoice_lines';
UPDATE sqlite_schema SET sql = replace(sql, 'CHECK ((quantity_e4 > 0) = (invoice_id IS NOT NULL))',
    'CHECK (quantity_e4 < 0 OR invoice_id IS NOT NULL)') WHERE type = 'table' AND name = 'container_moves';
PRAGMA writable_schema = RESET;

ALTER TABLE company ADD COLUMN tax_date TEXT NOT NULL DEFAULT 'delivery' CHECK (tax_date IN ('delivery', 'document'));
-- Whether a document date before that of the last invoice stops its posting, or only warns.
ALTER TABLE company ADD COLUMN dates_in_order INTEGER NOT NULL DEFAULT 0 CHECK (dates_in_order IN (0, 1));
-- What the stand-in mail service does with what it is given.
ALTER TABLE company ADD COLUMN mail_service TEXT NOT NULL DEFAULT 'takes' CHECK (mail_service IN ('takes', 'refuses', 'silent'));
ALTER TABLE company ADD COLUMN mail_from TEXT;

ALTER TABLE customers ADD COLUMN gross_priced INTEGER NOT NULL DEFAULT 0 CHECK (gross_priced IN (0, 1));
-- As it was when the order was entered.
ALTER TABLE orders ADD COLUMN gross_priced INTEGER NOT NULL DEFAULT 0 CHECK (gross_priced IN (0, 1));
-- The line's amount as priced: its net, or with tax where prices carry it.
ALTER TABLE order_lines ADD COLUMN amount_minor INTEGER NOT NULL DEFAULT 0;
UPDATE order_lines SET amount_minor = net_minor;
-- Work and charges that stand on a draft without having shipped.
ALTER TABLE order_lines ADD COLUMN drafted_e4 INTEGER NOT NULL DEFAULT 0 CHECK (drafted_e4 >= 0);
CREATE INDEX order_lines_unshipped ON order_lines (order_id) WHERE shipped_e4 + drafted_e4 < ordered_e4 - cancelled_e4;

-- Net of what is unbilled, in the order's currency. NULL: to be worked out at the end of the change.
ALTER TABLE shipment_lines ADD COLUMN unbilled_minor INTEGER;
CREATE INDEX shipment_lines_to_value ON shipment_lines (id) WHERE unbilled_minor IS NULL AND unbilled_e4 > 0;
DROP INDEX shipment_lines_unbilled;
CREATE INDEX shipment_lines_unbilled ON shipment_lines (shipment_id, unbilled_minor) WHERE unbilled_e4 > 0;

-- Credit memos over a whole invoice ----------------------------------------------------------

CREATE TABLE credit_memos (
    id INTEGER PRIMARY KEY,
    number TEXT NOT NULL UNIQUE,
    sequence INTEGER NOT NULL UNIQUE,
    invoice_id INTEGER NOT NULL UNIQUE REFERENCES invoices (id),
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    document_date TEXT NOT NULL CHECK (document_date = date(document_date)),
    posting_date TEXT NOT NULL CHECK (posting_date = date(posting_date)),
    reason TEXT NOT NULL CHECK (length(reason) > 0),
    total_minor INTEGER NOT NULL,
    total_base_minor INTEGER NOT NULL,
    -- What it settled of the invoice, the rest having been paid and unapplied.
    settled_minor INTEGER NOT NULL,
    tape TEXT NOT NULL CHECK (json_valid(tape)),
    entry_id INTEGER REFERENCES entries (id),
    cost_entry_id INTEGER REFERENCES entries (id),
    unapplied_entry_id INTEGER REFERENCES entries (id)
) STRICT;
CREATE INDEX credit_memos_by_customer ON credit_memos (customer_id);
CREATE TRIGGER credit_memos_keep BEFORE UPDATE ON credit_memos
BEGIN SELECT RAISE(ABORT, 'a posted credit memo never changes'); END;
CREATE TRIGGER credit_memos_stay BEFORE DELETE ON credit_memos
BEGIN SELECT RAISE(ABORT, 'a posted credit memo is never deleted'); END;

-- Applications taken back.
CREATE TABLE unapplications (
    application_id INTEGER PRIMARY KEY REFERENCES applications (id),
    application_date TEXT NOT NULL CHECK (application_date = date(application_date)),
    entry_id INTEGER NOT NULL REFERENCES entries (id)
) STRICT;
CREATE TRIGGER unapplications_keep BEFORE UPDATE ON unapplications
BEGIN SELECT RAISE(ABORT, 'taking an application back never changes'); END;
CREATE TRIGGER unapplications_stay BEFORE DELETE ON unapplications
BEGIN SELECT RAISE(ABORT, 'taking an application back is never deleted'); END;

INSERT INTO number_ranges (kind, prefix, first, next) SELECT 'credit_memo', 'CM-', 1, 1 FROM company;

-- Billing runs ------------------------------------------------------------------------------

-- What a run is made from, kept to be repeated.
CREATE TABLE recipes (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE CHECK (length(name) > 0),
    -- What of the unbilled it takes, and how it puts it together.
    form TEXT NOT NULL CHECK (json_valid(form)),
    -- The day of the week it is meant for, 1 for Monday.
    weekday INTEGER CHECK (weekday BETWEEN 1 AND 7),
    version INTEGER NOT NULL DEFAULT 1
) STRICT;

CREATE TABLE billing_runs (
    id INTEGER PRIMARY KEY,
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

-- Invoices ----------------------------------------------------------------------------------

DROP TRIGGER invoices_keep;
DROP TRIGGER invoice_lines_keep;
ALTER TABLE invoices ADD COLUMN gross_priced INTEGER NOT NULL DEFAULT 0 CHECK (gross_priced IN (0, 1));
-- Before the discount over the document.
ALTER TABLE invoices ADD COLUMN lines_minor INTEGER;
UPDATE invoices SET lines_minor = net_minor;
ALTER TABLE invoices ADD COLUMN discount_e6 INTEGER CHECK (discount_e6 IS NULL OR discount_e6 BETWEEN 0 AND 1000000);
ALTER TABLE invoices ADD COLUMN discount_minor INTEGER CHECK (discount_minor IS NULL OR discount_minor >= 0);
ALTER TABLE invoices ADD COLUMN discount_reason TEXT;
ALTER TABLE invoices ADD COLUMN discount_allowed_minor INTEGER;
ALTER TABLE invoices ADD COLUMN text_above TEXT;
ALTER TABLE invoices ADD COLUMN text_below TEXT;
-- Why it came to something else than its orders promised.
ALTER TABLE invoices ADD COLUMN differences TEXT NOT NULL DEFAULT '[]' CHECK (json_valid(differences));
ALTER TABLE invoices ADD COLUMN cancelled_by INTEGER REFERENCES credit_memos (id);
-- The cancelled invoice it bills anew.
ALTER TABLE invoices ADD COLUMN replaces_id INTEGER REFERENCES invoices (id);
ALTER TABLE invoices ADD COLUMN run_id INTEGER REFERENCES billing_runs (id);
ALTER TABLE invoices ADD COLUMN left_out INTEGER NOT NULL DEFAULT 0 CHECK (left_out IN (0, 1));
-- The figures that were seen when the run was posted, and why it was not posted then.
ALTER TABLE invoices ADD COLUMN seen TEXT;
ALTER TABLE invoices ADD COLUMN held TEXT;
CREATE INDEX invoices_by_run ON invoices (run_id, id) WHERE run_id IS NOT NULL;
CREATE INDEX invoices_drafts ON invoices (id) WHERE state = 'draft';

ALTER TABLE invoice_lines ADD COLUMN order_line_id INTEGER REFERENCES order_lines (id);
ALTER TABLE invoice_lines ADD COLUMN item_id INTEGER REFERENCES items (id);
ALTER TABLE invoice_lines ADD COLUMN account TEXT REFERENCES accounts (number);
-- A line typed on the invoice, as typed.
ALTER TABLE invoice_lines ADD COLUMN typed TEXT CHECK (typed IS NULL OR json_valid(typed));
ALTER TABLE invoice_lines ADD COLUMN amount_minor INTEGER;
ALTER TABLE invoice_lines ADD COLUMN off_minor INTEGER NOT NULL DEFAULT 0;
ALTER TABLE invoice_lines ADD COLUMN order_tax_code TEXT;
ALTER TABLE invoice_lines ADD COLUMN tax_reason TEXT;
-- What of the cost of the shipment line followed this line.
ALTER TABLE invoice_lines ADD COLUMN cost_minor INTEGER NOT NULL DEFAULT 0;
UPDATE invoice_lines SET amount_minor = net_minor,
    order_line_id = (SELECT order_line_id FROM shipment_lines WHERE shipment_lines.id = shipment_line_id),
    item_id = (SELECT item_id FROM order_lines WHERE order_lines.id =
        (SELECT order_line_id FROM shipment_lines WHERE shipment_lines.id = shipment_line_id));
-- Cost that followed: by quantity, the last line of a shipment line takes what is left.
UPDATE invoice_lines SET cost_minor = coalesce((
    SELECT CASE WHEN invoice_lines.id = (SELECT max(other.id) FROM invoice_lines AS other JOIN invoices ON invoices.id = other.invoice_id
                                         WHERE other.shipment_line_id = shipment_lines.id AND invoices.state = 'posted')
                THEN cost_billed_minor - coalesce((SELECT sum(cost_billed_minor * other.quantity_e4 / shipment_lines.billed_e4)
                     FROM invoice_lines AS other JOIN invoices ON invoices.id = other.invoice_id
                     WHERE other.shipment_line_id = shipment_lines.id AND invoices.state = 'posted' AND other.id <> invoice_lines.id), 0)
                ELSE cost_billed_minor * invoice_lines.quantity_e4 / shipment_lines.billed_e4 END
    FROM shipment_lines WHERE shipment_lines.id = shipment_line_id AND cost_billed_minor <> 0), 0)
WHERE (SELECT state FROM invoices WHERE invoices.id = invoice_id) = 'posted';
CREATE INDEX invoice_lines_by_order_line ON invoice_lines (order_line_id) WHERE order_line_id IS NOT NULL;
CREATE UNIQUE INDEX invoice_lines_order_line_once ON invoice_lines (invoice_id, order_line_id)
    WHERE shipment_line_id IS NULL AND order_line_id IS NOT NULL;

CREATE TRIGGER invoices_keep BEFORE UPDATE OF number, sequence, state, customer_id, document_date, posting_date, tax_date,
    due_date, terms, currency, rate_e9, net_minor, tax_minor, total_minor, total_base_minor, bill_to_name,
    bill_to_address, bill_to_tax_id, entry_id, gross_priced, lines_minor, discount_e6, discount_minor, discount_reason,
    text_above, text_below, differences, replaces_id, run_id ON invoices
WHEN OLD.state = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted invoice never changes'); END;
CREATE TRIGGER invoices_cancelled_once BEFORE UPDATE OF cancelled_by ON invoices WHEN OLD.cancelled_by IS NOT NULL
BEGIN SELECT RAISE(ABORT, 'an invoice is cancelled once'); END;
CREATE TRIGGER invoice_lines_keep BEFORE UPDATE ON invoice_lines
WHEN (SELECT state FROM invoices WHERE id = OLD.invoice_id) = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted invoice never changes'); END;

-- Many entries and rows of the record are written at once: nothing is slipped in below where the
-- ledger and the record ended when the change began. ----------------------------------------

CREATE TABLE ledger_end (
    id INTEGER PRIMARY KEY CHECK (id = 1),
    entry_id INTEGER NOT NULL
) STRICT;
INSERT INTO ledger_end SELECT 1, coalesce(max(id), 0) FROM entries;
CREATE TRIGGER ledger_end_forward BEFORE UPDATE ON ledger_end WHEN NEW.entry_id < OLD.entry_id
BEGIN SELECT RAISE(ABORT, 'the ledger never goes back'); END;
CREATE TRIGGER ledger_end_stays BEFORE DELETE ON ledger_end
BEGIN SELECT RAISE(ABORT, 'the ledger never goes back'); END;
DROP TRIGGER entry_lines_closed;
CREATE TRIGGER entry_lines_closed BEFORE INSERT ON entry_lines
WHEN NEW.entry_id <= (SELECT entry_id FROM ledger_end)
BEGIN SELECT RAISE(ABORT, 'a journal entry never changes'); END;
DROP TRIGGER record_follows;
CREATE TRIGGER record_follows BEFORE INSERT ON record
WHEN NEW.sequence <> coalesce((SELECT max(sequence) FROM record), 0) + 1
BEGIN SELECT RAISE(ABORT, 'the record is written at its end only'); END;

-- Going out ---------------------------------------------------------------------------------

CREATE TABLE deliveries (
    id INTEGER PRIMARY KEY,
    -- An invoice or a credit memo.
    invoice_id INTEGER REFERENCES invoices (id),
    credit_memo_id INTEGER REFERENCES credit_memos (id),
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
    CHECK ((invoice_id IS NULL) <> (credit_memo_id IS NULL)),
    CHECK ((state = 'done') = (done_at IS NOT NULL)),
    CHECK ((state = 'failed') = (problem IS NOT NULL))
) STRICT;
CREATE INDEX deliveries_by_invoice ON deliveries (invoice_id) WHERE invoice_id IS NOT NULL;
CREATE INDEX deliveries_by_memo ON deliveries (credit_memo_id) WHERE credit_memo_id IS NOT NULL;
CREATE INDEX deliveries_open ON deliveries (id) WHERE state <> 'done';

-- The stand-in mailbox: what the mail service took, as it was given.
CREATE TABLE mailbox (
    id INTEGER PRIMARY KEY,
    delivery_id INTEGER NOT NULL REFERENCES deliveries (id),
    taken_at TEXT NOT NULL,
    recipient TEXT NOT NULL,
    subject TEXT NOT NULL,
    message TEXT NOT NULL
) STRICT;
CREATE INDEX mailbox_by_delivery ON mailbox (delivery_id);
CREATE TRIGGER mailbox_keeps BEFORE UPDATE ON mailbox
BEGIN SELECT RAISE(ABORT, 'a message that was sent never changes'); END;

CREATE TABLE mail_templates (
    kind TEXT PRIMARY KEY CHECK (kind IN ('invoice', 'credit_memo')),
    subject TEXT NOT NULL CHECK (length(subject) > 0),
    body TEXT NOT NULL CHECK (length(body) > 0),
    version INTEGER NOT NULL DEFAULT 1
) STRICT, WITHOUT ROWID;
INSERT INTO mail_templates (kind, subject, body) VALUES
('invoice', 'Invoice {number} from {company}', 'Dear {contact},

attached is our invoice {number} of {date} over {total}, due on {due}.

{orders}

Kind regards
{company}'),
('credit_memo', 'Credit memo {number} from {company}', 'Dear {contact},

attached is our credit memo {number} of {date} over {total}.

Kind regards
{company}');

-- Views of a list that someone kept.
CREATE TABLE saved_views (
    id INTEGER PRIMARY KEY,
    person_id INTEGER NOT NULL REFERENCES people (id),
    room TEXT NOT NULL,
    name TEXT NOT NULL CHECK (length(name) BETWEEN 1 AND 60),
    query TEXT NOT NULL,
    UNIQUE (person_id, room, name)
) STRICT;
