-- Customers and items in full, prices, quotes and call-offs, warehouses and allocation, shipments
-- that are picked, packed, posted and taken back, own fields and reporting codes.

-- Where goods lie. Not counted: a warehouse others keep the stock of; goods leave it without
-- stock or cost in these books.
CREATE TABLE warehouses (
    code TEXT PRIMARY KEY CHECK (length(code) BETWEEN 1 AND 12),
    name TEXT NOT NULL CHECK (length(name) > 0),
    counted INTEGER NOT NULL DEFAULT 1 CHECK (counted IN (0, 1))
) STRICT, WITHOUT ROWID;
INSERT INTO warehouses (code, name) VALUES ('MAIN', 'Main warehouse');

ALTER TABLE company ADD COLUMN warehouse TEXT NOT NULL DEFAULT 'MAIN';
-- When cost is entered: as goods leave, or as they are billed.
ALTER TABLE company ADD COLUMN cost_entry TEXT NOT NULL DEFAULT 'at_posting' CHECK (cost_entry IN ('at_posting', 'at_billing'));
-- For how long a check in hand counts as not cleared.
ALTER TABLE company ADD COLUMN clearing_days INTEGER NOT NULL DEFAULT 7 CHECK (clearing_days BETWEEN 0 AND 90);
-- The charge item that freight of a shipment is billed as.
ALTER TABLE company ADD COLUMN freight_item_id INTEGER REFERENCES items (id);

-- Prices -----------------------------------------------------------------------------------

CREATE TABLE price_lists (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE CHECK (length(name) > 0),
    currency TEXT NOT NULL CHECK (length(currency) = 3),
    version INTEGER NOT NULL DEFAULT 1
) STRICT;
-- Prices per stock unit, from a day on.
CREATE TABLE list_prices (
    price_list_id INTEGER NOT NULL REFERENCES price_lists (id),
    item_id INTEGER NOT NULL REFERENCES items (id),
    valid_from TEXT NOT NULL CHECK (valid_from = date(valid_from)),
    price_e6 INTEGER NOT NULL CHECK (price_e6 >= 0),
    PRIMARY KEY (price_list_id, item_id, valid_from)
) STRICT, WITHOUT ROWID;
-- So much off from a quantity (in stock units) on: for an item or a class, in a price list or in all.
CREATE TABLE quantity_breaks (
    id INTEGER PRIMARY KEY,
    price_list_id INTEGER REFERENCES price_lists (id),
    item_id INTEGER REFERENCES items (id),
    item_class TEXT,
    from_e4 INTEGER NOT NULL CHECK (from_e4 > 0),
    off_e6 INTEGER NOT NULL CHECK (off_e6 BETWEEN 1 AND 1000000),
    CHECK ((item_id IS NULL) <> (item_class IS NULL))
) STRICT;
CREATE UNIQUE INDEX quantity_breaks_once ON quantity_breaks
    (coalesce(price_list_id, 0), coalesce(item_id, 0), coalesce(item_class, ''), from_e4);
CREATE TABLE promotions (
    code TEXT PRIMARY KEY CHECK (length(code) BETWEEN 1 AND 20),
    name TEXT NOT NULL CHECK (length(name) > 0),
    first TEXT NOT NULL CHECK (first = date(first)),
    last TEXT NOT NULL CHECK (last = date(last) AND last >= first),
    item_id INTEGER REFERENCES items (id),
    item_class TEXT,
    off_e6 INTEGER NOT NULL CHECK (off_e6 BETWEEN 1 AND 1000000)
) STRICT, WITHOUT ROWID;

-- The code a line gets for a tax treatment; standard keeps the item's own.
CREATE TABLE treatment_codes (
    treatment TEXT PRIMARY KEY CHECK (treatment IN ('exempt', 'reverse_charge', 'union', 'export')),
    tax_code TEXT NOT NULL REFERENCES tax_codes (code)
) STRICT, WITHOUT ROWID;

