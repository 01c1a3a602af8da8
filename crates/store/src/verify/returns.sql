-- What came back of a billed line and was not sent out again, what was credited as staying with the customer, and what is
-- replaced: never above what it billed, and nothing of what was canceled.
SELECT documents.number || ', line ' || (billed.position + 1) || ': more came back or was credited than it billed'
FROM document_lines AS billed JOIN documents ON documents.id = billed.document_id
WHERE billed.id IN (SELECT document_line_id FROM return_lines WHERE document_line_id IS NOT NULL)
  AND billed.quantity_e4 < (SELECT sum(received_e4 - sent_back_e4 - replaced_e4 - credited_e4 + for_repair_e4 - repaired_e4 - kept_e4) FROM return_line_state WHERE document_line_id = billed.id)
      + (SELECT coalesce(-sum(quantity_e4), 0) FROM document_lines WHERE credits_line_id = billed.id)
UNION ALL
-- Nothing comes back that the customer does not have, on any day.
SELECT 'document line ' || line || ': more had come back than the customer had on ' || day
FROM (SELECT line, day, sum(sum(quantity)) OVER (PARTITION BY line ORDER BY day) AS balance
      FROM (SELECT document_lines.id AS line, posting_date AS day, quantity_e4 AS quantity FROM document_lines JOIN documents ON documents.id = document_id
            WHERE document_lines.id IN (SELECT document_line_id FROM return_lines WHERE document_line_id IS NOT NULL)
            UNION ALL
            SELECT document_line_id, posting_date, -return_goods_moves.quantity_e4 FROM return_goods_moves JOIN return_lines ON return_lines.id = return_line_id
            WHERE document_line_id IS NOT NULL)
      GROUP BY line, day)
WHERE balance < 0
UNION ALL
-- Nothing comes back unbilled that was not out and unbilled, on any day, and nothing of it is credited, replaced or sent back.
SELECT 'shipment line ' || line || ': more had come back than was out and not billed on ' || day
FROM (SELECT line, day, sum(sum(quantity)) OVER (PARTITION BY line ORDER BY day) AS balance
      FROM (SELECT shipment_lines.id AS line, posting_date AS day, quantity_e4 AS quantity FROM shipment_lines JOIN shipments ON shipments.id = shipment_id
            WHERE shipment_lines.id IN (SELECT shipment_line_id FROM unbilled_returns)
            UNION ALL
            SELECT shipment_line_id, posting_date, -quantity_e4 FROM unbilled_returns
            UNION ALL
            SELECT shipment_line_id, reversed_on, quantity_e4 FROM unbilled_returns WHERE reversed_on IS NOT NULL
            UNION ALL
            SELECT shipment_line_id, posting_date, -quantity_e4 FROM invoice_lines JOIN invoices ON invoices.id = invoice_id
            WHERE state = 'posted' AND shipment_line_id IN (SELECT shipment_line_id FROM unbilled_returns)
            UNION ALL
            SELECT shipment_line_id, memo.posting_date, quantity_e4 FROM invoice_lines JOIN invoices ON invoices.id = invoice_id
            JOIN documents AS memo ON memo.id = invoices.cancelled_by WHERE shipment_line_id IN (SELECT shipment_line_id FROM unbilled_returns))
      GROUP BY line, day)
WHERE balance < 0
UNION ALL
SELECT returns.number || ': what was not billed is credited, replaced or sent back'
FROM return_line_state AS line JOIN returns ON returns.id = return_id
WHERE line.document_line_id IS NULL AND line.shipment_line_id IS NOT NULL AND (sent_back_e4 > 0 OR replaced_e4 > 0 OR credited_e4 > 0)
UNION ALL
SELECT returns.number || ' holds goods of an invoice that was canceled'
FROM return_line_state AS line JOIN returns ON returns.id = return_id
JOIN document_lines AS billed ON billed.id = document_line_id JOIN invoices ON invoices.id = billed.document_id
WHERE cancelled_by IS NOT NULL AND received_e4 - sent_back_e4 - replaced_e4 + for_repair_e4 - repaired_e4 - kept_e4 > 0
UNION ALL
SELECT returns.number || ': more was settled than had come back on ' || day
FROM (SELECT return_line_id, posting_date AS day, sum(sum(quantity_e4)) OVER (PARTITION BY return_line_id ORDER BY posting_date) AS balance
      FROM return_line_moves GROUP BY return_line_id, posting_date)
