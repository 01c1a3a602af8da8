-- The books. Amounts are integers of minor units and say so; quantities count ten-thousandths
-- (_e4), prices and rates millionths (_e6), exchange rates thousand-millionths (_e9).
-- Counters such as billed_e4 are kept by the operations, guarded by CHECKs, and proved
-- against the documents by `glad-till verify`.

CREATE TABLE company (
    id INTEGER PRIMARY KEY CHECK (id = 1),
    name TEXT NOT NULL,
    base_currency TEXT NOT NULL CHECK (length(base_currency) = 3),
    -- NULL: the day on the wall. The demo stands still on one day.
    business_date TEXT CHECK (business_date IS NULL OR business_date = date(business_date)),
    tax_computed TEXT NOT NULL CHECK (tax_computed IN ('per_document', 'per_line'))
) STRICT;

CREATE TABLE number_ranges (
    kind TEXT PRIMARY KEY,
    prefix TEXT NOT NULL,
    first INTEGER NOT NULL CHECK (first > 0),
    next INTEGER NOT NULL CHECK (next >= first)
) STRICT, WITHOUT ROWID;

CREATE TABLE periods (
    first TEXT PRIMARY KEY CHECK (first = date(first)),
    last TEXT NOT NULL CHECK (last = date(last) AND last >= first),
    open INTEGER NOT NULL CHECK (open IN (0, 1))
) STRICT, WITHOUT ROWID;

CREATE TABLE accounts (
    number TEXT PRIMARY KEY CHECK (length(number) > 0),
    name TEXT NOT NULL,
    account_type TEXT NOT NULL CHECK (account_type IN ('asset', 'liability', 'equity', 'revenue', 'expense'))
) STRICT, WITHOUT ROWID;

CREATE TABLE account_map (
    id INTEGER PRIMARY KEY,
    purpose TEXT NOT NULL,
    item_class TEXT,
    customer_class TEXT,
    account TEXT NOT NULL REFERENCES accounts (number)
) STRICT;
CREATE UNIQUE INDEX account_map_once ON account_map (purpose, coalesce(item_class, ''), coalesce(customer_class, ''));

CREATE TABLE tax_codes (
    code TEXT PRIMARY KEY,
    name TEXT NOT NULL,
    category TEXT NOT NULL CHECK (category IN ('S', 'Z', 'E', 'AE', 'K', 'G', 'O'))
) STRICT, WITHOUT ROWID;

CREATE TABLE tax_rates (
    code TEXT NOT NULL REFERENCES tax_codes (code),
    valid_from TEXT NOT NULL CHECK (valid_from = date(valid_from)),
    rate_e6 INTEGER NOT NULL CHECK (rate_e6 BETWEEN 0 AND 1000000),
    PRIMARY KEY (code, valid_from)
) STRICT, WITHOUT ROWID;

CREATE TABLE exchange_rates (
    currency TEXT NOT NULL CHECK (length(currency) = 3),
    valid_from TEXT NOT NULL CHECK (valid_from = date(valid_from)),
    rate_e9 INTEGER NOT NULL CHECK (rate_e9 > 0),
    PRIMARY KEY (currency, valid_from)
) STRICT, WITHOUT ROWID;

CREATE TABLE customers (
    id INTEGER PRIMARY KEY,
    number TEXT NOT NULL UNIQUE,
    name TEXT NOT NULL CHECK (length(name) > 0),
    class TEXT,
    address TEXT NOT NULL,
    country TEXT NOT NULL CHECK (length(country) = 2),
    tax_id TEXT,
    currency TEXT NOT NULL CHECK (length(currency) = 3),
    terms TEXT NOT NULL CHECK (json_valid(terms)),
    -- NULL: no limit.
    credit_limit_minor INTEGER CHECK (credit_limit_minor >= 0),
    stop_reason TEXT,
    needs_order_number INTEGER NOT NULL DEFAULT 0 CHECK (needs_order_number IN (0, 1)),
    -- What the customer owes in base currency: the sum of its open invoices.
    owes_base_minor INTEGER NOT NULL DEFAULT 0,
    version INTEGER NOT NULL DEFAULT 1
) STRICT;
CREATE INDEX customers_by_name ON customers (name);