-- Customers --------------------------------------------------------------------------------

ALTER TABLE customers ADD COLUMN parent_id INTEGER REFERENCES customers (id);
ALTER TABLE customers ADD COLUMN delivery TEXT NOT NULL DEFAULT 'paper' CHECK (delivery IN ('paper', 'email', 'structured'));
ALTER TABLE customers ADD COLUMN email TEXT;
ALTER TABLE customers ADD COLUMN share_ahead_e6 INTEGER NOT NULL DEFAULT 0 CHECK (share_ahead_e6 BETWEEN 0 AND 1000000);
ALTER TABLE customers ADD COLUMN price_list_id INTEGER REFERENCES price_lists (id);
ALTER TABLE customers ADD COLUMN billing TEXT NOT NULL DEFAULT 'shipment' CHECK (billing IN ('shipment', 'order', 'weekly', 'monthly'));
ALTER TABLE customers ADD COLUMN bill_when_complete INTEGER NOT NULL DEFAULT 0 CHECK (bill_when_complete IN (0, 1));
ALTER TABLE customers ADD COLUMN statement_cycle TEXT NOT NULL DEFAULT 'none' CHECK (statement_cycle IN ('none', 'weekly', 'monthly', 'quarterly'));
ALTER TABLE customers ADD COLUMN salesperson TEXT;
CREATE INDEX customers_by_parent ON customers (parent_id) WHERE parent_id IS NOT NULL;

CREATE TABLE ship_tos (
    id INTEGER PRIMARY KEY,
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    code TEXT NOT NULL CHECK (length(code) BETWEEN 1 AND 20),
    name TEXT NOT NULL,
    address TEXT NOT NULL,
    country TEXT NOT NULL CHECK (length(country) = 2),
    treatment TEXT NOT NULL DEFAULT 'standard' CHECK (treatment IN ('standard', 'exempt', 'reverse_charge', 'union', 'export')),
    certificate TEXT,
    certificate_until TEXT CHECK (certificate_until IS NULL OR certificate_until = date(certificate_until)),
    active INTEGER NOT NULL DEFAULT 1 CHECK (active IN (0, 1)),
    UNIQUE (customer_id, code)
) STRICT;
INSERT INTO ship_tos (customer_id, code, name, address, country)
SELECT id, 'MAIN', name, address, country FROM customers;

-- A contact without a customer is someone a quote went to.
CREATE TABLE contacts (
    id INTEGER PRIMARY KEY,
    customer_id INTEGER REFERENCES customers (id),
    name TEXT NOT NULL CHECK (length(name) > 0),
    company TEXT,
    email TEXT,
    phone TEXT,
    role TEXT,
    active INTEGER NOT NULL DEFAULT 1 CHECK (active IN (0, 1))
) STRICT;
CREATE INDEX contacts_by_customer ON contacts (customer_id);

-- Items ------------------------------------------------------------------------------------

ALTER TABLE items ADD COLUMN minimum_e4 INTEGER NOT NULL DEFAULT 0 CHECK (minimum_e4 >= 0);
ALTER TABLE items ADD COLUMN step_e4 INTEGER NOT NULL DEFAULT 0 CHECK (step_e4 >= 0);
ALTER TABLE items ADD COLUMN over_e6 INTEGER NOT NULL DEFAULT 0 CHECK (over_e6 BETWEEN 0 AND 1000000);
ALTER TABLE items ADD COLUMN surcharge_e6 INTEGER NOT NULL DEFAULT 0 CHECK (surcharge_e6 >= 0);
ALTER TABLE items ADD COLUMN surcharge_name TEXT;
-- NULL: the customer's usual share, or the order's.
ALTER TABLE items ADD COLUMN share_ahead_e6 INTEGER CHECK (share_ahead_e6 IS NULL OR share_ahead_e6 BETWEEN 0 AND 1000000);
-- The packaging it comes in, one for each stock unit.
ALTER TABLE items ADD COLUMN container_id INTEGER REFERENCES items (id);
ALTER TABLE items ADD COLUMN active INTEGER NOT NULL DEFAULT 1 CHECK (active IN (0, 1));
ALTER TABLE items ADD COLUMN version INTEGER NOT NULL DEFAULT 1;
CREATE INDEX items_by_name ON items (name);
CREATE INDEX items_by_code ON items (code COLLATE NOCASE);

