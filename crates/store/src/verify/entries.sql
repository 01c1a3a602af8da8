SELECT invoices.number || ' and the entry it wrote differ'
FROM invoices
WHERE state = 'posted' AND total_base_minor <> coalesce(
    (SELECT sum(base_minor) FROM entry_lines WHERE entry_id = invoices.entry_id AND purpose = 'receivable'), 0)
UNION ALL
SELECT shipments.number || ' and the entry it wrote differ'
FROM shipments
WHERE state = 'posted'
  AND (SELECT sum(cost_minor) FROM shipment_lines WHERE shipment_id = shipments.id) <> coalesce(
    (SELECT sum(base_minor) FROM entry_lines WHERE entry_id = shipments.entry_id AND purpose = 'cogs'), 0)
UNION ALL
SELECT receipts.number || ' and the entry it wrote differ'
FROM receipts
WHERE amount_base_minor <> coalesce(
    (SELECT sum(base_minor) FROM entry_lines WHERE entry_id = receipts.entry_id AND purpose IN ('bank', 'in_hand')), 0);