CREATE TABLE items (
    id INTEGER PRIMARY KEY,
    code TEXT NOT NULL UNIQUE,
    name TEXT NOT NULL,
    kind TEXT NOT NULL CHECK (kind IN ('goods', 'service', 'charge')),
    class TEXT NOT NULL,
    unit TEXT NOT NULL,
    list_price_e6 INTEGER NOT NULL CHECK (list_price_e6 >= 0),
    tax_code TEXT NOT NULL REFERENCES tax_codes (code)
) STRICT;

CREATE TABLE orders (
    id INTEGER PRIMARY KEY,
    number TEXT NOT NULL UNIQUE,
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    customer_order_number TEXT,
    order_date TEXT NOT NULL CHECK (order_date = date(order_date)),
    promised_date TEXT CHECK (promised_date IS NULL OR promised_date = date(promised_date)),
    currency TEXT NOT NULL CHECK (length(currency) = 3),
    terms TEXT NOT NULL CHECK (json_valid(terms)),
    confirmed INTEGER NOT NULL DEFAULT 0 CHECK (confirmed IN (0, 1)),
    state TEXT NOT NULL DEFAULT 'draft' CHECK (state IN ('draft', 'open', 'filled', 'closed')),
    version INTEGER NOT NULL DEFAULT 1
) STRICT;
CREATE INDEX orders_by_customer ON orders (customer_id);
CREATE INDEX orders_by_state ON orders (state, id);

CREATE TABLE order_lines (
    id INTEGER PRIMARY KEY,
    order_id INTEGER NOT NULL REFERENCES orders (id),
    position INTEGER NOT NULL,
    item_id INTEGER NOT NULL REFERENCES items (id),
    description TEXT NOT NULL,
    ordered_e4 INTEGER NOT NULL CHECK (ordered_e4 > 0),
    cancelled_e4 INTEGER NOT NULL DEFAULT 0 CHECK (cancelled_e4 BETWEEN 0 AND ordered_e4),
    shipped_e4 INTEGER NOT NULL DEFAULT 0 CHECK (shipped_e4 BETWEEN 0 AND ordered_e4 - cancelled_e4),
    billed_e4 INTEGER NOT NULL DEFAULT 0 CHECK (billed_e4 BETWEEN 0 AND shipped_e4),
    unit_price_e6 INTEGER NOT NULL CHECK (unit_price_e6 >= 0),
    list_price_e6 INTEGER NOT NULL CHECK (list_price_e6 >= 0),
    discount_e6 INTEGER NOT NULL DEFAULT 0 CHECK (discount_e6 BETWEEN 0 AND 1000000),
    discount_reason TEXT,
    tax_code TEXT NOT NULL REFERENCES tax_codes (code),
    net_minor INTEGER NOT NULL CHECK (net_minor >= 0),
    UNIQUE (order_id, position)
) STRICT;

CREATE TABLE stock_layers (
    id INTEGER PRIMARY KEY,
    item_id INTEGER NOT NULL REFERENCES items (id),
    posting_date TEXT NOT NULL CHECK (posting_date = date(posting_date)),
    quantity_e4 INTEGER NOT NULL CHECK (quantity_e4 > 0),
    cost_minor INTEGER NOT NULL CHECK (cost_minor >= 0),
    remaining_e4 INTEGER NOT NULL CHECK (remaining_e4 BETWEEN 0 AND quantity_e4),
    remaining_cost_minor INTEGER NOT NULL CHECK (remaining_cost_minor BETWEEN 0 AND cost_minor),
    entry_id INTEGER REFERENCES entries (id),
    CHECK (remaining_e4 > 0 OR remaining_cost_minor = 0)
) STRICT;
CREATE INDEX stock_layers_left ON stock_layers (item_id, id) WHERE remaining_e4 > 0;

