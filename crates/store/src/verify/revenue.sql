-- What documents sold and took back, by where it goes, against the lines of the ledger, in document currency.
SELECT number || ': its lines for ' || purpose || ' and its entry are ' || sum(amount) || ' apart'
FROM (
    SELECT documents.number, CASE WHEN document_lines.prepaid_base_minor IS NOT NULL THEN 'prepayment_liability'
             ELSE CASE coalesce(document_lines.kind, items.kind) WHEN 'charge' THEN 'charge_revenue'
             WHEN 'packaging' THEN 'container_liability'
             -- What goes the other way on a credit memo is sold; so is what an exchange supplies.
             ELSE CASE WHEN account IS NOT NULL THEN 'revenue'
                       -- Of what stands on no invoice: a credit memo, an exchange.
                       WHEN credits_line_id IS NULL AND document_lines.quantity_e4 < 0 THEN 'returns'
                       WHEN role IS NULL OR credits_line_id IS NULL THEN 'revenue' ELSE 'returns' END END END AS purpose,
           document_lines.net_minor AS amount
    FROM documents JOIN document_lines ON document_id = documents.id LEFT JOIN items ON items.id = item_id
    LEFT JOIN document_links ON from_id = documents.id AND role = 'credits'
    WHERE state = 'posted'
    UNION ALL
    -- What lines used of what was prepaid, and what is given back as their invoice is canceled.
    SELECT documents.number, 'prepayment_liability', -prepaid_uses.net_minor
    FROM prepaid_uses JOIN document_lines ON document_lines.id = line_id
    JOIN documents ON documents.id = CASE given_back WHEN 0 THEN document_id
         ELSE (SELECT from_id FROM document_links WHERE to_id = document_id AND role = 'cancels') END
    UNION ALL
    SELECT documents.number, purpose, document_minor
    FROM documents JOIN entry_lines ON entry_lines.entry_id = documents.entry_id
    WHERE purpose IN ('revenue', 'charge_revenue', 'container_liability', 'returns', 'prepayment_liability')
)
GROUP BY number, purpose HAVING sum(amount) <> 0
UNION ALL
SELECT documents.number || ': net and tax are not those of its lines and codes'
FROM documents
WHERE state = 'posted' AND (net_minor, tax_minor) <> (
    (SELECT coalesce(sum(document_lines.net_minor), 0) FROM document_lines WHERE document_id = documents.id)
      - coalesce((SELECT sum(prepaid_uses.net_minor) FROM prepaid_uses JOIN document_lines ON document_lines.id = line_id
                  WHERE document_id = documents.id AND given_back = 0), 0)
      -- A credit memo over the whole of an invoice gives back what that used.
      + coalesce((SELECT sum(prepaid_uses.net_minor) FROM document_links JOIN document_lines ON document_lines.document_id = to_id
                  JOIN prepaid_uses ON line_id = document_lines.id AND given_back = 0
                  WHERE from_id = documents.id AND role = 'cancels'), 0),
    (SELECT coalesce(sum(document_taxes.tax_minor), 0) FROM document_taxes WHERE document_id = documents.id))
UNION ALL
SELECT 'E-' || number || ' carries revenue, and no invoice or credit memo stands behind it'
FROM entries JOIN entry_lines ON entry_id = entries.id
WHERE purpose IN ('revenue', 'charge_revenue', 'returns') AND source_kind NOT IN ('invoice', 'credit_memo', 'opening', 'estimate', 'return_accrual')
GROUP BY entries.id;
