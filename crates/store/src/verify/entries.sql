SELECT invoices.number || ' and the entry it wrote differ'
FROM invoices
WHERE state = 'posted' AND total_base_minor <> coalesce(
    (SELECT sum(base_minor) FROM entry_lines WHERE entry_id = invoices.entry_id AND purpose = 'receivable'), 0)
  -- Deposits that were applied as it was posted leave the difference.
  + coalesce((SELECT sum(debit_base_minor) FROM applications WHERE applications.entry_id = invoices.entry_id AND reverses_id IS NULL), 0)
UNION ALL
SELECT deposit_ends.number || ' and the entry it wrote differ'
FROM deposit_ends
WHERE (CASE kind WHEN 'refunded' THEN paid_base_minor ELSE amount_base_minor END) <> -coalesce(
    (SELECT sum(base_minor) FROM entry_lines WHERE entry_id = deposit_ends.entry_id
     AND CASE kind WHEN 'refunded' THEN purpose IN ('bank', 'in_hand', 'card_clearing')
                   ELSE purpose = 'other_income' OR (purpose = 'tax_payable' AND base_minor < 0) END), 0)
UNION ALL
SELECT refunds.number || ' and the entry it wrote differ'
FROM refunds
WHERE paid_base_minor <> -coalesce(
    (SELECT sum(base_minor) FROM entry_lines WHERE entry_lines.entry_id = refunds.entry_id AND purpose IN ('bank', 'in_hand')), 0)
UNION ALL
SELECT refunds.number || ' was reversed, but its entry was not turned round'
FROM refunds
WHERE reversed_on IS NOT NULL AND EXISTS (
    SELECT 1 FROM entry_lines AS first LEFT JOIN entry_lines AS back
      ON back.entry_id = refunds.reversal_entry_id AND back.position = first.position AND back.account = first.account
    WHERE first.entry_id = refunds.entry_id AND (back.base_minor IS NULL OR back.base_minor <> -first.base_minor))
UNION ALL
SELECT card_returns.number || ' and the entry it wrote differ'
FROM card_returns
WHERE cleared_base_minor <> -coalesce(
    (SELECT sum(base_minor) FROM entry_lines WHERE entry_lines.entry_id = card_returns.entry_id AND purpose = 'card_clearing'), 0)
UNION ALL
SELECT shipments.number || ' and the entry it wrote differ'
FROM shipments
WHERE state IN ('posted', 'taken_back')
  AND (SELECT sum(cost_minor) FROM shipment_lines WHERE shipment_id = shipments.id) <> coalesce(
    (SELECT sum(base_minor) FROM entry_lines WHERE entry_id = shipments.entry_id AND purpose IN ('cogs', 'shipped_cost')), 0)
UNION ALL
SELECT payments.number || ' and the entry it wrote differ'
FROM payments
WHERE amount_base_minor <> coalesce(
    (SELECT sum(base_minor) FROM entry_lines WHERE entry_id = payments.entry_id
     AND CASE WHEN payments.id IN (SELECT deposits.id FROM deposits WHERE turned_from IS NOT NULL) THEN purpose = 'unapplied'
              ELSE purpose IN ('bank', 'in_hand', 'card_clearing', 'container_liability') END), 0)
UNION ALL
SELECT payments.number || ' was reversed, but its money is still where it was'
FROM payments
WHERE reversed_on IS NOT NULL AND amount_base_minor + fee_base_minor <> coalesce(
    (SELECT -sum(base_minor) FROM entry_lines WHERE entry_id = reversal_entry_id
     AND CASE WHEN payments.id IN (SELECT deposits.id FROM deposits WHERE turned_from IS NOT NULL) THEN purpose = 'unapplied'
              ELSE purpose IN ('bank', 'in_hand', 'card_clearing') END), 0)
UNION ALL
SELECT deposit_ends.number || ' was reversed, but its entry was not turned round'
FROM deposit_ends
WHERE reversed_on IS NOT NULL AND EXISTS (
    SELECT 1 FROM entry_lines AS first LEFT JOIN entry_lines AS back
      ON back.entry_id = deposit_ends.reversal_entry_id AND back.position = first.position AND back.account = first.account
    WHERE first.entry_id = deposit_ends.entry_id AND (back.base_minor IS NULL OR back.base_minor <> -first.base_minor))
UNION ALL
SELECT container_returns.number || ' and the entry it wrote differ'
FROM container_returns
WHERE amount_minor <> coalesce(
    (SELECT sum(base_minor) FROM entry_lines WHERE entry_id = container_returns.entry_id AND purpose = 'container_liability'), 0)
UNION ALL
SELECT 'E-' || entries.number || ' is dated before the entry it takes back'
FROM entries JOIN entries AS first ON first.id = entries.reverses_id WHERE entries.posting_date < first.posting_date
UNION ALL
SELECT shipments.number || ' was taken back, but its entry was not turned round'
FROM shipments
WHERE state = 'taken_back' AND entry_id IS NOT NULL AND EXISTS (
    SELECT 1 FROM entry_lines AS first LEFT JOIN entry_lines AS back
      ON back.entry_id = shipments.reversal_entry_id AND back.position = first.position AND back.account = first.account
    WHERE first.entry_id = shipments.entry_id AND (back.base_minor IS NULL OR back.base_minor <> -first.base_minor));
