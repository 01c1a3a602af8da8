-- What has left keeps how it is taxed: treatment, certificate and ship-to on the shipment, the code on
-- each of its lines. What the order says later changes nothing of it.

ALTER TABLE shipments ADD COLUMN ship_to_id INTEGER REFERENCES ship_tos (id);
ALTER TABLE shipments ADD COLUMN treatment TEXT CHECK (treatment IN ('standard', 'exempt', 'reverse_charge', 'union', 'export'));
ALTER TABLE shipments ADD COLUMN certificate TEXT;
ALTER TABLE shipments ADD COLUMN certificate_until TEXT CHECK (certificate_until IS NULL OR certificate_until = date(certificate_until));
ALTER TABLE shipment_lines ADD COLUMN tax_code TEXT REFERENCES tax_codes (code);

-- Older shipments: as their orders say today, the only thing that tells.
UPDATE shipments SET (ship_to_id, treatment, certificate, certificate_until) = (
    SELECT orders.ship_to_id, ship_tos.treatment, ship_tos.certificate, ship_tos.certificate_until
    FROM orders LEFT JOIN ship_tos ON ship_tos.id = orders.ship_to_id WHERE orders.id = order_id)
WHERE state IN ('posted', 'taken_back');
UPDATE shipment_lines SET tax_code = (SELECT tax_code FROM order_lines WHERE order_lines.id = order_line_id)
WHERE (SELECT state FROM shipments WHERE shipments.id = shipment_id) IN ('posted', 'taken_back');

DROP TRIGGER shipments_keep;
CREATE TRIGGER shipments_keep BEFORE UPDATE OF number, order_id, customer_id, packed_date, posting_date, entry_id, warehouse,
    cost_purpose, ship_to_id, treatment, certificate, certificate_until ON shipments
WHEN OLD.state IN ('posted', 'taken_back')
BEGIN SELECT RAISE(ABORT, 'a posted shipment never changes'); END;
DROP TRIGGER shipment_lines_keep;
CREATE TRIGGER shipment_lines_keep BEFORE UPDATE OF shipment_id, position, order_line_id, quantity_e4, cost_minor, tax_code ON shipment_lines
WHEN (SELECT state FROM shipments WHERE id = OLD.shipment_id) IN ('posted', 'taken_back')
BEGIN SELECT RAISE(ABORT, 'a posted shipment never changes'); END;

-- What moved a layer after a day.
DROP INDEX stock_moves_by_layer;
CREATE INDEX stock_moves_by_layer ON stock_moves (layer_id, posting_date);
