-- Every billed line of goods that stands on a shipment from a counted warehouse has left stock, in its whole quantity.
SELECT invoices.number || ': line ' || (invoice_lines.position + 1) || ' was billed and has not left stock'
FROM invoices JOIN invoice_lines ON invoice_id = invoices.id AND invoices.state = 'posted' AND cancelled_by IS NULL
JOIN shipment_lines ON shipment_lines.id = shipment_line_id JOIN shipments ON shipments.id = shipment_id
JOIN warehouses ON warehouses.code = shipments.warehouse
WHERE invoice_lines.kind = 'goods' AND counted
  AND NOT EXISTS (SELECT 1 FROM stock_moves WHERE stock_moves.shipment_line_id = shipment_lines.id GROUP BY shipment_line_id HAVING sum(quantity_e4) > 0);