-- Units it is sold in besides its stock unit: one of them is so many stock units.
CREATE TABLE item_units (
    item_id INTEGER NOT NULL REFERENCES items (id),
    unit TEXT NOT NULL,
    factor_e4 INTEGER NOT NULL CHECK (factor_e4 > 0),
    PRIMARY KEY (item_id, unit)
) STRICT, WITHOUT ROWID;

-- Own fields, reporting codes --------------------------------------------------------------

CREATE TABLE own_fields (
    key TEXT PRIMARY KEY CHECK (length(key) BETWEEN 1 AND 20),
    label TEXT NOT NULL CHECK (length(label) > 0),
    place TEXT NOT NULL CHECK (place IN ('order', 'line')),
    kind TEXT NOT NULL CHECK (kind IN ('text', 'number', 'date', 'choice', 'yes_no')),
    choices TEXT NOT NULL DEFAULT '[]' CHECK (json_valid(choices)),
    required INTEGER NOT NULL DEFAULT 0 CHECK (required IN (0, 1)),
    active INTEGER NOT NULL DEFAULT 1 CHECK (active IN (0, 1))
) STRICT, WITHOUT ROWID;
CREATE TABLE reporting_lists (
    key TEXT PRIMARY KEY CHECK (length(key) BETWEEN 1 AND 20),
    name TEXT NOT NULL CHECK (length(name) > 0)
) STRICT, WITHOUT ROWID;
CREATE TABLE reporting_codes (
    list TEXT NOT NULL REFERENCES reporting_lists (key),
    code TEXT NOT NULL CHECK (length(code) BETWEEN 1 AND 20),
    name TEXT NOT NULL,
    active INTEGER NOT NULL DEFAULT 1 CHECK (active IN (0, 1)),
    PRIMARY KEY (list, code)
) STRICT, WITHOUT ROWID;
-- Accounts whose lines must carry a code of the list.
CREATE TABLE account_codes (
    account TEXT NOT NULL REFERENCES accounts (number),
    list TEXT NOT NULL REFERENCES reporting_lists (key),
    PRIMARY KEY (account, list)
) STRICT, WITHOUT ROWID;

-- Quotes, call-offs, orders ----------------------------------------------------------------

CREATE TABLE quotes (
    id INTEGER PRIMARY KEY,
    number TEXT NOT NULL UNIQUE,
    -- One of the two: a customer, or a contact who is none yet.
    customer_id INTEGER REFERENCES customers (id),
    contact_id INTEGER REFERENCES contacts (id),
    quote_date TEXT NOT NULL CHECK (quote_date = date(quote_date)),
    valid_until TEXT NOT NULL CHECK (valid_until = date(valid_until) AND valid_until >= quote_date),
    currency TEXT NOT NULL CHECK (length(currency) = 3),
    -- What is offered, as it would be ordered.
    form TEXT NOT NULL CHECK (json_valid(form)),
    -- The lines as priced when it was written, with tax: what the customer was told.
    lines TEXT NOT NULL CHECK (json_valid(lines)),
    tape TEXT NOT NULL CHECK (json_valid(tape)),
    net_minor INTEGER NOT NULL,
    tax_minor INTEGER NOT NULL,
    state TEXT NOT NULL DEFAULT 'open' CHECK (state IN ('open', 'accepted', 'declined')),
    reason TEXT,
    order_id INTEGER REFERENCES orders (id),
    version INTEGER NOT NULL DEFAULT 1,
    CHECK (customer_id IS NOT NULL OR contact_id IS NOT NULL),
    CHECK ((state = 'accepted') = (order_id IS NOT NULL))
) STRICT;
CREATE INDEX quotes_by_customer ON quotes (customer_id);

