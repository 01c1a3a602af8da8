SELECT 'on ' || day || ': ' || sum(amount) || ' apart'
FROM (
    SELECT day, base_minor AS amount FROM place_moves JOIN money_places ON money_places.code = place
    WHERE money_places.kind IN ('checks_in_hand', 'drawer')
    UNION ALL
    SELECT posting_date, -base_minor FROM entry_lines JOIN entries ON entries.id = entry_id WHERE purpose = 'in_hand'
)
GROUP BY day HAVING sum(amount) <> 0
UNION ALL
SELECT bank_slips.number || ': ' || bank_slips.amount_minor || ' in all, its lines come to ' || sum(bank_slip_lines.amount_minor)
FROM bank_slips JOIN bank_slip_lines ON slip_id = bank_slips.id
GROUP BY bank_slips.id
HAVING bank_slips.amount_minor <> sum(bank_slip_lines.amount_minor) OR bank_slips.amount_base_minor <> sum(bank_slip_lines.amount_base_minor)
UNION ALL
SELECT bank_slips.number || ' and the entry it wrote differ'
FROM bank_slips
WHERE banked_on IS NOT NULL AND counted_base_minor <> coalesce(
    (SELECT sum(base_minor) FROM entry_lines WHERE entry_lines.entry_id = bank_slips.entry_id AND purpose = 'bank'), 0)
UNION ALL
SELECT bank_slips.number || ' was canceled, but its entry was not turned round'
FROM bank_slips
WHERE canceled_on IS NOT NULL AND banked_on IS NOT NULL AND EXISTS (
    SELECT 1 FROM entry_lines AS first LEFT JOIN entry_lines AS back
      ON back.entry_id = bank_slips.cancel_entry_id AND back.position = first.position AND back.account = first.account
    WHERE first.entry_id = bank_slips.entry_id AND (back.base_minor IS NULL OR back.base_minor <> -first.base_minor))
UNION ALL
SELECT bank_slips.number || ': its lines are ' || CASE WHEN canceled_on IS NULL THEN 'given up, it is not' ELSE 'on it, it is canceled' END
FROM bank_slips JOIN bank_slip_lines ON slip_id = bank_slips.id WHERE live <> (canceled_on IS NULL)
UNION ALL
SELECT payments.number || ' is said to be ' || whereabouts || ', its slip says otherwise'
FROM payments JOIN money_places ON money_places.code = place
WHERE money_places.kind IN ('checks_in_hand', 'drawer') AND reversed_on IS NULL
  AND (whereabouts = 'in_hand') = EXISTS (
    SELECT 1 FROM bank_slip_lines JOIN bank_slips ON bank_slips.id = slip_id
    WHERE bank_slip_lines.entry_id = payments.entry_id AND live AND banked_on IS NOT NULL);
