-- Cost of goods that left and are not billed, where cost follows billing: line by line and day by day, never below zero,
-- and all lines together against the account.
WITH held (line, day, amount) AS (
    SELECT shipment_line_id, stock_moves.posting_date, stock_moves.cost_minor
    FROM stock_moves JOIN shipment_lines ON shipment_lines.id = shipment_line_id JOIN shipments ON shipments.id = shipment_id
    WHERE cost_purpose = 'shipped_cost'
    UNION ALL
    SELECT shipment_line_id, posting_date, -cost_minor
    FROM invoice_lines JOIN invoices ON invoices.id = invoice_id
    WHERE invoices.state = 'posted' AND shipment_line_id IS NOT NULL AND cost_minor <> 0
    UNION ALL
    SELECT shipment_line_id, credit_memos.posting_date, cost_minor
    FROM invoice_lines JOIN credit_memos ON credit_memos.invoice_id = invoice_lines.invoice_id AND whole
    WHERE shipment_line_id IS NOT NULL AND cost_minor <> 0
    UNION ALL
    -- What came back before it was billed waits no longer.
    SELECT shipment_line_id, posting_date, -released_minor FROM unbilled_returns
    UNION ALL
    SELECT shipment_line_id, reversed_on, released_minor FROM unbilled_returns WHERE reversed_on IS NOT NULL
)
SELECT 'on ' || day || ': ' || sum(amount) || ' apart'
FROM (
    SELECT day, amount FROM held
    UNION ALL
    SELECT posting_date, -base_minor FROM entry_lines JOIN entries ON entries.id = entry_id WHERE purpose = 'shipped_cost'
)
GROUP BY day HAVING sum(amount) <> 0
UNION ALL
SELECT 'shipment line ' || line || ': the cost it holds is ' || min(balance)
FROM (SELECT line, sum(amount) OVER (PARTITION BY line ORDER BY day) AS balance FROM (SELECT line, day, sum(amount) AS amount FROM held GROUP BY line, day))
WHERE balance < 0 GROUP BY line
UNION ALL
SELECT 'shipment line ' || shipment_lines.id || ': what has followed of its cost is not what its invoices say'
FROM shipment_lines JOIN shipments ON shipments.id = shipment_id
WHERE cost_purpose = 'shipped_cost' AND cost_billed_minor <> coalesce((
    SELECT sum(invoice_lines.cost_minor) FROM invoice_lines JOIN invoices ON invoices.id = invoice_id
    WHERE shipment_line_id = shipment_lines.id AND state = 'posted' AND cancelled_by IS NULL), 0)
UNION ALL
SELECT 'shipment line ' || shipment_lines.id || ': more cost has followed than it has, or all is billed and some has not'
FROM shipment_lines JOIN shipments ON shipments.id = shipment_id
WHERE cost_purpose = 'shipped_cost' AND state = 'posted'
  AND (cost_billed_minor + returned_cost_minor > cost_minor
       OR (shipment_lines.billed_e4 + returned_e4 = quantity_e4 AND cost_billed_minor + returned_cost_minor <> cost_minor));