CREATE TABLE call_offs (
    id INTEGER PRIMARY KEY,
    number TEXT NOT NULL UNIQUE,
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    customer_order_number TEXT,
    first TEXT NOT NULL CHECK (first = date(first)),
    last TEXT NOT NULL CHECK (last = date(last) AND last >= first),
    version INTEGER NOT NULL DEFAULT 1
) STRICT;
CREATE TABLE call_off_lines (
    id INTEGER PRIMARY KEY,
    call_off_id INTEGER NOT NULL REFERENCES call_offs (id),
    position INTEGER NOT NULL,
    item_id INTEGER NOT NULL REFERENCES items (id),
    -- In stock units, at a price per stock unit in the customer's currency.
    agreed_e4 INTEGER NOT NULL CHECK (agreed_e4 > 0),
    price_e6 INTEGER NOT NULL CHECK (price_e6 >= 0),
    UNIQUE (call_off_id, item_id)
) STRICT;

ALTER TABLE orders ADD COLUMN ship_to_id INTEGER REFERENCES ship_tos (id);
-- An address typed once, for this order only.
ALTER TABLE orders ADD COLUMN ship_name TEXT;
ALTER TABLE orders ADD COLUMN ship_address TEXT;
ALTER TABLE orders ADD COLUMN ship_country TEXT;
ALTER TABLE orders ADD COLUMN warehouse TEXT NOT NULL DEFAULT 'MAIN';
ALTER TABLE orders ADD COLUMN requested_date TEXT;
ALTER TABLE orders ADD COLUMN carrier TEXT;
ALTER TABLE orders ADD COLUMN delivery_terms TEXT;
ALTER TABLE orders ADD COLUMN delivery_place TEXT;
ALTER TABLE orders ADD COLUMN salesperson TEXT;
ALTER TABLE orders ADD COLUMN tags TEXT NOT NULL DEFAULT '[]' CHECK (json_valid(tags));
ALTER TABLE orders ADD COLUMN contact_id INTEGER REFERENCES contacts (id);
ALTER TABLE orders ADD COLUMN note TEXT;
ALTER TABLE orders ADD COLUMN own_note TEXT;
ALTER TABLE orders ADD COLUMN marks TEXT NOT NULL DEFAULT '{}' CHECK (json_valid(marks));
ALTER TABLE orders ADD COLUMN call_off_id INTEGER REFERENCES call_offs (id);
ALTER TABLE orders ADD COLUMN quote_id INTEGER REFERENCES quotes (id);
ALTER TABLE orders ADD COLUMN copied_from_id INTEGER REFERENCES orders (id);
ALTER TABLE orders ADD COLUMN confirmed_on TEXT;
UPDATE orders SET ship_to_id = (SELECT id FROM ship_tos WHERE customer_id = orders.customer_id);
CREATE INDEX orders_by_call_off ON orders (call_off_id) WHERE call_off_id IS NOT NULL;

