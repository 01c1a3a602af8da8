-- Cost of goods that left and are not billed, where cost follows billing, against its account.
SELECT 'on ' || day || ': ' || sum(amount) || ' apart'
FROM (
    SELECT stock_moves.posting_date AS day, stock_moves.cost_minor AS amount
    FROM stock_moves JOIN shipment_lines ON shipment_lines.id = shipment_line_id JOIN shipments ON shipments.id = shipment_id
    WHERE cost_purpose = 'shipped_cost'
    UNION ALL
    SELECT posting_date, base_minor FROM entry_lines JOIN entries ON entries.id = entry_id
    WHERE purpose = 'shipped_cost' AND source_kind IN ('invoice', 'credit_memo')
    UNION ALL
    SELECT posting_date, -base_minor FROM entry_lines JOIN entries ON entries.id = entry_id WHERE purpose = 'shipped_cost'
)
GROUP BY day HAVING sum(amount) <> 0
UNION ALL
SELECT 'shipment line ' || shipment_lines.id || ': more cost has followed than it has, or all is billed and some has not'
FROM shipment_lines JOIN shipments ON shipments.id = shipment_id
WHERE cost_purpose = 'shipped_cost' AND state = 'posted'
  AND (cost_billed_minor > cost_minor OR (shipment_lines.billed_e4 = quantity_e4 AND cost_billed_minor <> cost_minor))
UNION ALL
SELECT 'cost that followed billing comes to ' || (SELECT coalesce(sum(cost_billed_minor), 0) FROM shipment_lines) || ', its entries to ' || coalesce(sum(-base_minor), 0)
FROM entry_lines JOIN entries ON entries.id = entry_id
WHERE purpose = 'shipped_cost' AND source_kind IN ('invoice', 'credit_memo')
HAVING coalesce(sum(-base_minor), 0) <> (SELECT coalesce(sum(cost_billed_minor), 0) FROM shipment_lines);
