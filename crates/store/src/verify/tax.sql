-- In document currency, tax and taxed amount alike.
SELECT 'code ' || code || ' on ' || day || ' in ' || currency || ': ' || sum(amount) || ' apart'
FROM (
    SELECT tax_code AS code, posting_date AS day, currency, invoice_taxes.tax_minor AS amount
    FROM invoice_taxes JOIN invoices ON invoices.id = invoice_id WHERE state = 'posted'
    UNION ALL
    SELECT coalesce(tax_code, 'none'), posting_date, currency, document_minor
    FROM entry_lines JOIN entries ON entries.id = entry_id WHERE purpose = 'tax_payable'
)
GROUP BY code, day, currency HAVING sum(amount) <> 0;