-- Quantities of a line are in its unit; one of it is so many stock units.
ALTER TABLE order_lines ADD COLUMN unit TEXT NOT NULL DEFAULT 'pc';
ALTER TABLE order_lines ADD COLUMN factor_e4 INTEGER NOT NULL DEFAULT 10000 CHECK (factor_e4 > 0);
ALTER TABLE order_lines ADD COLUMN over_e4 INTEGER NOT NULL DEFAULT 0 CHECK (over_e4 >= 0);
ALTER TABLE order_lines ADD COLUMN allocated_e4 INTEGER NOT NULL DEFAULT 0 CHECK (allocated_e4 BETWEEN 0 AND max(0, ordered_e4 - cancelled_e4 - shipped_e4));
ALTER TABLE order_lines ADD COLUMN surcharge_e6 INTEGER NOT NULL DEFAULT 0 CHECK (surcharge_e6 >= 0);
ALTER TABLE order_lines ADD COLUMN surcharge_name TEXT;
-- How the price came about, and what of it was typed.
ALTER TABLE order_lines ADD COLUMN price_steps TEXT NOT NULL DEFAULT '[]' CHECK (json_valid(price_steps));
ALTER TABLE order_lines ADD COLUMN typed TEXT NOT NULL DEFAULT '{}' CHECK (json_valid(typed));
ALTER TABLE order_lines ADD COLUMN promotion TEXT;
ALTER TABLE order_lines ADD COLUMN tax_reason TEXT;
ALTER TABLE order_lines ADD COLUMN warehouse TEXT NOT NULL DEFAULT 'MAIN';
ALTER TABLE order_lines ADD COLUMN marks TEXT NOT NULL DEFAULT '{}' CHECK (json_valid(marks));
ALTER TABLE order_lines ADD COLUMN call_off_line_id INTEGER REFERENCES call_off_lines (id);
ALTER TABLE order_lines ADD COLUMN cancel_reason TEXT;
UPDATE order_lines SET unit = (SELECT unit FROM items WHERE items.id = item_id);
CREATE INDEX order_lines_by_item ON order_lines (item_id) WHERE shipped_e4 < ordered_e4 - cancelled_e4;
CREATE INDEX order_lines_by_call_off ON order_lines (call_off_line_id) WHERE call_off_line_id IS NOT NULL;

-- Stock ------------------------------------------------------------------------------------

ALTER TABLE stock_layers ADD COLUMN warehouse TEXT NOT NULL DEFAULT 'MAIN';
ALTER TABLE stock_layers ADD COLUMN adjustment_id INTEGER REFERENCES stock_adjustments (id);
DROP INDEX stock_layers_left;
CREATE INDEX stock_layers_left ON stock_layers (item_id, warehouse, id) WHERE remaining_e4 > 0;

-- A count that differed: found more, or less.
CREATE TABLE stock_adjustments (
    id INTEGER PRIMARY KEY,
    item_id INTEGER NOT NULL REFERENCES items (id),
    warehouse TEXT NOT NULL REFERENCES warehouses (code),
    posting_date TEXT NOT NULL CHECK (posting_date = date(posting_date)),
    quantity_e4 INTEGER NOT NULL CHECK (quantity_e4 <> 0),
    cost_minor INTEGER NOT NULL,
    reason TEXT NOT NULL CHECK (length(reason) > 0),
    entry_id INTEGER REFERENCES entries (id)
) STRICT;

-- What left a layer, and why; negative where a shipment was taken back.
CREATE TABLE stock_moves (
    id INTEGER PRIMARY KEY,
    layer_id INTEGER NOT NULL REFERENCES stock_layers (id),
    posting_date TEXT NOT NULL CHECK (posting_date = date(posting_date)),
    shipment_line_id INTEGER REFERENCES shipment_lines (id),
    adjustment_id INTEGER REFERENCES stock_adjustments (id),
    quantity_e4 INTEGER NOT NULL CHECK (quantity_e4 <> 0),
    cost_minor INTEGER NOT NULL,
    CHECK ((shipment_line_id IS NULL) <> (adjustment_id IS NULL)),
    CHECK (quantity_e4 > 0 OR shipment_line_id IS NOT NULL)
) STRICT;
INSERT INTO stock_moves (layer_id, posting_date, shipment_line_id, quantity_e4, cost_minor)
SELECT layer_id, posting_date, shipment_line_id, stock_issues.quantity_e4, stock_issues.cost_minor
FROM stock_issues JOIN shipment_lines ON shipment_lines.id = shipment_line_id JOIN shipments ON shipments.id = shipment_id
ORDER BY shipment_line_id, layer_id;
DROP TABLE stock_issues;
CREATE INDEX stock_moves_by_layer ON stock_moves (layer_id);
CREATE INDEX stock_moves_by_line ON stock_moves (shipment_line_id) WHERE shipment_line_id IS NOT NULL;

