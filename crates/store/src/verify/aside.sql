SELECT 'item ' || item || ' in ' || house || ': ' || promised || ' set aside, ' || there || ' on hand'
FROM (
    SELECT item_id AS item, warehouse AS house, sum(reserved_in_stock_e4) AS promised,
           coalesce((SELECT sum(remaining_e4) FROM stock_layers
                     WHERE stock_layers.item_id = order_line_state.item_id AND stock_layers.warehouse = order_line_state.warehouse), 0) AS there
    FROM order_line_state WHERE reserved_e4 > 0 GROUP BY item_id, warehouse
)
WHERE promised > there
UNION ALL
SELECT 'order line ' || order_lines.id || ': set aside though the order is a draft'
FROM order_lines JOIN orders ON orders.id = order_id WHERE confirmed = 0 AND allocated_e4 > 0;
