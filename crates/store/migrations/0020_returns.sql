-- Returns: what a customer may send back, what of it arrived, what became of it.

ALTER TABLE company ADD COLUMN return_days INTEGER NOT NULL DEFAULT 60 CHECK (return_days BETWEEN 1 AND 730);

-- Why goods come back, as the company says it.
CREATE TABLE return_reasons (
    code TEXT PRIMARY KEY,
    name TEXT NOT NULL CHECK (length(name) > 0),
    position INTEGER NOT NULL,
    active INTEGER NOT NULL DEFAULT 1 CHECK (active IN (0, 1))
) STRICT, WITHOUT ROWID;
INSERT INTO return_reasons (code, name, position) VALUES
    ('DAMAGED', 'Damaged in transit', 1), ('FAULTY', 'Faulty', 2), ('WRONG', 'Wrong item sent', 3), ('SURPLUS', 'More sent than ordered', 4),
    ('ERROR', 'Ordered in error', 5), ('UNWANTED', 'Not needed any more', 6);

-- What becomes of returned goods, as the company calls it; several may have the same outcome.
CREATE TABLE dispositions (
    code TEXT PRIMARY KEY,
    name TEXT NOT NULL CHECK (length(name) > 0),
    outcome TEXT NOT NULL CHECK (outcome IN ('restock', 'scrap', 'supplier', 'send_back')),
    position INTEGER NOT NULL,
    active INTEGER NOT NULL DEFAULT 1 CHECK (active IN (0, 1))
) STRICT, WITHOUT ROWID;
INSERT INTO dispositions (code, name, outcome, position) VALUES
    ('RESTOCK', 'Restock', 'restock', 1), ('SCRAP', 'Scrap', 'scrap', 2), ('SUPPLIER', 'Back to the supplier', 'supplier', 3),
    ('REJECT', 'Rejected, back to the customer', 'send_back', 4);

INSERT INTO number_ranges (kind, prefix, first, next) SELECT 'return', 'RA-', 1, 1 FROM company;

CREATE TABLE returns (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    number TEXT NOT NULL UNIQUE,
    sequence INTEGER NOT NULL UNIQUE,
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    authorized_on TEXT NOT NULL CHECK (authorized_on = date(authorized_on)),
    -- The last day it may arrive on.
    expires_on TEXT NOT NULL CHECK (expires_on = date(expires_on)),
    -- Where it is to arrive.
    warehouse TEXT NOT NULL REFERENCES warehouses (code),
    -- Of the invoices its lines point at.
    currency TEXT NOT NULL CHECK (length(currency) = 3),
    -- What the customer calls it: their claim, their debit note.
    reference TEXT CHECK (length(reference) > 0),
    note TEXT CHECK (length(note) > 0),
    -- Given up: nothing more arrives on it.
    closed_on TEXT CHECK (closed_on = date(closed_on)),
    closed_reason TEXT CHECK ((closed_reason IS NULL) = (closed_on IS NULL)),
    version INTEGER NOT NULL DEFAULT 1
) STRICT;
CREATE INDEX returns_by_customer ON returns (customer_id, id);
CREATE TRIGGER returns_keep BEFORE UPDATE OF id, number, sequence, customer_id, authorized_on, currency ON returns
BEGIN SELECT RAISE(ABORT, 'a return never changes; it is extended or closed'); END;
CREATE TRIGGER returns_stay BEFORE DELETE ON returns
BEGIN SELECT RAISE(ABORT, 'a return is never deleted'); END;

CREATE TABLE return_lines (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    return_id INTEGER NOT NULL REFERENCES returns (id),
    position INTEGER NOT NULL,
    -- The line it was billed on: price, tax and cost come from there.
    document_line_id INTEGER NOT NULL REFERENCES document_lines (id),
    item_id INTEGER NOT NULL REFERENCES items (id),
    -- In the unit it was sold in, with how many stock units that is.
    quantity_e4 INTEGER NOT NULL CHECK (quantity_e4 > 0),
    factor_e4 INTEGER NOT NULL CHECK (factor_e4 > 0),
    reason TEXT NOT NULL REFERENCES return_reasons (code),
    -- What is planned to become of it; NULL where inspection decides.
    disposition TEXT REFERENCES dispositions (code),
    UNIQUE (return_id, position),
    UNIQUE (return_id, document_line_id)
) STRICT;
CREATE INDEX return_lines_by_document_line ON return_lines (document_line_id);
CREATE INDEX return_lines_by_item ON return_lines (item_id);
CREATE TRIGGER return_lines_keep BEFORE UPDATE ON return_lines
BEGIN SELECT RAISE(ABORT, 'a line of a return never changes'); END;
CREATE TRIGGER return_lines_stay BEFORE DELETE ON return_lines
BEGIN SELECT RAISE(ABORT, 'a line of a return is never deleted'); END;

