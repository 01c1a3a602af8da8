-- What open items carry, less what was applied of them, against the lines of their control accounts.
SELECT purpose || ' of customer ' || customer || ' on ' || day || ': ' || sum(amount) || ' apart'
FROM (
    SELECT purpose, customer_id AS customer, posting_date AS day, CASE side WHEN 'owed_to_us' THEN amount_base_minor ELSE -amount_base_minor END AS amount
    FROM open_items
    UNION ALL
    SELECT purpose, customer_id, application_date, -debit_base_minor FROM applications JOIN open_items ON open_items.id = debit_item
    UNION ALL
    SELECT purpose, customer_id, application_date, credit_base_minor FROM applications JOIN open_items ON open_items.id = credit_item
    UNION ALL
    -- Tax of money in advance stands on the tax account, its own account carries the rest.
    SELECT purpose, customer_id, posting_date, CASE side WHEN 'owed_to_us' THEN -tax_base_minor ELSE tax_base_minor END
    FROM item_taxes JOIN open_items ON open_items.id = item_id
    UNION ALL
    SELECT purpose, customer_id, application_date, CASE side WHEN 'owed_to_us' THEN tax_base_minor ELSE -tax_base_minor END
    FROM application_taxes JOIN applications ON applications.id = application_id
    JOIN open_items ON open_items.id IN (debit_item, credit_item) AND purpose = 'deposit_liability'
    UNION ALL
    -- What was billed in advance, less what invoices used and what was credited of it.
    SELECT 'prepayment_liability', customer_id, posting_date, -prepaid_base_minor
    FROM document_lines JOIN documents ON documents.id = document_id
    WHERE state = 'posted' AND prepaid_base_minor IS NOT NULL
    UNION ALL
    SELECT 'prepayment_liability', customer_id, prepaid_uses.posting_date, net_base_minor
    FROM prepaid_uses JOIN document_lines ON document_lines.id = line_id JOIN documents ON documents.id = document_id
    UNION ALL
    SELECT purpose, coalesce(customer_id, 0), posting_date, -base_minor
    FROM entry_lines JOIN entries ON entries.id = entry_id
    WHERE purpose IN ('receivable', 'unapplied', 'deposit_liability', 'prepayment_liability')
)
GROUP BY purpose, customer, day HAVING sum(amount) <> 0
UNION ALL
SELECT 'customer ' || customers.number || ' is said to owe ' || owes_base_minor || ', its open items say '
       || coalesce(sum(CASE side WHEN 'owed_to_us' THEN open_base_minor ELSE -open_base_minor END), 0)
FROM customers LEFT JOIN open_items ON customer_id = customers.id AND purpose = 'receivable'
GROUP BY customers.id
HAVING owes_base_minor <> coalesce(sum(CASE side WHEN 'owed_to_us' THEN open_base_minor ELSE -open_base_minor END), 0)
UNION ALL
SELECT open_items.number || ': ' || disputes.amount_minor || ' in dispute of ' || open_items.amount_minor
FROM disputes JOIN open_items ON open_items.id = item_id
WHERE disputes.amount_minor > open_items.amount_minor OR side <> 'owed_to_us' OR purpose <> 'receivable';
