SELECT invoices.number || ' and the entry it wrote differ'
FROM invoices
WHERE state = 'posted' AND total_base_minor <> coalesce(
    (SELECT sum(base_minor) FROM entry_lines WHERE entry_id = invoices.entry_id AND purpose = 'receivable'), 0)
UNION ALL
SELECT shipments.number || ' and the entry it wrote differ'
FROM shipments
WHERE state IN ('posted', 'taken_back')
  AND (SELECT sum(cost_minor) FROM shipment_lines WHERE shipment_id = shipments.id) <> coalesce(
    (SELECT sum(base_minor) FROM entry_lines WHERE entry_id = shipments.entry_id AND purpose IN ('cogs', 'shipped_cost')), 0)
UNION ALL
SELECT receipts.number || ' and the entry it wrote differ'
FROM receipts
WHERE amount_base_minor <> coalesce(
    (SELECT sum(base_minor) FROM entry_lines WHERE entry_id = receipts.entry_id AND purpose IN ('bank', 'in_hand', 'container_liability')), 0)
UNION ALL
SELECT shipments.number || ' was taken back, but its entry was not turned round'
FROM shipments
WHERE state = 'taken_back' AND entry_id IS NOT NULL AND EXISTS (
    SELECT 1 FROM entry_lines AS first LEFT JOIN entry_lines AS back
      ON back.entry_id = shipments.reversal_entry_id AND back.position = first.position AND back.account = first.account
    WHERE first.entry_id = shipments.entry_id AND (back.base_minor IS NULL OR back.base_minor <> -first.base_minor));
