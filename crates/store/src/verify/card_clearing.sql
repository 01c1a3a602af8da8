-- What was captured, less what went back and what was paid out, is what card clearing carries.
SELECT 'on ' || day || ': ' || sum(amount) || ' apart'
FROM (
    SELECT posting_date AS day, amount_base_minor AS amount FROM payments JOIN money_places ON money_places.code = place
    WHERE money_places.kind = 'card_clearing'
    UNION ALL
    SELECT reversed_on, -amount_base_minor FROM payments JOIN money_places ON money_places.code = place
    WHERE money_places.kind = 'card_clearing' AND reversed_on IS NOT NULL
    UNION ALL
    SELECT posting_date, -cleared_base_minor FROM card_returns WHERE entry_id IS NOT NULL
    UNION ALL
    SELECT posting_date, -cleared_base_minor FROM card_payouts WHERE entry_id IS NOT NULL
    UNION ALL
    SELECT posting_date, -base_minor FROM entry_lines JOIN entries ON entries.id = entry_id WHERE purpose = 'card_clearing'
)
GROUP BY day HAVING sum(amount) <> 0;
