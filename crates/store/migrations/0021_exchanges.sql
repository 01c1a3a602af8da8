-- What else is done with the goods of a return: a wrong item that went is put right, goods come in for repair and go back.

DROP VIEW return_line_state;
DROP VIEW return_line_moves;
DROP VIEW return_goods_moves;

CREATE TABLE return_steps_new (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    return_id INTEGER NOT NULL REFERENCES returns (id),
    -- Swapped: another item than was billed had gone; it came back and the right one went. For repair: it stays the customer's.
    kind TEXT NOT NULL CHECK (kind IN ('received', 'inspected', 'replaced', 'swapped', 'for_repair', 'repaired')),
    posting_date TEXT NOT NULL CHECK (posting_date = date(posting_date)),
    note TEXT CHECK (length(note) > 0),
    -- NULL where it cost nothing. Of a step that is posted with a document, the entry of that.
    entry_id INTEGER REFERENCES entries (id),
    reversed_on TEXT CHECK (reversed_on IS NULL OR (reversed_on = date(reversed_on) AND reversed_on >= posting_date)),
    reversal_reason TEXT CHECK ((reversal_reason IS NULL) = (reversed_on IS NULL)),
    reversal_entry_id INTEGER REFERENCES entries (id),
    CHECK (reversal_entry_id IS NULL OR reversed_on IS NOT NULL)
) STRICT;
INSERT INTO return_steps_new (id, return_id, kind, posting_date, note, entry_id, reversed_on, reversal_reason, reversal_entry_id)
SELECT id, return_id, kind, posting_date, note, entry_id, reversed_on, reversal_reason, reversal_entry_id FROM return_steps ORDER BY id;
DROP TABLE return_steps;
ALTER TABLE return_steps_new RENAME TO return_steps;
CREATE INDEX return_steps_by_return ON return_steps (return_id, id);
CREATE TRIGGER return_steps_keep BEFORE UPDATE OF id, return_id, kind, posting_date, note, entry_id ON return_steps
BEGIN SELECT RAISE(ABORT, 'a step of a return never changes; it is reversed'); END;
CREATE TRIGGER return_steps_reversed_once BEFORE UPDATE OF reversed_on, reversal_reason, reversal_entry_id ON return_steps
WHEN OLD.reversed_on IS NOT NULL
BEGIN SELECT RAISE(ABORT, 'a step of a return is reversed once'); END;
CREATE TRIGGER return_steps_stay BEFORE DELETE ON return_steps
BEGIN SELECT RAISE(ABORT, 'a step of a return is never deleted'); END;

-- How far the lines of returns are. What follows from these quantities `till_core::returns::Progress` says.
CREATE VIEW return_line_state AS
SELECT return_lines.id, return_lines.return_id, return_lines.position, return_lines.document_line_id, return_lines.item_id,
       return_lines.quantity_e4 AS authorized_e4, return_lines.factor_e4, return_lines.reason, return_lines.disposition,
       coalesce((SELECT sum(done.quantity_e4) FROM return_step_lines AS done JOIN return_steps AS step ON step.id = done.step_id
                 WHERE done.return_line_id = return_lines.id AND step.kind IN ('received', 'swapped') AND step.reversed_on IS NULL), 0) AS received_e4,
       coalesce((SELECT sum(done.quantity_e4) FROM return_step_lines AS done JOIN return_steps AS step ON step.id = done.step_id
                 WHERE done.return_line_id = return_lines.id AND step.kind = 'inspected' AND step.reversed_on IS NULL), 0) AS sent_back_e4,
       coalesce((SELECT sum(done.quantity_e4) FROM return_step_lines AS done JOIN return_steps AS step ON step.id = done.step_id
                 WHERE done.return_line_id = return_lines.id AND step.kind IN ('replaced', 'swapped') AND step.reversed_on IS NULL), 0) AS replaced_e4,
       coalesce((SELECT sum(done.quantity_e4) FROM return_step_lines AS done JOIN return_steps AS step ON step.id = done.step_id
                 WHERE done.return_line_id = return_lines.id AND step.kind = 'for_repair' AND step.reversed_on IS NULL), 0) AS for_repair_e4,
       coalesce((SELECT sum(done.quantity_e4) FROM return_step_lines AS done JOIN return_steps AS step ON step.id = done.step_id
                 WHERE done.return_line_id = return_lines.id AND step.kind = 'repaired' AND step.reversed_on IS NULL), 0) AS repaired_e4,
       coalesce((SELECT -sum(credit.quantity_e4) FROM document_lines AS credit WHERE credit.return_line_id = return_lines.id), 0) AS credited_e4,
       -- Waiting for inspection, in stock units, at cost.
       coalesce((SELECT sum(remaining_e4) FROM inspection_layers WHERE return_line_id = return_lines.id), 0) AS waiting_e4,
       coalesce((SELECT sum(remaining_cost_minor) FROM inspection_layers WHERE return_line_id = return_lines.id), 0) AS waiting_cost_minor