-- Ordered in and on its way, for an order line or for stock.
CREATE TABLE expected_goods (
    id INTEGER PRIMARY KEY,
    item_id INTEGER NOT NULL REFERENCES items (id),
    warehouse TEXT NOT NULL REFERENCES warehouses (code),
    order_line_id INTEGER REFERENCES order_lines (id),
    quantity_e4 INTEGER NOT NULL CHECK (quantity_e4 > 0),
    arrived_e4 INTEGER NOT NULL DEFAULT 0 CHECK (arrived_e4 BETWEEN 0 AND quantity_e4),
    expected_on TEXT NOT NULL CHECK (expected_on = date(expected_on))
) STRICT;
CREATE INDEX expected_goods_open ON expected_goods (item_id, warehouse) WHERE arrived_e4 < quantity_e4;

-- Shipments --------------------------------------------------------------------------------

ALTER TABLE shipments ADD COLUMN warehouse TEXT NOT NULL DEFAULT 'MAIN';
ALTER TABLE shipments ADD COLUMN freight_minor INTEGER CHECK (freight_minor IS NULL OR freight_minor > 0);
-- As it stood when it left.
ALTER TABLE shipments ADD COLUMN ship_name TEXT;
ALTER TABLE shipments ADD COLUMN ship_address TEXT;
ALTER TABLE shipments ADD COLUMN ship_country TEXT;
-- Which account holds its cost until it is billed.
ALTER TABLE shipments ADD COLUMN cost_purpose TEXT NOT NULL DEFAULT 'cogs' CHECK (cost_purpose IN ('cogs', 'shipped_cost', 'none'));
ALTER TABLE shipments ADD COLUMN taken_back_date TEXT;
ALTER TABLE shipments ADD COLUMN taken_back_reason TEXT;
ALTER TABLE shipments ADD COLUMN reversal_entry_id INTEGER REFERENCES entries (id);
-- The number it has where the warehouse works elsewhere.
ALTER TABLE shipments ADD COLUMN outside_number TEXT;
CREATE UNIQUE INDEX shipments_outside ON shipments (outside_number) WHERE outside_number IS NOT NULL;

-- What was to be picked; quantity_e4 is what was.
ALTER TABLE shipment_lines ADD COLUMN asked_e4 INTEGER;
-- What of its cost has followed billing.
ALTER TABLE shipment_lines ADD COLUMN cost_billed_minor INTEGER NOT NULL DEFAULT 0;

-- Invoices and entries ---------------------------------------------------------------------

-- When the next part of what is open falls due.
ALTER TABLE invoices ADD COLUMN next_due_date TEXT;
UPDATE invoices SET next_due_date = due_date;
-- The entry of the cost that follows billing.
ALTER TABLE invoices ADD COLUMN cost_entry_id INTEGER REFERENCES entries (id);
ALTER TABLE invoice_lines ADD COLUMN surcharge_e6 INTEGER NOT NULL DEFAULT 0;
ALTER TABLE invoice_lines ADD COLUMN surcharge_name TEXT;
ALTER TABLE invoice_lines ADD COLUMN price_steps TEXT NOT NULL DEFAULT '[]';
ALTER TABLE invoice_lines ADD COLUMN marks TEXT NOT NULL DEFAULT '{}';
ALTER TABLE invoice_lines ADD COLUMN kind TEXT;
ALTER TABLE entry_lines ADD COLUMN marks TEXT;
DROP INDEX invoices_open;
CREATE INDEX invoices_open ON invoices (customer_id, next_due_date) WHERE open_minor > 0;