-- What was done with the goods: received, inspected, replaced at no charge.
CREATE TABLE return_steps (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    return_id INTEGER NOT NULL REFERENCES returns (id),
    kind TEXT NOT NULL CHECK (kind IN ('received', 'inspected', 'replaced')),
    posting_date TEXT NOT NULL CHECK (posting_date = date(posting_date)),
    note TEXT CHECK (length(note) > 0),
    -- NULL where it cost nothing.
    entry_id INTEGER REFERENCES entries (id),
    reversed_on TEXT CHECK (reversed_on IS NULL OR (reversed_on = date(reversed_on) AND reversed_on >= posting_date)),
    reversal_reason TEXT CHECK ((reversal_reason IS NULL) = (reversed_on IS NULL)),
    reversal_entry_id INTEGER REFERENCES entries (id),
    CHECK (reversal_entry_id IS NULL OR reversed_on IS NOT NULL)
) STRICT;
CREATE INDEX return_steps_by_return ON return_steps (return_id, id);
CREATE TRIGGER return_steps_keep BEFORE UPDATE OF id, return_id, kind, posting_date, note, entry_id ON return_steps
BEGIN SELECT RAISE(ABORT, 'a step of a return never changes; it is reversed'); END;
CREATE TRIGGER return_steps_reversed_once BEFORE UPDATE OF reversed_on, reversal_reason, reversal_entry_id ON return_steps
WHEN OLD.reversed_on IS NOT NULL
BEGIN SELECT RAISE(ABORT, 'a step of a return is reversed once'); END;
CREATE TRIGGER return_steps_stay BEFORE DELETE ON return_steps
BEGIN SELECT RAISE(ABORT, 'a step of a return is never deleted'); END;

CREATE TABLE return_step_lines (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    step_id INTEGER NOT NULL REFERENCES return_steps (id),
    return_line_id INTEGER NOT NULL REFERENCES return_lines (id),
    -- In the unit it was sold in: received, replaced, or sent back to the customer; zero for all else that inspection decides.
    quantity_e4 INTEGER NOT NULL CHECK (quantity_e4 >= 0),
    -- In stock units.
    stock_e4 INTEGER NOT NULL CHECK (stock_e4 > 0),
    cost_minor INTEGER NOT NULL CHECK (cost_minor >= 0),
    -- What became of it, where it was inspected.
    disposition TEXT REFERENCES dispositions (code),
    outcome TEXT CHECK ((outcome IS NULL) = (disposition IS NULL)),
    -- What the supplier is to credit for it.
    claim_minor INTEGER NOT NULL DEFAULT 0 CHECK (claim_minor >= 0),
    CHECK (outcome IS NULL OR (outcome = 'send_back') = (quantity_e4 > 0)),
    CHECK (claim_minor = 0 OR outcome = 'supplier')
) STRICT;
CREATE INDEX return_step_lines_by_step ON return_step_lines (step_id);
CREATE INDEX return_step_lines_by_line ON return_step_lines (return_line_id);
CREATE TRIGGER return_step_lines_keep BEFORE UPDATE ON return_step_lines
BEGIN SELECT RAISE(ABORT, 'a step of a return never changes; it is reversed'); END;
CREATE TRIGGER return_step_lines_stay BEFORE DELETE ON return_step_lines
BEGIN SELECT RAISE(ABORT, 'a step of a return is never deleted'); END;

