-- Tax of every code and day as the documents say it, against the lines of its account, in document currency.
SELECT 'code ' || code || ' on ' || day || ' in ' || currency || ': ' || sum(amount) || ' apart'
FROM (
    SELECT tax_code AS code, posting_date AS day, currency, invoice_taxes.tax_minor AS amount
    FROM invoice_taxes JOIN invoices ON invoices.id = invoice_id WHERE state = 'posted'
    UNION ALL
    SELECT tax_code, credit_memos.posting_date, currency, -invoice_taxes.tax_minor
    FROM credit_memos JOIN invoices ON invoices.id = credit_memos.invoice_id JOIN invoice_taxes ON invoice_taxes.invoice_id = invoices.id
    UNION ALL
    SELECT coalesce(tax_code, 'none'), posting_date, entry_lines.currency, document_minor
    FROM entry_lines JOIN entries ON entries.id = entry_id WHERE purpose = 'tax_payable'
)
GROUP BY code, day, currency HAVING sum(amount) <> 0;
