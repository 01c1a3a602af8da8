-- Bank deposit slips; checks that came back with a fee.

-- Whose account a line came from follows from the receipts that were made of its lines.
DROP TABLE payer_accounts;
CREATE INDEX bank_lines_by_account ON bank_lines (party_account) WHERE party_account IS NOT NULL;

CREATE TABLE bank_slips (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    number TEXT NOT NULL UNIQUE,
    sequence INTEGER NOT NULL UNIQUE,
    -- The bank account it goes to.
    bank TEXT NOT NULL REFERENCES money_places (code),
    currency TEXT NOT NULL CHECK (length(currency) = 3),
    prepared_on TEXT NOT NULL CHECK (prepared_on = date(prepared_on)),
    -- What stands on it.
    amount_minor INTEGER NOT NULL CHECK (amount_minor > 0),
    amount_base_minor INTEGER NOT NULL,
    -- Once the bank took it: what it counted.
    banked_on TEXT CHECK (banked_on = date(banked_on)),
    counted_minor INTEGER CHECK (counted_minor > 0),
    counted_base_minor INTEGER,
    entry_id INTEGER REFERENCES entries (id),
    canceled_on TEXT CHECK (canceled_on = date(canceled_on)),
    cancel_reason TEXT,
    cancel_entry_id INTEGER REFERENCES entries (id),
    version INTEGER NOT NULL DEFAULT 1,
    CHECK ((banked_on IS NULL) = (counted_minor IS NULL) AND (banked_on IS NULL) = (counted_base_minor IS NULL) AND (banked_on IS NULL) = (entry_id IS NULL)),
    CHECK ((canceled_on IS NULL) = (cancel_reason IS NULL)),
    CHECK (cancel_entry_id IS NULL OR (canceled_on IS NOT NULL AND entry_id IS NOT NULL))
) STRICT;
CREATE INDEX bank_slips_waiting ON bank_slips (id) WHERE banked_on IS NULL AND canceled_on IS NULL;
CREATE UNIQUE INDEX bank_slips_by_entry ON bank_slips (entry_id) WHERE entry_id IS NOT NULL;
CREATE TRIGGER bank_slips_keep BEFORE UPDATE OF number, sequence, bank, currency, prepared_on, amount_minor, amount_base_minor ON bank_slips
BEGIN SELECT RAISE(ABORT, 'a bank deposit slip never changes'); END;
CREATE TRIGGER bank_slips_banked_once BEFORE UPDATE OF banked_on, counted_minor, counted_base_minor, entry_id ON bank_slips
WHEN OLD.banked_on IS NOT NULL OR OLD.canceled_on IS NOT NULL
BEGIN SELECT RAISE(ABORT, 'a bank deposit slip is banked once'); END;
CREATE TRIGGER bank_slips_canceled_once BEFORE UPDATE OF canceled_on, cancel_reason, cancel_entry_id ON bank_slips
WHEN OLD.canceled_on IS NOT NULL
BEGIN SELECT RAISE(ABORT, 'a bank deposit slip is canceled once'); END;
CREATE TRIGGER bank_slips_stay BEFORE DELETE ON bank_slips
BEGIN SELECT RAISE(ABORT, 'a bank deposit slip is never deleted'); END;

-- What stands on a slip: the entry that brought it in hand, or took it out.
CREATE TABLE bank_slip_lines (
    slip_id INTEGER NOT NULL REFERENCES bank_slips (id),
    position INTEGER NOT NULL,
    entry_id INTEGER NOT NULL REFERENCES entries (id),
    place TEXT NOT NULL REFERENCES money_places (code),
    kind TEXT NOT NULL,
    document_id INTEGER NOT NULL,
    number TEXT NOT NULL,
    amount_minor INTEGER NOT NULL CHECK (amount_minor <> 0),
    amount_base_minor INTEGER NOT NULL,
    -- Until the slip is canceled.
    live INTEGER NOT NULL DEFAULT 1 CHECK (live IN (0, 1)),
    PRIMARY KEY (slip_id, position)
) STRICT, WITHOUT ROWID;
CREATE UNIQUE INDEX bank_slip_lines_once ON bank_slip_lines (entry_id) WHERE live;
CREATE TRIGGER bank_slip_lines_keep BEFORE UPDATE OF slip_id, position, entry_id, place, kind, document_id, number, amount_minor, amount_base_minor ON bank_slip_lines
BEGIN SELECT RAISE(ABORT, 'what stands on a bank deposit slip never changes'); END;
CREATE TRIGGER bank_slip_lines_stay BEFORE DELETE ON bank_slip_lines
BEGIN SELECT RAISE(ABORT, 'what stands on a bank deposit slip is never deleted'); END;