-- The inspection place: what came back and waits, at the cost it left with. Nothing of it is for sale.
CREATE TABLE inspection_layers (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    step_id INTEGER NOT NULL REFERENCES return_steps (id),
    return_line_id INTEGER NOT NULL REFERENCES return_lines (id),
    item_id INTEGER NOT NULL REFERENCES items (id),
    warehouse TEXT NOT NULL REFERENCES warehouses (code),
    posting_date TEXT NOT NULL CHECK (posting_date = date(posting_date)),
    quantity_e4 INTEGER NOT NULL CHECK (quantity_e4 > 0),
    cost_minor INTEGER NOT NULL CHECK (cost_minor >= 0),
    remaining_e4 INTEGER NOT NULL CHECK (remaining_e4 BETWEEN 0 AND quantity_e4),
    remaining_cost_minor INTEGER NOT NULL CHECK (remaining_cost_minor BETWEEN 0 AND cost_minor),
    CHECK (remaining_e4 > 0 OR remaining_cost_minor = 0)
) STRICT;
CREATE INDEX inspection_layers_by_line ON inspection_layers (return_line_id);
CREATE INDEX inspection_layers_left ON inspection_layers (warehouse, item_id) WHERE remaining_e4 > 0;
CREATE TRIGGER inspection_layers_keep BEFORE UPDATE OF id, step_id, return_line_id, item_id, warehouse, posting_date, quantity_e4, cost_minor
ON inspection_layers
BEGIN SELECT RAISE(ABORT, 'what came to the inspection place never changes'); END;

CREATE TABLE inspection_moves (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    layer_id INTEGER NOT NULL REFERENCES inspection_layers (id),
    step_id INTEGER NOT NULL REFERENCES return_steps (id),
    posting_date TEXT NOT NULL CHECK (posting_date = date(posting_date)),
    -- What left; negative where a step was reversed.
    quantity_e4 INTEGER NOT NULL CHECK (quantity_e4 <> 0),
    cost_minor INTEGER NOT NULL
) STRICT;
CREATE INDEX inspection_moves_by_layer ON inspection_moves (layer_id, posting_date);
CREATE INDEX inspection_moves_by_step ON inspection_moves (step_id);
CREATE TRIGGER inspection_moves_keep BEFORE UPDATE ON inspection_moves
BEGIN SELECT RAISE(ABORT, 'a stock move never changes'); END;
CREATE TRIGGER inspection_moves_stay BEFORE DELETE ON inspection_moves
BEGIN SELECT RAISE(ABORT, 'a stock move is never deleted'); END;

-- Which step restocked a layer, and what left stock with a step: a replacement, or restocked goods that were none.
ALTER TABLE stock_layers ADD COLUMN return_step_id INTEGER REFERENCES return_steps (id);
CREATE INDEX stock_layers_by_return_step ON stock_layers (return_step_id) WHERE return_step_id IS NOT NULL;

CREATE TABLE stock_moves_new (
    id INTEGER PRIMARY KEY,
    layer_id INTEGER NOT NULL REFERENCES stock_layers (id),
    posting_date TEXT NOT NULL CHECK (posting_date = date(posting_date)),
    -- What it leaves with; negative where it goes back.
    shipment_line_id INTEGER REFERENCES shipment_lines (id),
    adjustment_id INTEGER REFERENCES stock_adjustments (id),
    document_line_id INTEGER REFERENCES document_lines (id),
    intake_id INTEGER REFERENCES stock_layers (id),
    return_step_id INTEGER REFERENCES return_steps (id),
    quantity_e4 INTEGER NOT NULL CHECK (quantity_e4 <> 0),
    cost_minor INTEGER NOT NULL,
    CHECK ((shipment_line_id IS NOT NULL) + (adjustment_id IS NOT NULL) + (document_line_id IS NOT NULL) + (intake_id IS NOT NULL)
           + (return_step_id IS NOT NULL) = 1),
    CHECK (quantity_e4 > 0 OR (adjustment_id IS NULL AND intake_id IS NULL)),
    CHECK (intake_id IS NULL OR intake_id = layer_id)
) STRICT;
INSERT INTO stock_moves_new (id, layer_id, posting_date, shipment_line_id, adjustment_id, document_line_id, intake_id, quantity_e4, cost_minor)
SELECT id, layer_id, posting_date, shipment_line_id, adjustment_id, document_line_id, intake_id, quantity_e4, cost_minor FROM stock_moves ORDER BY id;
DROP TABLE stock_moves;
ALTER TABLE stock_moves_new RENAME TO stock_moves;
CREATE INDEX stock_moves_by_layer ON stock_moves (layer_id, posting_date);
CREATE INDEX stock_moves_by_line ON stock_moves (shipment_line_id) WHERE shipment_line_id IS NOT NULL;
CREATE INDEX stock_moves_by_document_line ON stock_moves (document_line_id) WHERE document_line_id IS NOT NULL;
CREATE INDEX stock_moves_by_return_step ON stock_moves (return_step_id) WHERE return_step_id IS NOT NULL;
CREATE TRIGGER stock_moves_keep BEFORE UPDATE ON stock_moves
BEGIN SELECT RAISE(ABORT, 'a stock move never changes'); END;
CREATE TRIGGER stock_moves_stay BEFORE DELETE ON stock_moves
BEGIN SELECT RAISE(ABORT, 'a stock move is never deleted'); END;

