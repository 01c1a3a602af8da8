SELECT number || ': its lines come to ' || (SELECT sum(net_minor) FROM invoice_lines WHERE invoice_id = invoices.id) || ', its net is ' || net_minor
FROM invoices WHERE state = 'posted' AND net_minor <> (SELECT sum(net_minor) FROM invoice_lines WHERE invoice_id = invoices.id)
UNION ALL
SELECT number || ': its tax lines do not come to its tax'
FROM invoices WHERE state = 'posted'
  AND (tax_minor, net_minor) <> (SELECT sum(tax_minor), sum(base_minor) FROM document_taxes WHERE document_id = invoices.id)
UNION ALL
SELECT number || ': its orders'' shares do not come to its total'
FROM invoices WHERE state = 'posted'
  AND EXISTS (SELECT 1 FROM document_orders WHERE document_id = invoices.id)
  AND total_minor <> (SELECT sum(gross_minor) FROM document_orders WHERE document_id = invoices.id)
UNION ALL
SELECT number || ': its lines less the discount do not come to its ' || CASE gross_priced WHEN 1 THEN 'total' ELSE 'net' END
FROM invoices WHERE state = 'posted'
  AND lines_minor - coalesce(discount_minor, 0) <> CASE gross_priced WHEN 1 THEN total_minor ELSE net_minor END
UNION ALL
SELECT number || ': its lines or their shares of the discount do not add up'
FROM invoices WHERE state = 'posted'
  AND (lines_minor, coalesce(discount_minor, 0)) <> (SELECT sum(amount_minor), sum(off_minor) FROM invoice_lines WHERE invoice_id = invoices.id);