CREATE TABLE shipments (
    id INTEGER PRIMARY KEY,
    number TEXT NOT NULL UNIQUE,
    order_id INTEGER NOT NULL REFERENCES orders (id),
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    state TEXT NOT NULL CHECK (state IN ('packed', 'posted')),
    packed_date TEXT NOT NULL CHECK (packed_date = date(packed_date)),
    posting_date TEXT CHECK (posting_date = date(posting_date)),
    carrier TEXT,
    consignment_number TEXT,
    entry_id INTEGER REFERENCES entries (id),
    version INTEGER NOT NULL DEFAULT 1,
    CHECK ((state = 'posted') = (posting_date IS NOT NULL))
) STRICT;
CREATE INDEX shipments_by_order ON shipments (order_id);
CREATE INDEX shipments_by_state ON shipments (state, id);

CREATE TABLE shipment_lines (
    id INTEGER PRIMARY KEY,
    shipment_id INTEGER NOT NULL REFERENCES shipments (id),
    position INTEGER NOT NULL,
    order_line_id INTEGER NOT NULL REFERENCES order_lines (id),
    quantity_e4 INTEGER NOT NULL CHECK (quantity_e4 > 0),
    cost_minor INTEGER NOT NULL DEFAULT 0 CHECK (cost_minor >= 0),
    drafted_e4 INTEGER NOT NULL DEFAULT 0 CHECK (drafted_e4 >= 0),
    billed_e4 INTEGER NOT NULL DEFAULT 0 CHECK (billed_e4 >= 0),
    -- Shipped, posted, and on no invoice yet: 0 while the shipment is not posted.
    unbilled_e4 INTEGER NOT NULL DEFAULT 0 CHECK (unbilled_e4 >= 0),
    UNIQUE (shipment_id, position),
    UNIQUE (shipment_id, order_line_id),
    CHECK (billed_e4 + drafted_e4 + unbilled_e4 <= quantity_e4)
) STRICT;
CREATE INDEX shipment_lines_unbilled ON shipment_lines (shipment_id) WHERE unbilled_e4 > 0;
CREATE INDEX shipment_lines_by_order_line ON shipment_lines (order_line_id);

CREATE TABLE stock_issues (
    shipment_line_id INTEGER NOT NULL REFERENCES shipment_lines (id),
    layer_id INTEGER NOT NULL REFERENCES stock_layers (id),
    quantity_e4 INTEGER NOT NULL CHECK (quantity_e4 > 0),
    cost_minor INTEGER NOT NULL CHECK (cost_minor >= 0),
    PRIMARY KEY (shipment_line_id, layer_id)
) STRICT, WITHOUT ROWID;

CREATE TABLE invoices (
    id INTEGER PRIMARY KEY,
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
    open_minor INTEGER CHECK (open_minor BETWEEN 0 AND total_minor),
    open_base_minor INTEGER,
    -- As printed: what the customer is called later changes nothing here.
    bill_to_name TEXT,
    bill_to_address TEXT,
    bill_to_tax_id TEXT,
    entry_id INTEGER REFERENCES entries (id),
    version INTEGER NOT NULL DEFAULT 1,
    CHECK (state = 'draft' OR (
        bill_to_name IS NOT NULL AND bill_to_address IS NOT NULL AND
        number IS NOT NULL AND sequence IS NOT NULL AND document_date IS NOT NULL AND posting_date IS NOT NULL
        AND tax_date IS NOT NULL AND due_date IS NOT NULL AND terms IS NOT NULL AND rate_e9 IS NOT NULL
        AND net_minor IS NOT NULL AND tax_minor IS NOT NULL AND total_minor = net_minor + tax_minor
        AND total_base_minor IS NOT NULL AND open_minor IS NOT NULL AND open_base_minor IS NOT NULL
        AND (open_minor > 0 OR open_base_minor = 0)))
) STRICT;
CREATE INDEX invoices_by_customer ON invoices (customer_id, state);
CREATE INDEX invoices_open ON invoices (customer_id, due_date) WHERE open_minor > 0;
CREATE INDEX invoices_by_document_date ON invoices (document_date) WHERE state = 'posted';

