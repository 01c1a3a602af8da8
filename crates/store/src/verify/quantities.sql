SELECT 'shipment line ' || id || ': billed, drafted or unbilled is wrong'
FROM (
    SELECT shipment_lines.id, quantity_e4, billed_e4, drafted_e4, unbilled_e4, returned_e4, returned_cost_minor, shipments.state,
           coalesce((SELECT sum(quantity_e4) FROM unbilled_returns WHERE shipment_line_id = shipment_lines.id AND reversed_on IS NULL), 0) AS came_back,
           coalesce((SELECT sum(released_minor) FROM unbilled_returns WHERE shipment_line_id = shipment_lines.id AND reversed_on IS NULL), 0) AS released,
           coalesce((SELECT sum(invoice_lines.quantity_e4) FROM invoice_lines JOIN invoices ON invoices.id = invoice_id
                     WHERE shipment_line_id = shipment_lines.id AND invoices.state = 'posted' AND cancelled_by IS NULL), 0) AS on_posted,
           coalesce((SELECT sum(invoice_lines.quantity_e4) FROM invoice_lines JOIN invoices ON invoices.id = invoice_id
                     WHERE shipment_line_id = shipment_lines.id AND invoices.state = 'draft'), 0) AS on_draft
    FROM shipment_lines JOIN shipments ON shipments.id = shipment_id
)
WHERE billed_e4 <> on_posted OR drafted_e4 <> on_draft OR returned_e4 <> came_back OR returned_cost_minor <> released
   OR unbilled_e4 <> CASE state WHEN 'posted' THEN quantity_e4 - on_posted - on_draft - came_back ELSE 0 END
UNION ALL
SELECT 'shipment line ' || id || ': what is unbilled has no value'
FROM shipment_lines WHERE unbilled_e4 > 0 AND unbilled_minor IS NULL
UNION ALL
SELECT 'order line ' || id || ': shipped, billed or drafted is wrong'
FROM (
    SELECT order_lines.id, shipped_e4, order_lines.billed_e4 AS billed, order_lines.drafted_e4 AS drafted,
           coalesce(sum(quantity_e4 - returned_e4) FILTER (WHERE shipments.state = 'posted'), 0) AS shipped_there,
           coalesce(sum(shipment_lines.billed_e4), 0) AS billed_there,
           coalesce((SELECT sum(quantity_e4) FROM invoice_lines JOIN invoices ON invoices.id = invoice_id
                     WHERE order_line_id = order_lines.id AND shipment_line_id IS NULL AND invoices.state = 'posted' AND cancelled_by IS NULL), 0) AS alone,
           coalesce((SELECT sum(quantity_e4) FROM invoice_lines JOIN invoices ON invoices.id = invoice_id
                     WHERE order_line_id = order_lines.id AND shipment_line_id IS NULL AND invoices.state = 'draft'), 0) AS on_draft
    FROM order_lines LEFT JOIN shipment_lines ON order_line_id = order_lines.id LEFT JOIN shipments ON shipments.id = shipment_id
    GROUP BY order_lines.id
)
WHERE shipped_e4 <> shipped_there + alone OR billed <> billed_there + alone OR drafted <> on_draft;
