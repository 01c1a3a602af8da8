SELECT 'layer ' || id || ': what is left is wrong'
FROM (
    SELECT stock_layers.id, stock_layers.quantity_e4, stock_layers.cost_minor, remaining_e4, remaining_cost_minor,
           coalesce(sum(stock_issues.quantity_e4), 0) AS issued, coalesce(sum(stock_issues.cost_minor), 0) AS issued_cost
    FROM stock_layers LEFT JOIN stock_issues ON layer_id = stock_layers.id GROUP BY stock_layers.id
)
WHERE remaining_e4 <> quantity_e4 - issued OR remaining_cost_minor <> cost_minor - issued_cost
UNION ALL
SELECT 'shipment line ' || shipment_lines.id || ': its cost is not that of its layers'
FROM shipment_lines LEFT JOIN stock_issues ON shipment_line_id = shipment_lines.id
GROUP BY shipment_lines.id HAVING shipment_lines.cost_minor <> coalesce(sum(stock_issues.cost_minor), 0);
