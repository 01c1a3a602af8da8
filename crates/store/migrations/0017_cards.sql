-- Cards: what was authorized for orders, what was captured, what went back, what the processor paid out. No card number is
-- ever here: a token stands for the card, and is of no use to anyone else.

INSERT INTO number_ranges (kind, prefix, first, next) SELECT 'card_authorization', 'CA-', 1, 1 FROM company;
INSERT INTO number_ranges (kind, prefix, first, next) SELECT 'card_return', 'CB-', 1, 1 FROM company;
INSERT INTO number_ranges (kind, prefix, first, next) SELECT 'card_payout', 'CP-', 1, 1 FROM company;

-- Captured money lies here until it is paid out. Nobody chooses it by hand: a card is captured.
INSERT INTO money_places (code, name, kind, account)
SELECT 'cards', 'Card clearing', 'card_clearing', account FROM account_map
WHERE purpose = 'card_clearing' AND item_class IS NULL AND customer_class IS NULL
  AND NOT EXISTS (SELECT 1 FROM money_places WHERE kind = 'card_clearing');
INSERT INTO payment_methods (code, name, position, place, active)
SELECT 'card', 'card', (SELECT count(*) + 1 FROM payment_methods), 'cards', 0 FROM money_places WHERE code = 'cards';

CREATE TABLE cards (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    token TEXT NOT NULL UNIQUE CHECK (length(token) > 0),
    last_four TEXT NOT NULL CHECK (length(last_four) = 4),
    -- The month it is valid through: 2028-05.
    valid_through TEXT NOT NULL CHECK (length(valid_through) = 7),
    added_on TEXT NOT NULL CHECK (added_on = date(added_on))
) STRICT;
CREATE INDEX cards_by_customer ON cards (customer_id);

CREATE TABLE card_authorizations (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    number TEXT NOT NULL UNIQUE,
    sequence INTEGER NOT NULL UNIQUE,
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    order_id INTEGER NOT NULL REFERENCES orders (id),
    card_id INTEGER NOT NULL REFERENCES cards (id),
    currency TEXT NOT NULL CHECK (length(currency) = 3),
    amount_minor INTEGER NOT NULL CHECK (amount_minor > 0),
    asked_on TEXT NOT NULL CHECK (asked_on = date(asked_on)),
    -- What the processor said last.
    status TEXT NOT NULL CHECK (status IN ('asked', 'live', 'declined', 'another_card', 'voided', 'expired', 'refused')),
    -- As the processor names it; NULL until it answered.
    reference TEXT UNIQUE,
    -- Counts the changes it told: what counts lower came out of order.
    revision INTEGER NOT NULL DEFAULT 0,
    valid_until TEXT CHECK (valid_until = date(valid_until)),
    -- Why it was declined or refused, in the processor's words.
    words TEXT,
    version INTEGER NOT NULL DEFAULT 1,
    CHECK (status <> 'live' OR (reference IS NOT NULL AND valid_until IS NOT NULL))
) STRICT;
CREATE INDEX card_authorizations_by_order ON card_authorizations (order_id);
CREATE INDEX card_authorizations_by_customer ON card_authorizations (customer_id);
CREATE INDEX card_authorizations_open ON card_authorizations (id) WHERE status IN ('asked', 'live');
CREATE TRIGGER card_authorizations_keep BEFORE UPDATE OF number, sequence, customer_id, order_id, card_id, currency, amount_minor, asked_on
    ON card_authorizations
BEGIN SELECT RAISE(ABORT, 'what was authorized never changes'); END;
CREATE TRIGGER card_authorizations_stay BEFORE DELETE ON card_authorizations
BEGIN SELECT RAISE(ABORT, 'a card authorization is never deleted'); END;

