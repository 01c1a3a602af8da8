SELECT 'layer ' || id || ': what is left is wrong'
FROM (
    SELECT stock_layers.id, stock_layers.quantity_e4, stock_layers.cost_minor, remaining_e4, remaining_cost_minor,
           coalesce(sum(stock_moves.quantity_e4), 0) AS gone, coalesce(sum(stock_moves.cost_minor), 0) AS gone_cost
    FROM stock_layers LEFT JOIN stock_moves ON layer_id = stock_layers.id GROUP BY stock_layers.id
)
WHERE remaining_e4 <> quantity_e4 - gone OR remaining_cost_minor <> cost_minor - gone_cost
UNION ALL
SELECT 'shipment line ' || shipment_lines.id || ': its cost is not that of its layers'
FROM shipment_lines LEFT JOIN stock_moves ON shipment_line_id = shipment_lines.id AND stock_moves.quantity_e4 > 0
GROUP BY shipment_lines.id HAVING shipment_lines.cost_minor <> coalesce(sum(stock_moves.cost_minor), 0)
UNION ALL
SELECT 'shipment line ' || shipment_lines.id || ': taken back, but not all of it lies in its layers'
FROM shipment_lines JOIN shipments ON shipments.id = shipment_id JOIN stock_moves ON shipment_line_id = shipment_lines.id
WHERE state = 'taken_back' GROUP BY shipment_lines.id HAVING sum(stock_moves.quantity_e4) <> 0 OR sum(stock_moves.cost_minor) <> 0
UNION ALL
SELECT 'adjustment ' || stock_adjustments.id || ': its cost is not that of its layers'
FROM stock_adjustments
WHERE cost_minor <> coalesce((SELECT sum(cost_minor) FROM stock_layers WHERE adjustment_id = stock_adjustments.id), 0)
                  - coalesce((SELECT sum(cost_minor) FROM stock_moves WHERE adjustment_id = stock_adjustments.id), 0);
