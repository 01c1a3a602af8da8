-- Tax of every code and day as the documents say it, against the lines of its account, in document currency.
SELECT 'code ' || code || ' on ' || day || ' in ' || currency || ': ' || sum(amount) || ' apart'
FROM (
    SELECT tax_code AS code, posting_date AS day, currency, document_taxes.tax_minor AS amount
    FROM document_taxes JOIN documents ON documents.id = document_id WHERE state = 'posted'
    UNION ALL
    -- Money in advance that is taxed as it comes in, and goes back; what of it is used was taxed before. Kept as income
    -- its tax stays due.
    SELECT tax_code, open_items.posting_date, currency, CASE side WHEN 'owed_to_us' THEN -tax_minor ELSE tax_minor END
    FROM item_taxes JOIN open_items ON open_items.id = item_id
    LEFT JOIN deposit_ends ON open_items.kind = 'deposit_end' AND deposit_ends.id = document_id
    WHERE coalesce(deposit_ends.kind, '') <> 'kept'
    UNION ALL
    SELECT tax_code, application_date, currency, -tax_minor
    FROM application_taxes JOIN applications ON applications.id = application_id JOIN open_items ON open_items.id = debit_item
    WHERE purpose <> 'deposit_liability'
    UNION ALL
    -- What a discount for early payment took of it.
    SELECT discount_taxes.tax_code, application_date, currency, -tax_minor
    FROM discount_taxes JOIN applications ON applications.id = application_id JOIN open_items ON open_items.id = debit_item
    UNION ALL
    SELECT coalesce(tax_code, 'none'), posting_date, entry_lines.currency, document_minor
    FROM entry_lines JOIN entries ON entries.id = entry_id WHERE purpose = 'tax_payable'
)
GROUP BY code, day, currency HAVING sum(amount) <> 0;