-- The line of a return that the goods of a credited line came back on; NULL where they stay with the customer.
ALTER TABLE document_lines ADD COLUMN return_line_id INTEGER REFERENCES return_lines (id);
CREATE INDEX document_lines_by_return_line ON document_lines (return_line_id) WHERE return_line_id IS NOT NULL;
-- A view keeps the columns its table had when it was made.
DROP VIEW invoice_lines;
CREATE VIEW invoice_lines AS SELECT document_lines.*, document_id AS invoice_id FROM document_lines WHERE credits_line_id IS NULL;

-- How far the lines of returns are. What follows from these quantities `till_core::returns::Progress` says.
CREATE VIEW return_line_state AS
SELECT return_lines.id, return_lines.return_id, return_lines.position, return_lines.document_line_id, return_lines.item_id,
       return_lines.quantity_e4 AS authorized_e4, return_lines.factor_e4, return_lines.reason, return_lines.disposition,
       coalesce((SELECT sum(done.quantity_e4) FROM return_step_lines AS done JOIN return_steps AS step ON step.id = done.step_id
                 WHERE done.return_line_id = return_lines.id AND step.kind = 'received' AND step.reversed_on IS NULL), 0) AS received_e4,
       coalesce((SELECT sum(done.quantity_e4) FROM return_step_lines AS done JOIN return_steps AS step ON step.id = done.step_id
                 WHERE done.return_line_id = return_lines.id AND step.kind = 'inspected' AND step.reversed_on IS NULL), 0) AS sent_back_e4,
       coalesce((SELECT sum(done.quantity_e4) FROM return_step_lines AS done JOIN return_steps AS step ON step.id = done.step_id
                 WHERE done.return_line_id = return_lines.id AND step.kind = 'replaced' AND step.reversed_on IS NULL), 0) AS replaced_e4,
       coalesce((SELECT -sum(credit.quantity_e4) FROM document_lines AS credit WHERE credit.return_line_id = return_lines.id), 0) AS credited_e4,
       -- Waiting for inspection, in stock units, at cost.
       coalesce((SELECT sum(remaining_e4) FROM inspection_layers WHERE return_line_id = return_lines.id), 0) AS waiting_e4,
       coalesce((SELECT sum(remaining_cost_minor) FROM inspection_layers WHERE return_line_id = return_lines.id), 0) AS waiting_cost_minor
FROM return_lines;

-- Goods of a line that came back, day by day, and went out again: replaced, sent back.
CREATE VIEW return_goods_moves AS
SELECT done.return_line_id, step.posting_date,
       CASE step.kind WHEN 'received' THEN done.quantity_e4 ELSE -done.quantity_e4 END AS quantity_e4
FROM return_step_lines AS done JOIN return_steps AS step ON step.id = done.step_id WHERE done.quantity_e4 <> 0
UNION ALL
SELECT done.return_line_id, step.reversed_on,
       CASE step.kind WHEN 'received' THEN -done.quantity_e4 ELSE done.quantity_e4 END
FROM return_step_lines AS done JOIN return_steps AS step ON step.id = done.step_id
WHERE done.quantity_e4 <> 0 AND step.reversed_on IS NOT NULL;

-- What came back of a line and was settled with the customer, day by day: credited, replaced, sent back.
CREATE VIEW return_line_moves AS
SELECT return_line_id, posting_date, quantity_e4 FROM return_goods_moves
UNION ALL
SELECT credit.return_line_id, memo.posting_date, credit.quantity_e4
FROM document_lines AS credit JOIN documents AS memo ON memo.id = credit.document_id WHERE credit.return_line_id IS NOT NULL;