CREATE TABLE invoice_lines (
    id INTEGER PRIMARY KEY,
    invoice_id INTEGER NOT NULL REFERENCES invoices (id),
    position INTEGER NOT NULL,
    shipment_line_id INTEGER NOT NULL REFERENCES shipment_lines (id),
    quantity_e4 INTEGER NOT NULL CHECK (quantity_e4 > 0),
    -- The rest is filled in when the invoice is posted.
    ordered_e4 INTEGER,
    billed_before_e4 INTEGER,
    still_to_come_e4 INTEGER,
    code TEXT,
    description TEXT,
    unit TEXT,
    unit_price_e6 INTEGER,
    list_price_e6 INTEGER,
    discount_e6 INTEGER,
    discount_reason TEXT,
    full_minor INTEGER,
    net_minor INTEGER,
    tax_code TEXT REFERENCES tax_codes (code),
    tax_category TEXT,
    tax_rate_e6 INTEGER,
    UNIQUE (invoice_id, position),
    UNIQUE (invoice_id, shipment_line_id)
) STRICT;
CREATE INDEX invoice_lines_by_shipment_line ON invoice_lines (shipment_line_id);

CREATE TABLE invoice_taxes (
    invoice_id INTEGER NOT NULL REFERENCES invoices (id),
    position INTEGER NOT NULL,
    tax_code TEXT NOT NULL REFERENCES tax_codes (code),
    category TEXT NOT NULL,
    rate_e6 INTEGER NOT NULL,
    base_minor INTEGER NOT NULL,
    tax_minor INTEGER NOT NULL,
    PRIMARY KEY (invoice_id, position)
) STRICT, WITHOUT ROWID;

