-- Customer deposits: money taken in advance, for an order or on account, on an account of its own; its tax by code where it
-- was due as the money came in; what became of what was not used.

-- When tax on money in advance is due, and how deposits are used on part invoices.
ALTER TABLE company ADD COLUMN advance_tax TEXT NOT NULL DEFAULT 'at_invoice' CHECK (advance_tax IN ('at_receipt', 'at_invoice'));
ALTER TABLE company ADD COLUMN deposit_use TEXT NOT NULL DEFAULT 'first' CHECK (deposit_use IN ('first', 'in_proportion'));
-- What someone said is to be applied of which deposit on a draft: [[open item, amount], …]; what is not named goes by itself.
ALTER TABLE documents ADD COLUMN deposits_wanted TEXT CHECK (deposits_wanted IS NULL OR json_valid(deposits_wanted));

INSERT INTO number_ranges (kind, prefix, first, next) SELECT 'deposit', 'D-', 1, 1 FROM company;
INSERT INTO number_ranges (kind, prefix, first, next) SELECT 'deposit_end', 'DE-', 1, 1 FROM company;

-- Payments are receipts or deposits, each kind with numbers of its own.
CREATE TABLE payments_new (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    kind TEXT NOT NULL DEFAULT 'receipt' CHECK (kind IN ('receipt', 'deposit')),
    direction TEXT NOT NULL DEFAULT 'in' CHECK (direction IN ('in', 'out')),
    number TEXT NOT NULL UNIQUE,
    sequence INTEGER NOT NULL,
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
    UNIQUE (kind, sequence),
    CHECK ((reversed_on IS NULL) = (reversal_reason IS NULL) AND (reversed_on IS NULL) = (reversal_entry_id IS NULL))
) STRICT;
INSERT INTO payments_new (id, direction, number, sequence, customer_id, method, place, whereabouts, posting_date, reference, currency, rate_e9,
                          amount_minor, amount_base_minor, entry_id, reversed_on, reversal_reason, reversal_entry_id, version)
SELECT id, direction, number, sequence, customer_id, method, place, whereabouts, posting_date, reference, currency, rate_e9, amount_minor,
       amount_base_minor, entry_id, reversed_on, reversal_reason, reversal_entry_id, version FROM payments ORDER BY id;
DROP TABLE payments;
ALTER TABLE payments_new RENAME TO payments;
CREATE INDEX payments_by_customer ON payments (customer_id);
CREATE INDEX payments_by_date ON payments (posting_date) WHERE reversed_on IS NULL;
CREATE TRIGGER payments_keep BEFORE UPDATE OF kind, direction, number, sequence, customer_id, method, place, posting_date, reference,
    currency, rate_e9, amount_minor, amount_base_minor, entry_id ON payments
BEGIN SELECT RAISE(ABORT, 'a posted receipt never changes'); END;
CREATE TRIGGER payments_reversed_once BEFORE UPDATE OF reversed_on, reversal_reason, reversal_entry_id ON payments
WHEN OLD.reversed_on IS NOT NULL
BEGIN SELECT RAISE(ABORT, 'a receipt is reversed once'); END;
CREATE TRIGGER payments_stay BEFORE DELETE ON payments
BEGIN SELECT RAISE(ABORT, 'a posted receipt is never deleted'); END;

-- What a payment is that was taken as a deposit.
CREATE TABLE deposits (
    id INTEGER PRIMARY KEY REFERENCES payments (id),
    -- The order it is for, as things stand; NULL on account.
    order_id INTEGER REFERENCES orders (id),
    -- The quote it is for, until that becomes an order.
    quote_id INTEGER REFERENCES quotes (id),
    -- When its tax was due: it keeps the regime it was taken under.
    regime TEXT NOT NULL CHECK (regime IN ('at_receipt', 'at_invoice')),
    memo TEXT,
    tape TEXT NOT NULL CHECK (json_valid(tape)),
    CHECK (order_id IS NULL OR quote_id IS NULL)
) STRICT;
CREATE INDEX deposits_by_order ON deposits (order_id) WHERE order_id IS NOT NULL;
CREATE INDEX deposits_by_quote ON deposits (quote_id) WHERE quote_id IS NOT NULL;
CREATE TRIGGER deposits_keep BEFORE UPDATE OF id, regime, memo, tape ON deposits
BEGIN SELECT RAISE(ABORT, 'a deposit never changes; it is moved to another order'); END;
CREATE TRIGGER deposits_stay BEFORE DELETE ON deposits
BEGIN SELECT RAISE(ABORT, 'a deposit is never deleted'); END;

-- What was held of a deposit as it was moved to another order, or taken on account: no entry, the register moves.
CREATE TABLE deposit_moves (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    deposit_id INTEGER NOT NULL REFERENCES deposits (id),
    moved_on TEXT NOT NULL CHECK (moved_on = date(moved_on)),
    from_order_id INTEGER REFERENCES orders (id),
    to_order_id INTEGER REFERENCES orders (id),
    from_quote_id INTEGER REFERENCES quotes (id),
    amount_minor INTEGER NOT NULL CHECK (amount_minor > 0),
    reason TEXT NOT NULL
) STRICT;
CREATE INDEX deposit_moves_by_deposit ON deposit_moves (deposit_id);
CREATE TRIGGER deposit_moves_keep BEFORE UPDATE ON deposit_moves
BEGIN SELECT RAISE(ABORT, 'a move of a deposit never changes'); END;
CREATE TRIGGER deposit_moves_stay BEFORE DELETE ON deposit_moves
BEGIN SELECT RAISE(ABORT, 'a move of a deposit is never deleted'); END;

