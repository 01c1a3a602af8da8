-- What a customer will not pay of an open item, and who looks after it.
CREATE TABLE disputes (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    item_id INTEGER NOT NULL REFERENCES open_items (id),
    -- How much of it, in its currency.
    amount_minor INTEGER NOT NULL CHECK (amount_minor > 0),
    reason TEXT NOT NULL CHECK (reason IN ('price', 'quantity', 'damaged', 'not_received', 'deduction', 'other')),
    words TEXT NOT NULL,
    owner_id INTEGER REFERENCES people (id),
    opened_on TEXT NOT NULL CHECK (opened_on = date(opened_on)),
    closed_on TEXT CHECK (closed_on = date(closed_on)),
    outcome TEXT,
    version INTEGER NOT NULL DEFAULT 1,
    CHECK ((closed_on IS NULL) = (outcome IS NULL))
) STRICT;
CREATE UNIQUE INDEX disputes_once ON disputes (item_id) WHERE closed_on IS NULL;
CREATE TRIGGER disputes_keep BEFORE UPDATE OF item_id, opened_on ON disputes
BEGIN SELECT RAISE(ABORT, 'what a dispute is about never changes'); END;
CREATE TRIGGER disputes_closed_once BEFORE UPDATE OF closed_on, outcome ON disputes WHEN OLD.closed_on IS NOT NULL
BEGIN SELECT RAISE(ABORT, 'a dispute is closed once'); END;
CREATE TRIGGER disputes_stay BEFORE DELETE ON disputes
BEGIN SELECT RAISE(ABORT, 'a dispute is never deleted; it is closed'); END;