CREATE TABLE invoice_orders (
    invoice_id INTEGER NOT NULL REFERENCES invoices (id),
    order_id INTEGER NOT NULL REFERENCES orders (id),
    position INTEGER NOT NULL,
    gross_minor INTEGER NOT NULL,
    -- The number the customer had given the order when it was billed.
    customer_order_number TEXT,
    PRIMARY KEY (invoice_id, order_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX invoice_orders_by_order ON invoice_orders (order_id);

CREATE TABLE receipts (
    id INTEGER PRIMARY KEY,
    number TEXT NOT NULL UNIQUE,
    sequence INTEGER NOT NULL UNIQUE,
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    method TEXT NOT NULL CHECK (method IN ('check', 'transfer', 'cash')),
    posting_date TEXT NOT NULL CHECK (posting_date = date(posting_date)),
    reference TEXT,
    currency TEXT NOT NULL CHECK (length(currency) = 3),
    rate_e9 INTEGER NOT NULL CHECK (rate_e9 > 0),
    amount_minor INTEGER NOT NULL CHECK (amount_minor > 0),
    amount_base_minor INTEGER NOT NULL,
    unapplied_minor INTEGER NOT NULL CHECK (unapplied_minor BETWEEN 0 AND amount_minor),
    unapplied_base_minor INTEGER NOT NULL,
    entry_id INTEGER NOT NULL REFERENCES entries (id),
    version INTEGER NOT NULL DEFAULT 1,
    CHECK (unapplied_minor > 0 OR unapplied_base_minor = 0)
) STRICT;
CREATE INDEX receipts_by_customer ON receipts (customer_id);
CREATE INDEX receipts_unapplied ON receipts (id) WHERE unapplied_minor > 0;

CREATE TABLE applications (
    id INTEGER PRIMARY KEY,
    receipt_id INTEGER NOT NULL REFERENCES receipts (id),
    invoice_id INTEGER NOT NULL REFERENCES invoices (id),
    application_date TEXT NOT NULL CHECK (application_date = date(application_date)),
    amount_minor INTEGER NOT NULL CHECK (amount_minor > 0),
    receivable_base_minor INTEGER NOT NULL,
    money_base_minor INTEGER NOT NULL,
    entry_id INTEGER NOT NULL REFERENCES entries (id)
) STRICT;
CREATE INDEX applications_by_invoice ON applications (invoice_id);
CREATE INDEX applications_by_receipt ON applications (receipt_id);

CREATE TABLE entries (
    id INTEGER PRIMARY KEY,
    number INTEGER NOT NULL UNIQUE CHECK (number > 0),
    posting_date TEXT NOT NULL CHECK (posting_date = date(posting_date)),
    text TEXT NOT NULL,
    source_kind TEXT NOT NULL,
    source_id INTEGER NOT NULL,
    source_number TEXT NOT NULL,
    currency TEXT NOT NULL CHECK (length(currency) = 3),
    reverses_id INTEGER REFERENCES entries (id)
) STRICT;
CREATE INDEX entries_by_date ON entries (posting_date, number);
CREATE INDEX entries_by_source ON entries (source_kind, source_id);

CREATE TABLE entry_lines (
    entry_id INTEGER NOT NULL REFERENCES entries (id),
    position INTEGER NOT NULL,
    account TEXT NOT NULL REFERENCES accounts (number),
    purpose TEXT NOT NULL,
    -- Debit positive, credit negative, in base currency and in the currency of the entry.
    base_minor INTEGER NOT NULL,
    document_minor INTEGER NOT NULL,
    customer_id INTEGER REFERENCES customers (id),
    tax_code TEXT REFERENCES tax_codes (code),
    tax_base_minor INTEGER,
    PRIMARY KEY (entry_id, position),
    CHECK ((tax_code IS NULL) = (tax_base_minor IS NULL))
) STRICT, WITHOUT ROWID;
CREATE INDEX entry_lines_by_account ON entry_lines (account, entry_id);
CREATE INDEX entry_lines_by_customer ON entry_lines (customer_id, entry_id) WHERE customer_id IS NOT NULL;

-- Requests that changed something, so that the same one sent twice is done once.
CREATE TABLE requests (
    key TEXT PRIMARY KEY,
    fingerprint TEXT NOT NULL,
    answer TEXT NOT NULL,
    made_at TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now'))
) STRICT, WITHOUT ROWID;

-- What is posted never changes -----------------------------------------------------------

CREATE TRIGGER entries_keep BEFORE UPDATE ON entries
BEGIN SELECT RAISE(ABORT, 'a journal entry never changes'); END;
CREATE TRIGGER entries_stay BEFORE DELETE ON entries
BEGIN SELECT RAISE(ABORT, 'a journal entry is never deleted'); END;
CREATE TRIGGER entry_lines_keep BEFORE UPDATE ON entry_lines
BEGIN SELECT RAISE(ABORT, 'a journal entry never changes'); END;
CREATE TRIGGER entry_lines_stay BEFORE DELETE ON entry_lines
BEGIN SELECT RAISE(ABORT, 'a journal entry is never deleted'); END;

-- A number is given and its lines follow at once; later nothing can be slipped in.
CREATE TRIGGER entry_lines_closed BEFORE INSERT ON entry_lines
WHEN NEW.entry_id <> (SELECT max(id) FROM entries)
BEGIN SELECT RAISE(ABORT, 'a journal entry never changes'); END;

CREATE TRIGGER shipments_keep BEFORE UPDATE OF number, order_id, customer_id, state, packed_date, posting_date, entry_id ON shipments
WHEN OLD.state = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted shipment never changes'); END;
CREATE TRIGGER shipments_stay BEFORE DELETE ON shipments WHEN OLD.state = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted shipment is never deleted'); END;
CREATE TRIGGER shipment_lines_keep BEFORE UPDATE OF shipment_id, position, order_line_id, quantity_e4, cost_minor ON shipment_lines
WHEN (SELECT state FROM shipments WHERE id = OLD.shipment_id) = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted shipment never changes'); END;
CREATE TRIGGER shipment_lines_stay BEFORE DELETE ON shipment_lines
WHEN (SELECT state FROM shipments WHERE id = OLD.shipment_id) = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted shipment is never deleted'); END;
CREATE TRIGGER shipment_lines_closed BEFORE INSERT ON shipment_lines
WHEN (SELECT state FROM shipments WHERE id = NEW.shipment_id) = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted shipment never changes'); END;

CREATE TRIGGER invoices_keep BEFORE UPDATE OF number, sequence, state, customer_id, document_date, posting_date, tax_date,
    due_date, terms, currency, rate_e9, net_minor, tax_minor, total_minor, total_base_minor, bill_to_name,
    bill_to_address, bill_to_tax_id, entry_id ON invoices
WHEN OLD.state = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted invoice never changes'); END;
CREATE TRIGGER invoices_stay BEFORE DELETE ON invoices WHEN OLD.state = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted invoice is never deleted'); END;
CREATE TRIGGER invoice_lines_keep BEFORE UPDATE ON invoice_lines
WHEN (SELECT state FROM invoices WHERE id = OLD.invoice_id) = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted invoice never changes'); END;
CREATE TRIGGER invoice_lines_stay BEFORE DELETE ON invoice_lines
WHEN (SELECT state FROM invoices WHERE id = OLD.invoice_id) = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted invoice is never deleted'); END;
CREATE TRIGGER invoice_lines_closed BEFORE INSERT ON invoice_lines
WHEN (SELECT state FROM invoices WHERE id = NEW.invoice_id) = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted invoice never changes'); END;
CREATE TRIGGER invoice_taxes_keep BEFORE UPDATE ON invoice_taxes
BEGIN SELECT RAISE(ABORT, 'a posted invoice never changes'); END;
CREATE TRIGGER invoice_taxes_stay BEFORE DELETE ON invoice_taxes
BEGIN SELECT RAISE(ABORT, 'a posted invoice never changes'); END;
CREATE TRIGGER invoice_taxes_closed BEFORE INSERT ON invoice_taxes
WHEN (SELECT state FROM invoices WHERE id = NEW.invoice_id) = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted invoice never changes'); END;
CREATE TRIGGER invoice_orders_keep BEFORE UPDATE ON invoice_orders
BEGIN SELECT RAISE(ABORT, 'a posted invoice never changes'); END;
CREATE TRIGGER invoice_orders_stay BEFORE DELETE ON invoice_orders
BEGIN SELECT RAISE(ABORT, 'a posted invoice never changes'); END;
CREATE TRIGGER invoice_orders_closed BEFORE INSERT ON invoice_orders
WHEN (SELECT state FROM invoices WHERE id = NEW.invoice_id) = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted invoice never changes'); END;

CREATE TRIGGER receipts_keep BEFORE UPDATE OF number, sequence, customer_id, method, posting_date, reference, currency,
    rate_e9, amount_minor, amount_base_minor, entry_id ON receipts
BEGIN SELECT RAISE(ABORT, 'a posted receipt never changes'); END;
CREATE TRIGGER receipts_stay BEFORE DELETE ON receipts
BEGIN SELECT RAISE(ABORT, 'a posted receipt is never deleted'); END;
CREATE TRIGGER applications_keep BEFORE UPDATE ON applications
BEGIN SELECT RAISE(ABORT, 'an application never changes; it is reversed'); END;
CREATE TRIGGER applications_stay BEFORE DELETE ON applications
BEGIN SELECT RAISE(ABORT, 'an application is never deleted; it is reversed'); END;
CREATE TRIGGER stock_issues_keep BEFORE UPDATE ON stock_issues
BEGIN SELECT RAISE(ABORT, 'a stock issue never changes'); END;
CREATE TRIGGER stock_issues_stay BEFORE DELETE ON stock_issues
BEGIN SELECT RAISE(ABORT, 'a stock issue is never deleted'); END;
CREATE TRIGGER stock_layers_keep BEFORE UPDATE OF item_id, posting_date, quantity_e4, cost_minor ON stock_layers
BEGIN SELECT RAISE(ABORT, 'goods taken in never change'); END;
CREATE TRIGGER stock_layers_stay BEFORE DELETE ON stock_layers
BEGIN SELECT RAISE(ABORT, 'goods taken in are never deleted'); END;
