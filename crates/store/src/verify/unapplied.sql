SELECT 'customer ' || customer || ' on ' || day || ': ' || sum(amount) || ' apart'
FROM (
    SELECT customer_id AS customer, posting_date AS day, amount_base_minor AS amount FROM receipts
    UNION ALL
    SELECT customer_id, application_date, -money_base_minor FROM applications JOIN receipts ON receipts.id = receipt_id
    UNION ALL
    SELECT customer_id, unapplications.application_date, money_base_minor
    FROM unapplications JOIN applications ON applications.id = application_id JOIN receipts ON receipts.id = receipt_id
    UNION ALL
    SELECT coalesce(customer_id, 0), posting_date, base_minor
    FROM entry_lines JOIN entries ON entries.id = entry_id WHERE purpose = 'unapplied'
)
GROUP BY customer, day HAVING sum(amount) <> 0;
