-- What is claimed of suppliers and not answered, day by day, against its account.
SELECT 'on ' || day || ': ' || sum(amount) || ' apart'
FROM (
    SELECT posting_date AS day, amount_minor AS amount FROM claim_moves
    UNION ALL
    SELECT posting_date, -base_minor FROM entry_lines JOIN entries ON entries.id = entry_id WHERE purpose = 'supplier_claim'
)
GROUP BY day HAVING sum(amount) <> 0
UNION ALL
SELECT 'claim ' || claim_id || ' is below zero on ' || day
FROM (
    SELECT claim_id, posting_date AS day, sum(sum(amount_minor)) OVER (PARTITION BY claim_id ORDER BY posting_date) AS stands
    FROM claim_moves GROUP BY claim_id, posting_date
) WHERE stands < 0;
