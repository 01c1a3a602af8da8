SELECT 'on ' || day || ': ' || sum(amount) || ' apart'
FROM (
    SELECT posting_date AS day, amount_base_minor AS amount FROM payments JOIN money_places ON money_places.code = place
    WHERE money_places.kind IN ('checks_in_hand', 'drawer')
    UNION ALL
    SELECT reversed_on, -amount_base_minor FROM payments JOIN money_places ON money_places.code = place
    WHERE money_places.kind IN ('checks_in_hand', 'drawer') AND reversed_on IS NOT NULL
    UNION ALL
    SELECT posting_date, -paid_base_minor FROM deposit_ends JOIN money_places ON money_places.code = place
    WHERE money_places.kind IN ('checks_in_hand', 'drawer')
    UNION ALL
    SELECT reversed_on, paid_base_minor FROM deposit_ends JOIN money_places ON money_places.code = place
    WHERE money_places.kind IN ('checks_in_hand', 'drawer') AND reversed_on IS NOT NULL
    UNION ALL
    SELECT posting_date, -paid_base_minor FROM refunds JOIN money_places ON money_places.code = place
    WHERE money_places.kind IN ('checks_in_hand', 'drawer')
    UNION ALL
    SELECT reversed_on, paid_base_minor FROM refunds JOIN money_places ON money_places.code = place
    WHERE money_places.kind IN ('checks_in_hand', 'drawer') AND reversed_on IS NOT NULL
    UNION ALL
    SELECT posting_date, -base_minor FROM entry_lines JOIN entries ON entries.id = entry_id WHERE purpose = 'in_hand'
)
GROUP BY day HAVING sum(amount) <> 0;