-- What was captured; the receipt or deposit it is in the books, once it is.
CREATE TABLE card_captures (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    authorization_id INTEGER NOT NULL REFERENCES card_authorizations (id),
    reference TEXT NOT NULL UNIQUE,
    amount_minor INTEGER NOT NULL CHECK (amount_minor > 0),
    captured_on TEXT NOT NULL CHECK (captured_on = date(captured_on)),
    payment_id INTEGER UNIQUE REFERENCES payments (id),
    payout_id INTEGER REFERENCES card_payouts (id)
) STRICT;
CREATE INDEX card_captures_by_authorization ON card_captures (authorization_id);
CREATE INDEX card_captures_to_book ON card_captures (id) WHERE payment_id IS NULL;
CREATE TRIGGER card_captures_keep BEFORE UPDATE OF authorization_id, reference, amount_minor, captured_on ON card_captures
BEGIN SELECT RAISE(ABORT, 'what was captured never changes'); END;
CREATE TRIGGER card_captures_booked_once BEFORE UPDATE OF payment_id ON card_captures WHEN OLD.payment_id IS NOT NULL
BEGIN SELECT RAISE(ABORT, 'a capture is booked once'); END;
CREATE TRIGGER card_captures_paid_once BEFORE UPDATE OF payout_id ON card_captures WHEN OLD.payout_id IS NOT NULL
BEGIN SELECT RAISE(ABORT, 'a capture is paid out once'); END;
CREATE TRIGGER card_captures_stay BEFORE DELETE ON card_captures
BEGIN SELECT RAISE(ABORT, 'a capture is never deleted'); END;

-- What went back to a card: sent back by us, or taken back by its bank. Its number and entry come as it is booked.
CREATE TABLE card_returns (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    kind TEXT NOT NULL CHECK (kind IN ('refunded', 'charged_back')),
    capture_id INTEGER NOT NULL REFERENCES card_captures (id),
    reference TEXT NOT NULL UNIQUE,
    amount_minor INTEGER NOT NULL CHECK (amount_minor > 0),
    fee_minor INTEGER NOT NULL DEFAULT 0 CHECK (fee_minor >= 0),
    happened_on TEXT NOT NULL CHECK (happened_on = date(happened_on)),
    reason TEXT NOT NULL CHECK (length(reason) > 0),
    number TEXT UNIQUE,
    sequence INTEGER UNIQUE,
    posting_date TEXT CHECK (posting_date = date(posting_date)),
    -- What was carried of it, and what left card clearing, in base currency; the fee of a charge back with it.
    amount_base_minor INTEGER,
    cleared_base_minor INTEGER,
    entry_id INTEGER REFERENCES entries (id),
    payout_id INTEGER REFERENCES card_payouts (id),
    CHECK ((entry_id IS NULL) = (number IS NULL) AND (entry_id IS NULL) = (sequence IS NULL) AND (entry_id IS NULL) = (posting_date IS NULL)
           AND (entry_id IS NULL) = (amount_base_minor IS NULL) AND (entry_id IS NULL) = (cleared_base_minor IS NULL)),
    CHECK (payout_id IS NULL OR entry_id IS NOT NULL),
    CHECK (kind = 'charged_back' OR fee_minor = 0)
) STRICT;
CREATE INDEX card_returns_by_capture ON card_returns (capture_id);
CREATE INDEX card_returns_to_book ON card_returns (id) WHERE entry_id IS NULL;
CREATE TRIGGER card_returns_keep BEFORE UPDATE OF kind, capture_id, reference, amount_minor, fee_minor, happened_on, reason ON card_returns
BEGIN SELECT RAISE(ABORT, 'what went back to a card never changes'); END;
CREATE TRIGGER card_returns_booked_once BEFORE UPDATE OF number, sequence, posting_date, amount_base_minor, cleared_base_minor, entry_id
    ON card_returns WHEN OLD.entry_id IS NOT NULL
BEGIN SELECT RAISE(ABORT, 'what went back to a card is booked once'); END;
CREATE TRIGGER card_returns_paid_once BEFORE UPDATE OF payout_id ON card_returns WHEN OLD.payout_id IS NOT NULL
BEGIN SELECT RAISE(ABORT, 'what went back to a card goes with one payout'); END;
CREATE TRIGGER card_returns_stay BEFORE DELETE ON card_returns
BEGIN SELECT RAISE(ABORT, 'what went back to a card is never deleted'); END;