FROM return_lines;

-- Goods of a line, day by day, as the steps moved them: above zero where they came back, below where they went out again.
CREATE VIEW return_step_moves AS
SELECT return_line_id, posting_date, kind,
       CASE WHEN kind IN ('received', 'for_repair') THEN done.quantity_e4 ELSE -done.quantity_e4 END AS quantity_e4
FROM return_step_lines AS done JOIN return_steps ON return_steps.id = step_id WHERE done.quantity_e4 <> 0 AND kind <> 'swapped'
UNION ALL
SELECT return_line_id, reversed_on, kind,
       CASE WHEN kind IN ('received', 'for_repair') THEN -done.quantity_e4 ELSE done.quantity_e4 END
FROM return_step_lines AS done JOIN return_steps ON return_steps.id = step_id
WHERE done.quantity_e4 <> 0 AND kind <> 'swapped' AND reversed_on IS NOT NULL;

-- What the customer has less, day by day.
CREATE VIEW return_goods_moves AS SELECT return_line_id, posting_date, quantity_e4 FROM return_step_moves;

-- What came back of a line and was settled with the customer, day by day: credited, replaced, sent back.
CREATE VIEW return_line_moves AS
SELECT return_line_id, posting_date, quantity_e4 FROM return_step_moves WHERE kind NOT IN ('for_repair', 'repaired')
UNION ALL
SELECT credit.return_line_id, memo.posting_date, credit.quantity_e4
FROM document_lines AS credit JOIN documents AS memo ON memo.id = credit.document_id WHERE credit.return_line_id IS NOT NULL;

-- What came in for repair and went back repaired, day by day.
CREATE VIEW return_repair_moves AS
SELECT return_line_id, posting_date, quantity_e4 FROM return_step_moves WHERE kind IN ('for_repair', 'repaired');

-- What is expected to come back of what was billed: each row the estimate as it stands from its day on, with what it changed.
CREATE TABLE expected_returns (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    number TEXT NOT NULL UNIQUE,
    sequence INTEGER NOT NULL UNIQUE,
    -- What was billed between these days, and not credited, in base currency.
    from_date TEXT NOT NULL CHECK (from_date = date(from_date)),
    posting_date TEXT NOT NULL CHECK (posting_date = date(posting_date) AND posting_date >= from_date),
    billed_net_minor INTEGER NOT NULL,
    billed_cost_minor INTEGER NOT NULL,
    share_e6 INTEGER NOT NULL CHECK (share_e6 BETWEEN 0 AND 1000000),
    -- What is expected back, net and at cost.
    net_minor INTEGER NOT NULL,
    cost_minor INTEGER NOT NULL,
    -- What that is more than the estimate before.
    more_net_minor INTEGER NOT NULL,
    more_cost_minor INTEGER NOT NULL,
    entry_id INTEGER NOT NULL REFERENCES entries (id)
) STRICT;
CREATE TRIGGER expected_returns_keep BEFORE UPDATE ON expected_returns
BEGIN SELECT RAISE(ABORT, 'an estimate never changes; another follows'); END;
CREATE TRIGGER expected_returns_stay BEFORE DELETE ON expected_returns
BEGIN SELECT RAISE(ABORT, 'an estimate is never deleted'); END;
INSERT INTO number_ranges (kind, prefix, first, next) SELECT 'estimate', 'XR-', 1, 1 FROM company;
