-- The quantities of an order line, and what follows from them: said once, here for what is listed and
-- summed, and in `till_core::order::LineState` for what is decided. `verify` proves that both say the same.

CREATE VIEW order_line_state AS
SELECT id, order_id, item_id, warehouse, call_off_line_id, position, factor_e4, step_e4, over_e4, net_minor, code, kind,
       ordered_e4, cancelled_e4, shipped_e4, billed_e4, drafted_e4, reserved_e4, leaving_e4, stocked, work,
       ordered_e4 - cancelled_e4 AS wanted_e4,
       max(0, ordered_e4 - cancelled_e4 - shipped_e4) AS to_ship_e4,
       -- To ship, and not on a shipment that is being picked or packed.
       max(0, ordered_e4 - cancelled_e4 - shipped_e4 - leaving_e4) AS free_to_ship_e4,
       -- To ship, and no stock is reserved for it.
       CASE WHEN stocked THEN max(0, ordered_e4 - cancelled_e4 - shipped_e4 - reserved_e4) ELSE 0 END AS waiting_e4,
       -- Once a part has shipped, all that is left; before that, what stock is short for.
       CASE WHEN shipped_e4 > 0 THEN max(0, ordered_e4 - cancelled_e4 - shipped_e4)
            WHEN stocked THEN max(0, ordered_e4 - cancelled_e4 - shipped_e4 - reserved_e4) ELSE 0 END AS back_ordered_e4,
       -- May be billed without a shipment.
       CASE WHEN work THEN max(0, ordered_e4 - cancelled_e4 - shipped_e4 - drafted_e4 - leaving_e4) ELSE 0 END AS billable_e4,
       -- In the unit stock is kept in. What is reserved goes in whole packs and steps: nothing is cut off.
       reserved_e4 * factor_e4 / 10000 AS reserved_in_stock_e4,
       (ordered_e4 - cancelled_e4) * factor_e4 / 10000 AS wanted_in_stock_e4,
       CASE WHEN stocked THEN max(0, ordered_e4 - cancelled_e4 - shipped_e4 - reserved_e4) * factor_e4 / 10000 ELSE 0 END AS waiting_in_stock_e4
FROM (
    SELECT order_lines.id, order_lines.order_id, order_lines.item_id, order_lines.warehouse, order_lines.call_off_line_id, order_lines.position,
           order_lines.factor_e4, items.step_e4, order_lines.over_e4, order_lines.net_minor, items.code, items.kind,
           order_lines.ordered_e4, order_lines.cancelled_e4, order_lines.shipped_e4, order_lines.billed_e4, order_lines.drafted_e4,
           order_lines.allocated_e4 AS reserved_e4,
           coalesce((SELECT sum(leaving.quantity_e4) FROM shipment_lines AS leaving JOIN shipments ON shipments.id = leaving.shipment_id
                     WHERE leaving.order_line_id = order_lines.id AND shipments.state IN ('picking', 'packed')), 0) AS leaving_e4,
           orders.confirmed = 1 AND items.kind = 'goods' AND coalesce(warehouses.counted, 0) = 1 AS stocked,
           orders.confirmed = 1 AND items.kind IN ('service', 'charge') AS work
    FROM order_lines
    LEFT JOIN orders ON orders.id = order_lines.order_id
    LEFT JOIN items ON items.id = order_lines.item_id
    LEFT JOIN warehouses ON warehouses.code = order_lines.warehouse
);