-- What the processor paid out, with its report. Number and entry come as it is booked.
CREATE TABLE card_payouts (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    reference TEXT NOT NULL UNIQUE,
    currency TEXT NOT NULL CHECK (length(currency) = 3),
    paid_on TEXT NOT NULL CHECK (paid_on = date(paid_on)),
    gross_minor INTEGER NOT NULL,
    fee_minor INTEGER NOT NULL,
    net_minor INTEGER NOT NULL,
    -- One by one: kind, reference, gross, fee.
    report TEXT NOT NULL CHECK (json_valid(report)),
    number TEXT UNIQUE,
    sequence INTEGER UNIQUE,
    method TEXT REFERENCES payment_methods (code),
    posting_date TEXT CHECK (posting_date = date(posting_date)),
    -- What left card clearing, as it was carried in base currency.
    cleared_base_minor INTEGER,
    entry_id INTEGER REFERENCES entries (id),
    CHECK ((entry_id IS NULL) = (number IS NULL) AND (entry_id IS NULL) = (sequence IS NULL) AND (entry_id IS NULL) = (method IS NULL)
           AND (entry_id IS NULL) = (posting_date IS NULL) AND (entry_id IS NULL) = (cleared_base_minor IS NULL))
) STRICT;
CREATE INDEX card_payouts_to_book ON card_payouts (id) WHERE entry_id IS NULL;
CREATE TRIGGER card_payouts_keep BEFORE UPDATE OF reference, currency, paid_on, gross_minor, fee_minor, net_minor, report ON card_payouts
BEGIN SELECT RAISE(ABORT, 'a payout never changes'); END;
CREATE TRIGGER card_payouts_booked_once BEFORE UPDATE OF number, sequence, method, posting_date, cleared_base_minor, entry_id ON card_payouts
WHEN OLD.entry_id IS NOT NULL
BEGIN SELECT RAISE(ABORT, 'a payout is booked once'); END;
CREATE TRIGGER card_payouts_stay BEFORE DELETE ON card_payouts
BEGIN SELECT RAISE(ABORT, 'a payout is never deleted'); END;

-- What is asked of the processor, written down before it is sent: without an answer it is asked again with its key.
CREATE TABLE card_calls (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    key TEXT NOT NULL UNIQUE CHECK (length(key) >= 8),
    authorization_id INTEGER NOT NULL REFERENCES card_authorizations (id),
    capture_id INTEGER REFERENCES card_captures (id),
    ask TEXT NOT NULL CHECK (json_valid(ask)),
    -- Why, of a refund.
    reason TEXT,
    asked_at TEXT NOT NULL,
    answer TEXT CHECK (answer IS NULL OR json_valid(answer))
) STRICT;
CREATE INDEX card_calls_by_authorization ON card_calls (authorization_id);
CREATE INDEX card_calls_open ON card_calls (id) WHERE answer IS NULL;
CREATE TRIGGER card_calls_keep BEFORE UPDATE OF key, authorization_id, capture_id, ask, reason, asked_at ON card_calls
BEGIN SELECT RAISE(ABORT, 'what was asked never changes'); END;
CREATE TRIGGER card_calls_answered_once BEFORE UPDATE OF answer ON card_calls WHEN OLD.answer IS NOT NULL
BEGIN SELECT RAISE(ABORT, 'what was asked is answered once'); END;

-- What the processor told by itself. The same notice twice is one; one that came too early waits for what it is about.
CREATE TABLE card_events (
    id TEXT PRIMARY KEY CHECK (length(id) > 0),
    notice TEXT NOT NULL CHECK (json_valid(notice)),
    came_at TEXT NOT NULL,
    outcome TEXT NOT NULL CHECK (outcome IN ('done', 'known', 'waits'))
) STRICT, WITHOUT ROWID;
CREATE INDEX card_events_waiting ON card_events (came_at) WHERE outcome = 'waits';

-- What goes back to a card stands against the receipt or the deposit it came with.
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
    kind TEXT NOT NULL CHECK (kind IN ('invoice', 'credit_memo', 'receipt', 'container_return', 'opening', 'deposit', 'deposit_end', 'card_return')),
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