-- Refunds, and deposits kept as income.
CREATE TABLE deposit_ends (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    number TEXT NOT NULL UNIQUE,
    sequence INTEGER NOT NULL UNIQUE,
    deposit_id INTEGER NOT NULL REFERENCES deposits (id),
    kind TEXT NOT NULL CHECK (kind IN ('refunded', 'kept')),
    -- How a refund was paid, and where the money was taken from.
    method TEXT REFERENCES payment_methods (code),
    place TEXT REFERENCES money_places (code),
    posting_date TEXT NOT NULL CHECK (posting_date = date(posting_date)),
    amount_minor INTEGER NOT NULL CHECK (amount_minor > 0),
    -- What was carried of it, and what was paid, in base currency.
    amount_base_minor INTEGER NOT NULL,
    paid_base_minor INTEGER NOT NULL,
    reason TEXT NOT NULL,
    entry_id INTEGER NOT NULL REFERENCES entries (id),
    CHECK ((kind = 'refunded') = (method IS NOT NULL) AND (method IS NULL) = (place IS NULL))
) STRICT;
CREATE INDEX deposit_ends_by_deposit ON deposit_ends (deposit_id);
CREATE TRIGGER deposit_ends_keep BEFORE UPDATE ON deposit_ends
BEGIN SELECT RAISE(ABORT, 'the end of a deposit never changes'); END;
CREATE TRIGGER deposit_ends_stay BEFORE DELETE ON deposit_ends
BEGIN SELECT RAISE(ABORT, 'the end of a deposit is never deleted'); END;

-- Open items of the new kinds; what ends a deposit stands against it on its own account.
CREATE TABLE open_items_new (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    -- The control account its balance stands on: what it is for, and its number. No number where it
    -- never had a balance.
    purpose TEXT NOT NULL CHECK (purpose IN ('receivable', 'unapplied', 'deposit_liability', 'prepayment_liability')),
    account TEXT REFERENCES accounts (number),
    side TEXT NOT NULL CHECK (side IN ('owed_to_us', 'owed_by_us')),
    -- The document it came from.
    kind TEXT NOT NULL CHECK (kind IN ('invoice', 'credit_memo', 'receipt', 'container_return', 'opening', 'deposit', 'deposit_end')),
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
CREATE INDEX open_items_open ON open_items (customer_id, next_due_date) WHERE open_minor > 0;
CREATE TRIGGER open_items_keep BEFORE UPDATE OF customer_id, purpose, account, side, kind, document_id, number, currency,
    amount_minor, amount_base_minor, posting_date, document_date, terms ON open_items
BEGIN SELECT RAISE(ABORT, 'an open item never changes; something is applied to it'); END;
CREATE TRIGGER open_items_stay BEFORE DELETE ON open_items
BEGIN SELECT RAISE(ABORT, 'an open item is never deleted'); END;

-- Tax that stands on money in advance: the account carries the rest. Of what ends a deposit: the tax that went with it.
CREATE TABLE item_taxes (
    item_id INTEGER NOT NULL REFERENCES open_items (id),
    position INTEGER NOT NULL,
    tax_code TEXT NOT NULL REFERENCES tax_codes (code),
    category TEXT NOT NULL,
    rate_e6 INTEGER NOT NULL,
    -- The day it is reported on.
    tax_date TEXT NOT NULL CHECK (tax_date = date(tax_date)),
    net_minor INTEGER NOT NULL CHECK (net_minor >= 0),
    tax_minor INTEGER NOT NULL CHECK (tax_minor >= 0),
    net_base_minor INTEGER NOT NULL,
    tax_base_minor INTEGER NOT NULL,
    PRIMARY KEY (item_id, position)
) STRICT, WITHOUT ROWID;
CREATE TRIGGER item_taxes_keep BEFORE UPDATE ON item_taxes
BEGIN SELECT RAISE(ABORT, 'tax of an open item never changes'); END;
CREATE TRIGGER item_taxes_stay BEFORE DELETE ON item_taxes
BEGIN SELECT RAISE(ABORT, 'tax of an open item never changes'); END;

-- The tax that went with an application of money in advance; with the signs of its amounts.
CREATE TABLE application_taxes (
    application_id INTEGER NOT NULL REFERENCES applications (id),
    position INTEGER NOT NULL,
    tax_code TEXT NOT NULL REFERENCES tax_codes (code),
    category TEXT NOT NULL,
    rate_e6 INTEGER NOT NULL,
    tax_date TEXT NOT NULL CHECK (tax_date = date(tax_date)),
    net_minor INTEGER NOT NULL,
    tax_minor INTEGER NOT NULL,
    net_base_minor INTEGER NOT NULL,
    tax_base_minor INTEGER NOT NULL,
    PRIMARY KEY (application_id, position)
) STRICT, WITHOUT ROWID;
CREATE TRIGGER application_taxes_keep BEFORE UPDATE ON application_taxes
BEGIN SELECT RAISE(ABORT, 'tax of an application never changes'); END;
CREATE TRIGGER application_taxes_stay BEFORE DELETE ON application_taxes
BEGIN SELECT RAISE(ABORT, 'tax of an application never changes'); END;
CREATE INDEX applications_by_entry ON applications (entry_id);