-- Containers at customers: sent on an invoice, brought back on a receipt.
CREATE TABLE container_moves (
    id INTEGER PRIMARY KEY,
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    item_id INTEGER NOT NULL REFERENCES items (id),
    posting_date TEXT NOT NULL CHECK (posting_date = date(posting_date)),
    -- Positive: sent; negative: brought back. Amounts in base currency.
    quantity_e4 INTEGER NOT NULL CHECK (quantity_e4 <> 0),
    amount_minor INTEGER NOT NULL,
    invoice_id INTEGER REFERENCES invoices (id),
    receipt_id INTEGER REFERENCES receipts (id),
    CHECK ((invoice_id IS NULL) <> (receipt_id IS NULL)),
    CHECK ((quantity_e4 > 0) = (invoice_id IS NOT NULL))
) STRICT;
CREATE INDEX container_moves_by_customer ON container_moves (customer_id, item_id);

-- Files of orders or shipments, read and checked before they are taken over.
CREATE TABLE imports (
    id INTEGER PRIMARY KEY,
    kind TEXT NOT NULL CHECK (kind IN ('orders', 'shipments')),
    name TEXT NOT NULL,
    made_at TEXT NOT NULL,
    person TEXT NOT NULL,
    state TEXT NOT NULL DEFAULT 'checked' CHECK (state IN ('checked', 'taken_over', 'dropped')),
    text TEXT NOT NULL,
    lines INTEGER NOT NULL,
    documents INTEGER NOT NULL
) STRICT;

-- Accounts for what is new, where the books were begun before and the numbers are free.
INSERT INTO accounts (number, name, account_type)
SELECT column1, column2, column3 FROM company, (VALUES ('1320', 'Goods shipped, not billed', 'asset'),
    ('2300', 'Containers owed back', 'liability'), ('5200', 'Stock adjustments', 'expense'))
WHERE true ON CONFLICT DO NOTHING;
INSERT INTO account_map (purpose, account)
SELECT column1, number FROM company, (VALUES ('shipped_cost', '1320', 'asset'), ('container_liability', '2300', 'liability'),
    ('stock_adjustment', '5200', 'expense')) JOIN accounts ON number = column2 AND account_type = column3
WHERE NOT EXISTS (SELECT 1 FROM account_map WHERE account_map.account = number);

INSERT INTO number_ranges (kind, prefix, first, next)
SELECT 'quote', 'Q-', 1, 1 FROM company UNION ALL SELECT 'call_off', 'K-', 1, 1 FROM company;

-- CHECKs that grew: the way SQLite's documentation gives for changes that do not touch what is
-- stored (ALTER TABLE, section 7).
PRAGMA writable_schema = ON;
UPDATE sqlite_schema SET sql = replace(sql, 'kind IN (''goods'', ''service'', ''charge'')',
    'kind IN (''goods'', ''service'', ''charge'', ''packaging'')') WHERE type = 'table' AND name = 'items';
UPDATE sqlite_schema SET sql = replace(sql, 'kind IN (''credit_memo'', ''write_off'', ''refund'', ''price_change'')',
    'kind IN (''credit_memo'', ''write_off'', ''refund'', ''price_change'', ''order'')') WHERE type = 'table' AND name = 'limits';
UPDATE sqlite_schema SET sql = replace(sql, 'method IN (''check'', ''transfer'', ''cash'')',
    'method IN (''check'', ''transfer'', ''cash'', ''containers'')') WHERE type = 'table' AND name = 'receipts';
UPDATE sqlite_schema SET sql = replace(replace(sql, 'state IN (''packed'', ''posted'')',
    'state IN (''picking'', ''packed'', ''posted'', ''taken_back'', ''dropped'')'),
    '(state = ''posted'') = (posting_date IS NOT NULL)',
    '(state IN (''posted'', ''taken_back'')) = (posting_date IS NOT NULL)') WHERE type = 'table' AND name = 'shipments';
