-- What of its lines was prepaid was billed before.
WITH prepaid (invoice, net, gross) AS (
    SELECT document_id, sum(prepaid_uses.net_minor), sum(prepaid_uses.net_minor + prepaid_uses.tax_minor)
    FROM prepaid_uses JOIN document_lines ON document_lines.id = line_id WHERE given_back = 0 GROUP BY document_id
)
SELECT number || ': its lines come to ' || (SELECT sum(net_minor) FROM document_lines WHERE document_id = invoices.id) || ', its net is ' || net_minor
FROM invoices LEFT JOIN prepaid ON prepaid.invoice = invoices.id
WHERE state = 'posted' AND net_minor + coalesce(prepaid.net, 0) <> (SELECT sum(net_minor) FROM document_lines WHERE document_id = invoices.id)
UNION ALL
SELECT number || ': its tax lines do not come to its tax'
FROM invoices WHERE state = 'posted'
  AND (tax_minor, net_minor) <> (SELECT sum(tax_minor), sum(base_minor) FROM document_taxes WHERE document_id = invoices.id)
UNION ALL
SELECT number || ': it has a line with a minus that takes nothing back, and is no credit memo'
FROM documents JOIN document_lines ON document_id = documents.id
WHERE documents.kind <> 'credit_memo' AND credits_line_id IS NULL AND return_line_id IS NULL AND quantity_e4 < 0
UNION ALL
SELECT documents.number || ': it stands alone and does not come to its lines and taxes'
FROM documents WHERE documents.kind = 'credit_memo' AND state = 'posted' AND NOT EXISTS (SELECT 1 FROM document_links WHERE from_id = documents.id)
  AND ((net_minor, lines_minor) <> (SELECT sum(document_lines.net_minor), sum(amount_minor) FROM document_lines WHERE document_id = documents.id)
       OR (tax_minor, net_minor) <> (SELECT coalesce(sum(document_taxes.tax_minor), 0), coalesce(sum(base_minor), 0) FROM document_taxes WHERE document_id = documents.id))
UNION ALL
SELECT number || ': its orders'' shares do not come to its total'
FROM invoices WHERE state = 'posted'
  AND EXISTS (SELECT 1 FROM document_orders WHERE document_id = invoices.id)
  AND total_minor <> (SELECT sum(gross_minor) FROM document_orders WHERE document_id = invoices.id)
UNION ALL
SELECT number || ': its lines less the discount do not come to its ' || CASE gross_priced WHEN 1 THEN 'total' ELSE 'net' END
FROM invoices LEFT JOIN prepaid ON prepaid.invoice = invoices.id WHERE state = 'posted'
  AND lines_minor - coalesce(discount_minor, 0)
      <> CASE gross_priced WHEN 1 THEN total_minor + coalesce(prepaid.gross, 0) ELSE net_minor + coalesce(prepaid.net, 0) END
UNION ALL
SELECT number || ': its lines or their shares of the discount do not add up'
FROM invoices WHERE state = 'posted'
  AND (lines_minor, coalesce(discount_minor, 0)) <> (SELECT sum(amount_minor), sum(off_minor) FROM document_lines WHERE document_id = invoices.id);
