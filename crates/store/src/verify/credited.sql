-- Credited is never above billed: quantity, net and tax of every line and code; nothing is credited of what was cancelled.
SELECT documents.number || ', line ' || (billed.position + 1) || ': more was credited than it billed'
FROM document_lines AS billed JOIN documents ON documents.id = billed.document_id
JOIN document_lines AS credit ON credit.credits_line_id = billed.id
GROUP BY billed.id
HAVING billed.quantity_e4 + sum(credit.quantity_e4) < 0
    OR (billed.net_minor >= 0 AND billed.net_minor + sum(credit.net_minor) < 0)
    OR (billed.net_minor < 0 AND billed.net_minor + sum(credit.net_minor) > 0)
UNION ALL
SELECT documents.number || ', code ' || billed.tax_code || ': more tax was credited than it charged'
FROM document_taxes AS billed JOIN documents ON documents.id = billed.document_id AND kind <> 'credit_memo'
LEFT JOIN (
    -- Tax of what was prepaid goes back with the line that used it.
    SELECT document_id, tax_code, tax_rate_e6, sum(prepaid_uses.tax_minor) AS tax FROM prepaid_uses
    JOIN document_lines ON document_lines.id = line_id WHERE given_back = 0 GROUP BY document_id, tax_code, tax_rate_e6
) AS prepaid ON prepaid.document_id = billed.document_id AND prepaid.tax_code = billed.tax_code AND tax_rate_e6 = billed.rate_e6
JOIN document_links ON to_id = documents.id AND role IN ('cancels', 'credits')
JOIN document_taxes AS credit ON credit.document_id = from_id AND credit.tax_code = billed.tax_code AND credit.rate_e6 = billed.rate_e6
     -- What goes the other way is no credit, and what an exchange takes back was billed elsewhere.
     AND credit.base_minor <= 0
WHERE billed.base_minor >= 0
GROUP BY billed.document_id, billed.position
HAVING billed.tax_minor + coalesce(prepaid.tax, 0) + sum(credit.tax_minor) < 0 AND billed.tax_minor >= 0
UNION ALL
SELECT documents.number || ' is credited in full, and something of it is left'
FROM documents WHERE kind <> 'credit_memo' AND state = 'posted' AND total_minor > 0
  -- Of an exchange only what it supplies can be credited: line by line and code by code, above.
  AND NOT EXISTS (SELECT 1 FROM document_links WHERE from_id = documents.id AND role = 'credits')
  AND EXISTS (SELECT 1 FROM document_links WHERE to_id = documents.id AND role = 'credits')
  AND NOT EXISTS (
      SELECT 1 FROM document_lines AS billed WHERE billed.document_id = documents.id
        AND billed.net_minor + coalesce((SELECT sum(net_minor) FROM document_lines WHERE credits_line_id = billed.id), 0) <> 0)
  AND total_minor + coalesce((SELECT sum(prepaid_uses.net_minor + prepaid_uses.tax_minor) FROM prepaid_uses
          JOIN document_lines ON document_lines.id = line_id WHERE document_id = documents.id AND given_back = 0), 0)
      -- What was taken back on all of them, whatever else they say.
      + (SELECT sum(net_minor) FROM document_lines AS credit JOIN document_links ON from_id = credit.document_id AND to_id = documents.id
         WHERE credits_line_id IS NOT NULL)
      + (SELECT sum(tax_minor) FROM document_taxes AS credit JOIN document_links ON from_id = credit.document_id AND to_id = documents.id
         WHERE base_minor <= 0) <> 0
UNION ALL
SELECT documents.number || ' is cancelled and credited by line'
FROM documents WHERE EXISTS (SELECT 1 FROM document_links WHERE to_id = documents.id AND role = 'cancels')
  AND EXISTS (SELECT 1 FROM document_links WHERE to_id = documents.id AND role = 'credits')
UNION ALL
SELECT memo.number || ' takes back a line of another document than the one it is tied to'
FROM document_lines AS credit JOIN documents AS memo ON memo.id = credit.document_id
JOIN document_lines AS billed ON billed.id = credit.credits_line_id
WHERE NOT EXISTS (SELECT 1 FROM document_links WHERE from_id = memo.id AND to_id = billed.document_id)
UNION ALL
SELECT memo.number || ' is dated before the invoice it takes back from'
FROM documents AS memo JOIN document_links ON from_id = memo.id AND role IN ('cancels', 'credits')
JOIN documents ON documents.id = to_id WHERE memo.posting_date < documents.posting_date;
