-- Deposits made of money that lay unapplied, and ends of deposits that were taken back.

-- The open item a deposit was made of; NULL where its money came in with it.
ALTER TABLE deposits ADD COLUMN turned_from INTEGER REFERENCES open_items (id);
CREATE INDEX deposits_by_origin ON deposits (turned_from) WHERE turned_from IS NOT NULL;
DROP TRIGGER deposits_keep;
CREATE TRIGGER deposits_keep BEFORE UPDATE OF id, regime, memo, tape, turned_from ON deposits
BEGIN SELECT RAISE(ABORT, 'a deposit never changes; it is moved to another order'); END;

-- A refund that was never sent, a part that was kept in error.
ALTER TABLE deposit_ends ADD COLUMN reversed_on TEXT
    CHECK (reversed_on IS NULL OR (reversed_on = date(reversed_on) AND reversed_on >= posting_date));
ALTER TABLE deposit_ends ADD COLUMN reversal_reason TEXT CHECK ((reversal_reason IS NULL) = (reversed_on IS NULL));
ALTER TABLE deposit_ends ADD COLUMN reversal_entry_id INTEGER REFERENCES entries (id)
    CHECK ((reversal_entry_id IS NULL) = (reversed_on IS NULL));
DROP TRIGGER deposit_ends_keep;
CREATE TRIGGER deposit_ends_keep BEFORE UPDATE OF id, number, sequence, deposit_id, kind, method, place, posting_date, amount_minor,
    amount_base_minor, paid_base_minor, reason, entry_id ON deposit_ends
BEGIN SELECT RAISE(ABORT, 'the end of a deposit never changes'); END;
CREATE TRIGGER deposit_ends_reversed_once BEFORE UPDATE OF reversed_on, reversal_reason, reversal_entry_id ON deposit_ends
WHEN OLD.reversed_on IS NOT NULL
BEGIN SELECT RAISE(ABORT, 'the end of a deposit is reversed once'); END;
