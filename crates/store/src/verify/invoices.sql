SELECT number || ': its lines come to ' || (SELECT sum(net_minor) FROM invoice_lines WHERE invoice_id = invoices.id) || ', its net is ' || net_minor
FROM invoices WHERE state = 'posted' AND net_minor <> (SELECT sum(net_minor) FROM invoice_lines WHERE invoice_id = invoices.id)
UNION ALL
SELECT number || ': its tax lines do not come to its tax'
FROM invoices WHERE state = 'posted'
  AND (tax_minor, net_minor) <> (SELECT sum(tax_minor), sum(base_minor) FROM invoice_taxes WHERE invoice_id = invoices.id)
UNION ALL
SELECT number || ': its orders'' shares do not come to its total'
FROM invoices WHERE state = 'posted'
  AND total_minor <> (SELECT sum(gross_minor) FROM invoice_orders WHERE invoice_id = invoices.id);
