-- Goods typed on an invoice leave stock as it is posted: what of them left, in stock units, and which layers it left. A goods
-- receipt that was typed in error goes back out of its layer.

ALTER TABLE document_lines ADD COLUMN leaves_e4 INTEGER CHECK (leaves_e4 > 0);

-- Which shipment an order line is the freight of.
ALTER TABLE order_lines ADD COLUMN freight_of INTEGER REFERENCES shipments (id);
UPDATE order_lines SET freight_of = (SELECT shipment_id FROM shipment_lines WHERE order_line_id = order_lines.id LIMIT 1)
WHERE price_steps LIKE '%typed: freight of the shipment%';
-- It had promised nothing, and its invoice called it tax and rounding.
UPDATE order_lines SET amount_minor = net_minor WHERE freight_of IS NOT NULL AND amount_minor = 0;
CREATE INDEX order_lines_freight ON order_lines (freight_of) WHERE freight_of IS NOT NULL;

CREATE TABLE stock_moves_new (
    id INTEGER PRIMARY KEY,
    layer_id INTEGER NOT NULL REFERENCES stock_layers (id),
    posting_date TEXT NOT NULL CHECK (posting_date = date(posting_date)),
    -- What it leaves with; negative where it goes back.
    shipment_line_id INTEGER REFERENCES shipment_lines (id),
    adjustment_id INTEGER REFERENCES stock_adjustments (id),
    document_line_id INTEGER REFERENCES document_lines (id),
    intake_id INTEGER REFERENCES stock_layers (id),
    quantity_e4 INTEGER NOT NULL CHECK (quantity_e4 <> 0),
    cost_minor INTEGER NOT NULL,
    CHECK ((shipment_line_id IS NOT NULL) + (adjustment_id IS NOT NULL) + (document_line_id IS NOT NULL) + (intake_id IS NOT NULL) = 1),
    CHECK (quantity_e4 > 0 OR (adjustment_id IS NULL AND intake_id IS NULL)),
    CHECK (intake_id IS NULL OR intake_id = layer_id)
) STRICT;
INSERT INTO stock_moves_new (id, layer_id, posting_date, shipment_line_id, adjustment_id, quantity_e4, cost_minor)
SELECT id, layer_id, posting_date, shipment_line_id, adjustment_id, quantity_e4, cost_minor FROM stock_moves ORDER BY id;
DROP TABLE stock_moves;
ALTER TABLE stock_moves_new RENAME TO stock_moves;
CREATE INDEX stock_moves_by_layer ON stock_moves (layer_id, posting_date);
CREATE INDEX stock_moves_by_line ON stock_moves (shipment_line_id) WHERE shipment_line_id IS NOT NULL;
CREATE INDEX stock_moves_by_document_line ON stock_moves (document_line_id) WHERE document_line_id IS NOT NULL;
CREATE TRIGGER stock_moves_keep BEFORE UPDATE ON stock_moves
BEGIN SELECT RAISE(ABORT, 'a stock move never changes'); END;
CREATE TRIGGER stock_moves_stay BEFORE DELETE ON stock_moves
BEGIN SELECT RAISE(ABORT, 'a stock move is never deleted'); END;

-- From here on discounts that come off one after the other are rounded once.
INSERT INTO ledger_since SELECT 'exact_discounts', coalesce(max(id), 0) + 1 FROM entries;
