-- Every billed line of goods that stands on a shipment from a counted warehouse has left stock, in its whole quantity.
SELECT invoices.number || ': line ' || (invoice_lines.position + 1) || ' was billed and has not left stock'
FROM invoices JOIN invoice_lines ON invoice_id = invoices.id AND invoices.state = 'posted' AND cancelled_by IS NULL
JOIN shipment_lines ON shipment_lines.id = shipment_line_id JOIN shipments ON shipments.id = shipment_id
JOIN warehouses ON warehouses.code = shipments.warehouse
WHERE invoice_lines.kind = 'goods' AND counted
  AND NOT EXISTS (SELECT 1 FROM stock_moves WHERE stock_moves.shipment_line_id = shipment_lines.id GROUP BY shipment_line_id HAVING sum(quantity_e4) > 0)
UNION ALL
-- Goods typed on an invoice have left with it, and came back where it was canceled; their cost is that of their layers.
SELECT documents.number || ': line ' || (invoice_lines.position + 1) || ' was billed, and what left stock with it is something else'
FROM documents JOIN invoice_lines ON invoice_id = documents.id AND documents.state = 'posted'
WHERE (leaves_e4 IS NOT NULL OR EXISTS (SELECT 1 FROM stock_moves WHERE document_line_id = invoice_lines.id))
  AND (coalesce((SELECT sum(quantity_e4) FROM stock_moves WHERE document_line_id = invoice_lines.id), 0)
           <> CASE WHEN EXISTS (SELECT 1 FROM document_links WHERE to_id = documents.id AND role = 'cancels') THEN 0 ELSE coalesce(leaves_e4, 0) END
       OR coalesce((SELECT sum(cost_minor) FROM stock_moves WHERE document_line_id = invoice_lines.id AND stock_moves.quantity_e4 > 0), 0)
           <> invoice_lines.cost_minor);
