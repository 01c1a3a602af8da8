-- What documents sold and took back, by where it goes, against the lines of the ledger, in document currency.
SELECT number || ': its lines for ' || purpose || ' and its entry are ' || sum(amount) || ' apart'
FROM (
    SELECT documents.number, CASE coalesce(document_lines.kind, items.kind) WHEN 'charge' THEN 'charge_revenue'
             WHEN 'packaging' THEN 'container_liability'
             ELSE CASE WHEN role IS NULL OR account IS NOT NULL THEN 'revenue' ELSE 'returns' END END AS purpose,
           document_lines.net_minor AS amount
    FROM documents JOIN document_lines ON document_id = documents.id LEFT JOIN items ON items.id = item_id
    LEFT JOIN document_links ON from_id = documents.id AND role = 'credits'
    WHERE state = 'posted'
    UNION ALL
    SELECT documents.number, purpose, document_minor
    FROM documents JOIN entry_lines ON entry_lines.entry_id = documents.entry_id
    WHERE purpose IN ('revenue', 'charge_revenue', 'container_liability', 'returns')
)
GROUP BY number, purpose HAVING sum(amount) <> 0
UNION ALL
SELECT documents.number || ': net and tax are not those of its lines and codes'
FROM documents
WHERE state = 'posted' AND (net_minor, tax_minor) <> (
    (SELECT coalesce(sum(document_lines.net_minor), 0) FROM document_lines WHERE document_id = documents.id),
    (SELECT coalesce(sum(document_taxes.tax_minor), 0) FROM document_taxes WHERE document_id = documents.id))
UNION ALL
SELECT 'E-' || number || ' carries revenue, and no invoice or credit memo stands behind it'
FROM entries JOIN entry_lines ON entry_id = entries.id
WHERE purpose IN ('revenue', 'charge_revenue', 'returns') AND source_kind NOT IN ('invoice', 'credit_memo', 'opening')
GROUP BY entries.id;
