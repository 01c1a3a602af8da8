-- Tax of every code and day as the documents say it, against the lines of its account, in document currency.
SELECT 'code ' || code || ' on ' || day || ' in ' || currency || ': ' || sum(amount) || ' apart'
FROM (
    SELECT tax_code AS code, posting_date AS day, currency, document_taxes.tax_minor AS amount
    FROM document_taxes JOIN documents ON documents.id = document_id WHERE state = 'posted'
    UNION ALL
    SELECT coalesce(tax_code, 'none'), posting_date, entry_lines.currency, document_minor
    FROM entry_lines JOIN entries ON entries.id = entry_id WHERE purpose = 'tax_payable'
)
GROUP BY code, day, currency HAVING sum(amount) <> 0;