UPDATE sqlite_schema SET sql = replace(sql, 'BETWEEN 0 AND ordered_e4 - cancelled_e4)',
    'BETWEEN 0 AND ordered_e4 - cancelled_e4 + over_e4)') WHERE type = 'table' AND name = 'order_lines';
PRAGMA writable_schema = RESET;
-- Orders have no limit until someone sets one.
INSERT INTO limits (role, kind, amount_minor) VALUES ('clerk', 'order', NULL), ('lead', 'order', NULL);

-- What is posted never changes, but for a shipment that is taken back as a whole --------------

DROP TRIGGER shipments_keep;
CREATE TRIGGER shipments_keep BEFORE UPDATE OF number, order_id, customer_id, packed_date, posting_date, entry_id, warehouse,
    cost_purpose ON shipments
WHEN OLD.state IN ('posted', 'taken_back')
BEGIN SELECT RAISE(ABORT, 'a posted shipment never changes'); END;
CREATE TRIGGER shipments_go_on BEFORE UPDATE OF state ON shipments
WHEN OLD.state IN ('taken_back', 'dropped') OR (OLD.state = 'posted' AND NEW.state <> 'taken_back')
BEGIN SELECT RAISE(ABORT, 'a posted shipment never changes'); END;
DROP TRIGGER shipments_stay;
CREATE TRIGGER shipments_stay BEFORE DELETE ON shipments
BEGIN SELECT RAISE(ABORT, 'a shipment is never deleted'); END;
DROP TRIGGER shipment_lines_keep;
CREATE TRIGGER shipment_lines_keep BEFORE UPDATE OF shipment_id, position, order_line_id, quantity_e4, cost_minor ON shipment_lines
WHEN (SELECT state FROM shipments WHERE id = OLD.shipment_id) IN ('posted', 'taken_back')
BEGIN SELECT RAISE(ABORT, 'a posted shipment never changes'); END;
DROP TRIGGER shipment_lines_stay;
CREATE TRIGGER shipment_lines_stay BEFORE DELETE ON shipment_lines
WHEN (SELECT state FROM shipments WHERE id = OLD.shipment_id) IN ('posted', 'taken_back')
BEGIN SELECT RAISE(ABORT, 'a posted shipment is never deleted'); END;
DROP TRIGGER shipment_lines_closed;
CREATE TRIGGER shipment_lines_closed BEFORE INSERT ON shipment_lines
WHEN (SELECT state FROM shipments WHERE id = NEW.shipment_id) IN ('posted', 'taken_back')
BEGIN SELECT RAISE(ABORT, 'a posted shipment never changes'); END;
CREATE TRIGGER stock_moves_keep BEFORE UPDATE ON stock_moves
BEGIN SELECT RAISE(ABORT, 'a stock move never changes'); END;
CREATE TRIGGER stock_moves_stay BEFORE DELETE ON stock_moves
BEGIN SELECT RAISE(ABORT, 'a stock move is never deleted'); END;
CREATE TRIGGER stock_adjustments_keep BEFORE UPDATE OF item_id, warehouse, posting_date, quantity_e4, cost_minor, reason ON stock_adjustments
BEGIN SELECT RAISE(ABORT, 'an adjustment never changes'); END;
CREATE TRIGGER stock_adjustments_stay BEFORE DELETE ON stock_adjustments
BEGIN SELECT RAISE(ABORT, 'an adjustment is never deleted'); END;
CREATE TRIGGER container_moves_keep BEFORE UPDATE ON container_moves
BEGIN SELECT RAISE(ABORT, 'a container move never changes'); END;
CREATE TRIGGER container_moves_stay BEFORE DELETE ON container_moves
BEGIN SELECT RAISE(ABORT, 'a container move is never deleted'); END;
DROP TRIGGER stock_layers_keep;
CREATE TRIGGER stock_layers_keep BEFORE UPDATE OF item_id, warehouse, posting_date, quantity_e4, cost_minor ON stock_layers
BEGIN SELECT RAISE(ABORT, 'goods taken in never change'); END;
