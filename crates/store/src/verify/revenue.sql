-- What invoices sold, by where it goes, against the lines of the ledger, in document currency.
SELECT number || ': its lines for ' || purpose || ' and its entry are ' || sum(amount) || ' apart'
FROM (
    SELECT invoices.number, CASE coalesce(invoice_lines.kind, items.kind) WHEN 'charge' THEN 'charge_revenue'
             WHEN 'packaging' THEN 'container_liability' ELSE 'revenue' END AS purpose, invoice_lines.net_minor AS amount
    FROM invoices JOIN invoice_lines ON invoice_id = invoices.id LEFT JOIN items ON items.id = item_id WHERE state = 'posted'
    UNION ALL
    SELECT invoices.number, purpose, document_minor
    FROM invoices JOIN entry_lines ON entry_lines.entry_id = invoices.entry_id
    WHERE purpose IN ('revenue', 'charge_revenue', 'container_liability')
)
GROUP BY number, purpose HAVING sum(amount) <> 0
UNION ALL
SELECT 'E-' || number || ' carries revenue, and no invoice or credit memo stands behind it'
FROM entries JOIN entry_lines ON entry_id = entries.id
WHERE purpose IN ('revenue', 'charge_revenue', 'returns') AND source_kind NOT IN ('invoice', 'credit_memo', 'opening')
GROUP BY entries.id;