JOIN return_lines ON return_lines.id = return_line_id JOIN returns ON returns.id = return_id
WHERE balance < 0
UNION ALL
SELECT returns.number || ': what waits for inspection is wrong'
FROM (
    SELECT inspection_layers.id, return_line_id, inspection_layers.quantity_e4 AS came, inspection_layers.cost_minor AS cost, remaining_e4, remaining_cost_minor,
           coalesce(sum(inspection_moves.quantity_e4), 0) AS gone, coalesce(sum(inspection_moves.cost_minor), 0) AS gone_cost
    FROM inspection_layers LEFT JOIN inspection_moves ON layer_id = inspection_layers.id GROUP BY inspection_layers.id
)
JOIN return_lines ON return_lines.id = return_line_id JOIN returns ON returns.id = return_id
WHERE remaining_e4 <> came - gone OR remaining_cost_minor <> cost - gone_cost
UNION ALL
SELECT returns.number || ': less than nothing waited for inspection on ' || day
FROM (
    SELECT layer, return_line_id, day, sum(sum(quantity)) OVER (PARTITION BY layer ORDER BY day) AS balance, sum(sum(cost)) OVER (PARTITION BY layer ORDER BY day) AS cost
    FROM (
        SELECT id AS layer, return_line_id, posting_date AS day, quantity_e4 AS quantity, cost_minor AS cost FROM inspection_layers
        UNION ALL
        SELECT layer_id, return_line_id, inspection_moves.posting_date, -inspection_moves.quantity_e4, -inspection_moves.cost_minor
        FROM inspection_moves JOIN inspection_layers ON inspection_layers.id = layer_id)
    GROUP BY layer, return_line_id, day
)
JOIN return_lines ON return_lines.id = return_line_id JOIN returns ON returns.id = return_id
WHERE balance < 0 OR cost < 0
UNION ALL
-- What came back of the goods that left brings back no more cost than they left with.
SELECT min(returns.number) || ': goods came back with more cost than they left with'
FROM return_lines JOIN returns ON returns.id = return_lines.return_id LEFT JOIN document_lines AS billed ON billed.id = document_line_id
JOIN return_step_lines ON return_step_lines.return_line_id = return_lines.id JOIN return_steps ON return_steps.id = step_id
-- A wrong item is another's goods; what is in for repair stays the customer's.
WHERE reversed_on IS NULL AND (return_steps.kind IN ('received', 'kept', 'replaced') OR outcome = 'send_back')
  -- Where no document is known, cost is said.
  AND coalesce(return_lines.document_line_id, return_lines.shipment_line_id) IS NOT NULL
GROUP BY coalesce('s' || coalesce(billed.shipment_line_id, return_lines.shipment_line_id), 'd' || billed.id)
HAVING sum(CASE WHEN return_steps.kind IN ('received', 'kept') THEN return_step_lines.cost_minor ELSE -return_step_lines.cost_minor END) > (
    SELECT coalesce(sum(stock_moves.cost_minor), 0) FROM stock_moves
    WHERE stock_moves.shipment_line_id = min(coalesce(billed.shipment_line_id, return_lines.shipment_line_id))
       OR (min(coalesce(billed.shipment_line_id, return_lines.shipment_line_id)) IS NULL AND stock_moves.document_line_id = min(billed.id)))
UNION ALL
-- Steps that are posted with a document share its entry: there they stand together.
SELECT min(returns.number) || ': a step of ' || min(posting_date) || ' and the entry it wrote differ'
FROM return_steps JOIN returns ON returns.id = return_id JOIN (
    SELECT step_id, sum(cost_minor) AS cost, sum(released_minor) AS released FROM return_step_lines GROUP BY step_id) AS done ON step_id = return_steps.id
GROUP BY coalesce(entry_id, -return_steps.id)
HAVING sum(CASE kind WHEN 'inspected' THEN -cost WHEN 'replaced' THEN 0 ELSE cost END) <> coalesce(
        (SELECT sum(base_minor) FROM entry_lines WHERE entry_lines.entry_id = min(return_steps.entry_id) AND purpose = 'inspection'), 0)
    OR (max(kind IN ('received', 'kept')) AND sum(released) <> coalesce(
        (SELECT -sum(base_minor) FROM entry_lines WHERE entry_lines.entry_id = min(return_steps.entry_id) AND purpose = 'shipped_cost'), 0))
    OR (max(kind IN ('replaced', 'swapped')) AND sum(cost) <> coalesce(
        (SELECT -sum(base_minor) FROM entry_lines WHERE entry_lines.entry_id = min(return_steps.entry_id) AND purpose = 'inventory'), 0))
UNION ALL
SELECT returns.number || ': a step was reversed, but its entry was not turned round'
FROM return_steps JOIN returns ON returns.id = return_id
WHERE reversed_on IS NOT NULL AND entry_id IS NOT NULL AND EXISTS (
    SELECT 1 FROM entry_lines AS first LEFT JOIN entry_lines AS back
      ON back.entry_id = return_steps.reversal_entry_id AND back.position = first.position AND back.account = first.account
    WHERE first.entry_id = return_steps.entry_id AND (back.base_minor IS NULL OR back.base_minor <> -first.base_minor))
UNION ALL
SELECT returns.number || ': restocked, and no layer of stock is there, or another one'
FROM return_step_lines JOIN return_steps ON return_steps.id = step_id JOIN returns ON returns.id = return_id
WHERE outcome = 'restock' GROUP BY step_id
HAVING sum(stock_e4) <> coalesce((SELECT sum(quantity_e4) FROM stock_layers WHERE return_step_id = step_id), 0)
    OR sum(return_step_lines.cost_minor) <> coalesce((SELECT sum(cost_minor) FROM stock_layers WHERE return_step_id = step_id), 0);
