-- Prepaid net = used + credited + left, for every line of a prepayment invoice: never less than nothing, and nothing of its
-- tax and of what it is carried at is left once nothing of its net is.
SELECT number || ', line ' || (position + 1) || ': ' || left_net || ' net, ' || left_tax || ' tax and ' || left_base || ' in base currency are left'
FROM (
    SELECT number, position, net_minor - used_minor - credited_minor AS left_net, tax_minor - used_tax_minor - credited_tax_minor AS left_tax,
           net_base_minor - used_base_minor - credited_base_minor AS left_base
    FROM prepaid_register
)
WHERE left_net < 0 OR left_tax < 0 OR left_base < 0 OR (left_net = 0 AND (left_tax, left_base) <> (0, 0))
UNION ALL
SELECT used.number || ' uses what was billed in advance of another order line'
FROM prepaid_uses JOIN document_lines AS line ON line.id = line_id JOIN documents AS used ON used.id = line.document_id
JOIN document_lines AS prepaid ON prepaid.id = prepaid_line_id LEFT JOIN shipment_lines ON shipment_lines.id = line.shipment_line_id
WHERE coalesce(line.order_line_id, shipment_lines.order_line_id) IS NOT prepaid.prepays_line_id
UNION ALL
SELECT used.number || ' uses more of what was billed in advance than its line ' || (line.position + 1) || ' comes to'
FROM prepaid_uses JOIN document_lines AS line ON line.id = line_id JOIN documents AS used ON used.id = line.document_id
WHERE given_back = 0 GROUP BY line.id HAVING sum(prepaid_uses.net_minor) > line.net_minor
UNION ALL
-- What a canceled invoice used is given back, all of it and nothing else.
SELECT documents.number || ': what it used of prepayments is not given back as it was canceled'
FROM prepaid_uses JOIN document_lines ON document_lines.id = line_id JOIN documents ON documents.id = document_id
GROUP BY line_id, prepaid_line_id
HAVING EXISTS (SELECT 1 FROM document_links WHERE to_id = document_id AND role = 'cancels')
       <> ((sum(prepaid_uses.net_minor), sum(prepaid_uses.tax_minor), sum(prepaid_uses.net_base_minor), count(*)) = (0, 0, 0, 2))
UNION ALL
-- A prepayment invoice is made of such lines and of nothing else, and its shares of the tax come to its tax.
SELECT documents.number || ' and the register of what it billed in advance differ'
FROM documents
WHERE state = 'posted' AND kind <> 'credit_memo' AND (kind = 'prepayment_invoice') <> (EXISTS (
    SELECT 1 FROM document_lines WHERE document_id = documents.id AND prepays_line_id IS NOT NULL))
   OR (kind = 'prepayment_invoice' AND state = 'posted' AND (net_minor, tax_minor) <> (
    SELECT sum(net_minor), sum(prepaid_tax_minor) FROM document_lines WHERE document_id = documents.id));
