-- Invoices posted less what was applied to them, against the lines of the control account.
SELECT 'customer ' || customer || ' on ' || day || ': ' || sum(amount) || ' apart'
FROM (
    SELECT customer_id AS customer, posting_date AS day, total_base_minor AS amount FROM invoices WHERE state = 'posted'
    UNION ALL
    SELECT customer_id, application_date, -receivable_base_minor FROM applications JOIN invoices ON invoices.id = invoice_id
    UNION ALL
    SELECT customer_id, unapplications.application_date, receivable_base_minor
    FROM unapplications JOIN applications ON applications.id = application_id JOIN invoices ON invoices.id = invoice_id
    UNION ALL
    SELECT customer_id, posting_date, -total_base_minor FROM credit_memos
    UNION ALL
    SELECT coalesce(customer_id, 0), posting_date, -base_minor
    FROM entry_lines JOIN entries ON entries.id = entry_id WHERE purpose = 'receivable'
)
GROUP BY customer, day HAVING sum(amount) <> 0
UNION ALL
SELECT 'customer ' || customers.number || ' is said to owe ' || owes_base_minor || ', its invoices say ' || coalesce(sum(open_base_minor), 0)
FROM customers LEFT JOIN invoices ON customer_id = customers.id
GROUP BY customers.id HAVING owes_base_minor <> coalesce(sum(open_base_minor), 0);
