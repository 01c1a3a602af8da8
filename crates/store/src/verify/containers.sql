SELECT 'customer ' || customer || ' on ' || day || ': ' || sum(amount) || ' apart'
FROM (
    SELECT customer_id AS customer, posting_date AS day, amount_minor AS amount FROM container_moves
    UNION ALL
    SELECT coalesce(customer_id, 0), posting_date, base_minor
    FROM entry_lines JOIN entries ON entries.id = entry_id WHERE purpose = 'container_liability'
)
GROUP BY customer, day HAVING sum(amount) <> 0
UNION ALL
SELECT 'customer ' || customer_id || ' has brought back more of item ' || item_id || ' than it got'
FROM container_moves GROUP BY customer_id, item_id HAVING sum(quantity_e4) < 0;
