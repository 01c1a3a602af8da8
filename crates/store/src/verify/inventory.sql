SELECT 'on ' || day || ': ' || sum(amount) || ' apart'
FROM (
    SELECT posting_date AS day, cost_minor AS amount FROM stock_layers
    UNION ALL
    SELECT posting_date, -stock_issues.cost_minor FROM stock_issues
    JOIN shipment_lines ON shipment_lines.id = shipment_line_id JOIN shipments ON shipments.id = shipment_id
    UNION ALL
    SELECT posting_date, -base_minor FROM entry_lines JOIN entries ON entries.id = entry_id WHERE purpose = 'inventory'
)
GROUP BY day HAVING sum(amount) <> 0;