-- What the bank took for a check that came back, with it; in the currency of the account, and in base currency.
ALTER TABLE payments ADD COLUMN fee_minor INTEGER NOT NULL DEFAULT 0 CHECK (fee_minor >= 0);
ALTER TABLE payments ADD COLUMN fee_base_minor INTEGER NOT NULL DEFAULT 0 CHECK (fee_base_minor >= 0);

-- Everything that came to a place of money, or left it. What was banked and came back left the bank, not the place.
CREATE VIEW place_moves AS
SELECT place, posting_date AS day, amount_minor, amount_base_minor AS base_minor, currency, entry_id, NULL AS back_of,
       kind, id AS document_id, number, customer_id, reference
FROM payments WHERE place IS NOT NULL
UNION ALL
SELECT place, reversed_on, -amount_minor, -amount_base_minor, currency, reversal_entry_id, entry_id, kind, id, number, customer_id, reference
FROM payments
WHERE place IS NOT NULL AND reversed_on IS NOT NULL AND NOT EXISTS (
    SELECT 1 FROM bank_slip_lines JOIN bank_slips ON bank_slips.id = slip_id
    WHERE bank_slip_lines.entry_id = payments.entry_id AND live AND banked_on IS NOT NULL)
UNION ALL
SELECT deposit_ends.place, deposit_ends.posting_date, -deposit_ends.amount_minor, -paid_base_minor, payments.currency, deposit_ends.entry_id, NULL,
       'deposit_end', deposit_ends.id, deposit_ends.number, customer_id, NULL
FROM deposit_ends JOIN payments ON payments.id = deposit_id WHERE deposit_ends.place IS NOT NULL
UNION ALL
SELECT deposit_ends.place, deposit_ends.reversed_on, deposit_ends.amount_minor, paid_base_minor, payments.currency, deposit_ends.reversal_entry_id,
       deposit_ends.entry_id, 'deposit_end', deposit_ends.id, deposit_ends.number, customer_id, NULL
FROM deposit_ends JOIN payments ON payments.id = deposit_id WHERE deposit_ends.place IS NOT NULL AND deposit_ends.reversed_on IS NOT NULL
UNION ALL
SELECT place, refunds.posting_date, -refunds.amount_minor, -paid_base_minor, open_items.currency, entry_id, NULL, 'refund', refunds.id, refunds.number,
       customer_id, NULL
FROM refunds JOIN open_items ON open_items.id = item_id
UNION ALL
SELECT place, reversed_on, refunds.amount_minor, paid_base_minor, open_items.currency, reversal_entry_id, entry_id, 'refund', refunds.id, refunds.number,
       customer_id, NULL
FROM refunds JOIN open_items ON open_items.id = item_id WHERE reversed_on IS NOT NULL
UNION ALL
SELECT place, banked_on, -bank_slip_lines.amount_minor, -bank_slip_lines.amount_base_minor, currency, bank_slips.entry_id, NULL, 'bank_slip', slip_id,
       bank_slips.number, NULL, NULL
FROM bank_slip_lines JOIN bank_slips ON bank_slips.id = slip_id WHERE banked_on IS NOT NULL
UNION ALL
SELECT place, canceled_on, bank_slip_lines.amount_minor, bank_slip_lines.amount_base_minor, currency, cancel_entry_id, bank_slips.entry_id, 'bank_slip',
       slip_id, bank_slips.number, NULL, NULL
FROM bank_slip_lines JOIN bank_slips ON bank_slips.id = slip_id WHERE cancel_entry_id IS NOT NULL;

INSERT INTO number_ranges (kind, prefix, first, next) SELECT 'bank_slip', 'DS-', 1, 1 FROM company;
