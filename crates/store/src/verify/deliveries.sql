SELECT 'delivery ' || deliveries.id || ' carries a draft'
FROM deliveries JOIN documents ON documents.id = document_id WHERE documents.state <> 'posted'
UNION ALL
SELECT 'delivery ' || id || ' is said to be mailed, but the mailbox has no message of it'
FROM deliveries WHERE way = 'mail' AND state = 'done' AND NOT EXISTS (SELECT 1 FROM mailbox WHERE delivery_id = deliveries.id)
UNION ALL
SELECT 'delivery ' || delivery_id || ' is in the mailbox ' || count(*) || ' times'
FROM mailbox WHERE delivery_id IS NOT NULL GROUP BY delivery_id HAVING count(*) > 1;
