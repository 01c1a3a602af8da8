-- Goods come back that were shipped and not billed, and goods of which no document is known; what is in for repair is kept.

-- What a company asks of a return that points at no document: needed (none is authorized), warn, free.
ALTER TABLE company ADD COLUMN return_proof TEXT NOT NULL DEFAULT 'needed' CHECK (return_proof IN ('needed', 'warn', 'free'));
-- How much may come back: what the line billed, or all the customer ever bought of the item.
ALTER TABLE company ADD COLUMN return_limit TEXT NOT NULL DEFAULT 'line' CHECK (return_limit IN ('line', 'customer'));

DROP VIEW return_line_state;
DROP VIEW return_line_moves;
DROP VIEW return_repair_moves;
DROP VIEW return_goods_moves;
DROP VIEW return_step_moves;
DROP VIEW claim_moves;

CREATE TABLE return_steps_new (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    return_id INTEGER NOT NULL REFERENCES returns (id),
    -- Swapped: another item than was billed had gone; it came back and the right one went. For repair: it stays the customer's.
    -- Kept: what was in for repair is received after all.
    kind TEXT NOT NULL CHECK (kind IN ('received', 'inspected', 'replaced', 'swapped', 'for_repair', 'repaired', 'kept')),
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
-- As it was.
CREATE VIEW claim_moves AS
SELECT done.id AS claim_id, step.posting_date, done.claim_minor AS amount_minor
FROM return_step_lines AS done JOIN return_steps AS step ON step.id = done.step_id WHERE done.claim_minor > 0
UNION ALL
SELECT done.id, step.reversed_on, -done.claim_minor
FROM return_step_lines AS done JOIN return_steps AS step ON step.id = done.step_id WHERE done.claim_minor > 0 AND step.reversed_on IS NOT NULL
UNION ALL
SELECT claim_id, posting_date, -(settled_minor + refused_minor) FROM claim_answers
UNION ALL
SELECT claim_id, reversed_on, settled_minor + refused_minor FROM claim_answers WHERE reversed_on IS NOT NULL;
CREATE TRIGGER return_steps_keep BEFORE UPDATE OF id, return_id, kind, posting_date, note, entry_id ON return_steps
BEGIN SELECT RAISE(ABORT, 'a step of a return never changes; it is reversed'); END;
CREATE TRIGGER return_steps_reversed_once BEFORE UPDATE OF reversed_on, reversal_reason, reversal_entry_id ON return_steps
WHEN OLD.reversed_on IS NOT NULL
BEGIN SELECT RAISE(ABORT, 'a step of a return is reversed once'); END;
CREATE TRIGGER return_steps_stay BEFORE DELETE ON return_steps
BEGIN SELECT RAISE(ABORT, 'a step of a return is never deleted'); END;

CREATE TABLE return_lines_new (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    return_id INTEGER NOT NULL REFERENCES returns (id),
    position INTEGER NOT NULL,
    -- The line it was billed on: price, tax and cost come from there. NULL where it is not billed, or no document is known.
    document_line_id INTEGER REFERENCES document_lines (id),
    -- The line of the shipment, where it was not billed when the return was authorized. Once an invoice bills it, that counts.
    shipment_line_id INTEGER REFERENCES shipment_lines (id),
    item_id INTEGER NOT NULL REFERENCES items (id),
    -- In the unit it was sold in, with how many stock units that is.
    quantity_e4 INTEGER NOT NULL CHECK (quantity_e4 > 0),
    factor_e4 INTEGER NOT NULL CHECK (factor_e4 > 0),
    reason TEXT NOT NULL REFERENCES return_reasons (code),
    -- What is planned to become of it; NULL where inspection decides.
    disposition TEXT REFERENCES dispositions (code),
    -- Where no document is known: the price for one it is to be credited at, in the return's currency; what one cost, in base
    -- currency, where someone said so, and why.
    unit_price_e6 INTEGER CHECK (unit_price_e6 >= 0),
    unit_cost_minor INTEGER CHECK (unit_cost_minor >= 0),
    cost_reason TEXT CHECK ((cost_reason IS NULL) = (unit_cost_minor IS NULL)),
    UNIQUE (return_id, position),
    UNIQUE (return_id, document_line_id),
    UNIQUE (return_id, shipment_line_id),
    CHECK ((document_line_id IS NULL AND shipment_line_id IS NULL) = (unit_price_e6 IS NOT NULL)),
    CHECK (unit_cost_minor IS NULL OR unit_price_e6 IS NOT NULL)
) STRICT;
INSERT INTO return_lines_new (id, return_id, position, document_line_id, item_id, quantity_e4, factor_e4, reason, disposition)
SELECT id, return_id, position, document_line_id, item_id, quantity_e4, factor_e4, reason, disposition FROM return_lines ORDER BY id;
DROP TABLE return_lines;
ALTER TABLE return_lines_new RENAME TO return_lines;
CREATE INDEX return_lines_by_document_line ON return_lines (document_line_id) WHERE document_line_id IS NOT NULL;
CREATE INDEX return_lines_by_shipment_line ON return_lines (shipment_line_id) WHERE shipment_line_id IS NOT NULL;
CREATE INDEX return_lines_by_item ON return_lines (item_id);
CREATE TRIGGER return_lines_keep BEFORE UPDATE OF id, return_id, position, shipment_line_id, item_id, quantity_e4, factor_e4, reason, disposition,
    unit_price_e6, unit_cost_minor, cost_reason ON return_lines
BEGIN SELECT RAISE(ABORT, 'a line of a return never changes'); END;
CREATE TRIGGER return_lines_billed_once BEFORE UPDATE OF document_line_id ON return_lines
WHEN OLD.document_line_id IS NOT NULL OR OLD.shipment_line_id IS NULL OR NEW.document_line_id IS NULL
BEGIN SELECT RAISE(ABORT, 'a line of a return is billed once'); END;
CREATE TRIGGER return_lines_stay BEFORE DELETE ON return_lines
BEGIN SELECT RAISE(ABORT, 'a line of a return is never deleted'); END;

-- What a step brought to the inspection place is looked for by it.
CREATE INDEX inspection_layers_by_step ON inspection_layers (step_id);

-- What of a shipment line came back before it was billed: its quantity is the order's again. With what of its cost waited for
-- its billing, where it did, and waits no longer, in base currency; which each step says too.
ALTER TABLE shipment_lines ADD COLUMN returned_e4 INTEGER NOT NULL DEFAULT 0
    CHECK (returned_e4 >= 0 AND billed_e4 + drafted_e4 + unbilled_e4 + returned_e4 <= quantity_e4);
ALTER TABLE return_step_lines ADD COLUMN released_minor INTEGER NOT NULL DEFAULT 0 CHECK (released_minor >= 0);
ALTER TABLE shipment_lines ADD COLUMN returned_cost_minor INTEGER NOT NULL DEFAULT 0 CHECK (returned_cost_minor >= 0);

-- Where the goods of a line of a return are known from: the line that billed them, the line of a shipment that is not billed,
-- or no document at all.
CREATE VIEW return_origins AS
SELECT line.id AS return_line_id, line.return_id, line.document_line_id,
       coalesce(billed.shipment_line_id, line.shipment_line_id) AS shipment_line_id,
       CASE WHEN billed.id IS NOT NULL THEN 'invoice' WHEN sent.id IS NOT NULL THEN 'shipment' END AS document_kind,
       coalesce(billed.document_id, sent.shipment_id) AS document_id,
       coalesce(documents.number, shipments.number) AS number,
       coalesce(billed.position, sent.position) AS position,
       coalesce(billed.item_id, order_lines.item_id, line.item_id) AS sold_item_id,
       coalesce(billed.code, items.code) AS code,
       coalesce(billed.description, order_lines.description, items.name) AS description,
       coalesce(billed.unit, order_lines.unit, items.unit) AS unit,
       coalesce(billed.marks, order_lines.marks, '{}') AS marks,
       -- How much of it there is to come back, in the unit it was sold in: billed, unbilled, authorized.
       coalesce(billed.quantity_e4, sent.unbilled_e4, line.quantity_e4) AS sold_e4,
       -- From this day on it can be back.
       CASE WHEN billed.id IS NOT NULL THEN max(documents.posting_date, coalesce(shipments.posting_date, ''))
            ELSE coalesce(shipments.posting_date, returns.authorized_on) END AS left_on
FROM return_lines AS line JOIN returns ON returns.id = line.return_id JOIN items ON items.id = line.item_id
LEFT JOIN document_lines AS billed ON billed.id = line.document_line_id
LEFT JOIN documents ON documents.id = billed.document_id
LEFT JOIN shipment_lines AS sent ON sent.id = coalesce(billed.shipment_line_id, line.shipment_line_id)
LEFT JOIN shipments ON shipments.id = sent.shipment_id
LEFT JOIN order_lines ON order_lines.id = sent.order_line_id;

-- Goods of shipments that came back before they were billed, with the day a receipt was reversed on.
CREATE VIEW unbilled_returns AS
SELECT return_lines.shipment_line_id, return_lines.id AS return_line_id, done.quantity_e4, done.released_minor,
       step.posting_date, step.reversed_on
FROM return_lines JOIN return_step_lines AS done ON done.return_line_id = return_lines.id JOIN return_steps AS step ON step.id = done.step_id
WHERE return_lines.document_line_id IS NULL AND return_lines.shipment_line_id IS NOT NULL AND step.kind IN ('received', 'kept');

-- How far the lines of returns are. What follows from these quantities `till_core::returns::Progress` says.
CREATE VIEW return_line_state AS
SELECT return_lines.id, return_lines.return_id, return_lines.position, return_lines.document_line_id, return_lines.shipment_line_id,
       return_lines.item_id, return_lines.quantity_e4 AS authorized_e4, return_lines.factor_e4, return_lines.reason, return_lines.disposition,
       coalesce((SELECT sum(done.quantity_e4) FROM return_step_lines AS done JOIN return_steps AS step ON step.id = done.step_id
                 WHERE done.return_line_id = return_lines.id AND step.kind IN ('received', 'swapped', 'kept') AND step.reversed_on IS NULL), 0) AS received_e4,
       coalesce((SELECT sum(done.quantity_e4) FROM return_step_lines AS done JOIN return_steps AS step ON step.id = done.step_id
                 WHERE done.return_line_id = return_lines.id AND step.kind = 'inspected' AND step.reversed_on IS NULL), 0) AS sent_back_e4,
       coalesce((SELECT sum(done.quantity_e4) FROM return_step_lines AS done JOIN return_steps AS step ON step.id = done.step_id
                 WHERE done.return_line_id = return_lines.id AND step.kind IN ('replaced', 'swapped') AND step.reversed_on IS NULL), 0) AS replaced_e4,
       coalesce((SELECT sum(done.quantity_e4) FROM return_step_lines AS done JOIN return_steps AS step ON step.id = done.step_id
                 WHERE done.return_line_id = return_lines.id AND step.kind = 'for_repair' AND step.reversed_on IS NULL), 0) AS for_repair_e4,
       coalesce((SELECT sum(done.quantity_e4) FROM return_step_lines AS done JOIN return_steps AS step ON step.id = done.step_id
                 WHERE done.return_line_id = return_lines.id AND step.kind = 'repaired' AND step.reversed_on IS NULL), 0) AS repaired_e4,
       coalesce((SELECT sum(done.quantity_e4) FROM return_step_lines AS done JOIN return_steps AS step ON step.id = done.step_id
                 WHERE done.return_line_id = return_lines.id AND step.kind = 'kept' AND step.reversed_on IS NULL), 0) AS kept_e4,
       coalesce((SELECT -sum(credit.quantity_e4) FROM document_lines AS credit WHERE credit.return_line_id = return_lines.id), 0) AS credited_e4,
       -- What is not billed, and comes back, is settled with that: nothing is to be credited.
       CASE WHEN return_lines.document_line_id IS NULL AND return_lines.shipment_line_id IS NOT NULL
            THEN coalesce((SELECT sum(quantity_e4) FROM unbilled_returns WHERE return_line_id = return_lines.id AND reversed_on IS NULL), 0)
            ELSE 0 END AS given_back_e4,
       -- Waiting for inspection, in stock units, at cost.
       coalesce((SELECT sum(remaining_e4) FROM inspection_layers WHERE return_line_id = return_lines.id), 0) AS waiting_e4,
       coalesce((SELECT sum(remaining_cost_minor) FROM inspection_layers WHERE return_line_id = return_lines.id), 0) AS waiting_cost_minor
FROM return_lines;

-- Goods of a line, day by day, as the steps moved them: above zero where they came back, below where they went out again.
CREATE VIEW return_step_moves AS
SELECT return_line_id, posting_date, kind,
       CASE WHEN kind IN ('received', 'for_repair', 'kept') THEN done.quantity_e4 ELSE -done.quantity_e4 END AS quantity_e4
FROM return_step_lines AS done JOIN return_steps ON return_steps.id = step_id WHERE done.quantity_e4 <> 0 AND kind <> 'swapped'
UNION ALL
SELECT return_line_id, reversed_on, kind,
       CASE WHEN kind IN ('received', 'for_repair', 'kept') THEN -done.quantity_e4 ELSE done.quantity_e4 END
FROM return_step_lines AS done JOIN return_steps ON return_steps.id = step_id
WHERE done.quantity_e4 <> 0 AND kind <> 'swapped' AND reversed_on IS NOT NULL;

-- What the customer has less, day by day. What is kept was here already.
CREATE VIEW return_goods_moves AS SELECT return_line_id, posting_date, quantity_e4 FROM return_step_moves WHERE kind <> 'kept';

-- What came in for repair, and went back repaired or is kept, day by day.
CREATE VIEW return_repair_moves AS
SELECT return_line_id, posting_date, CASE kind WHEN 'kept' THEN -quantity_e4 ELSE quantity_e4 END AS quantity_e4
FROM return_step_moves WHERE kind IN ('for_repair', 'repaired', 'kept');

-- What came back of a line and was settled with the customer, day by day: credited, replaced, sent back. Nothing is to be
-- settled of what was not billed.
CREATE VIEW return_line_moves AS
SELECT return_line_id, posting_date, return_step_moves.quantity_e4
FROM return_step_moves JOIN return_lines ON return_lines.id = return_line_id
WHERE kind NOT IN ('for_repair', 'repaired') AND NOT (document_line_id IS NULL AND shipment_line_id IS NOT NULL)
UNION ALL
SELECT credit.return_line_id, memo.posting_date, credit.quantity_e4
FROM document_lines AS credit JOIN documents AS memo ON memo.id = credit.document_id WHERE credit.return_line_id IS NOT NULL;
