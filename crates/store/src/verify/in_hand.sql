SELECT 'on ' || day || ': ' || sum(amount) || ' apart'
FROM (
    SELECT posting_date AS day, amount_base_minor AS amount FROM receipts WHERE method IN ('check', 'cash')
    UNION ALL
    SELECT posting_date, -base_minor FROM entry_lines JOIN entries ON entries.id = entry_id WHERE purpose = 'in_hand'
)
GROUP BY day HAVING sum(amount) <> 0;
