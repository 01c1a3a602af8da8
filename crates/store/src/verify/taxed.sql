-- What was taxed: for every document, code and tax date, the taxed amount of its lines in document currency, and the revenue
-- of the ledger in base currency, against the tax lines of its entry. From the first entry on that carries them
-- (ledger_since): what stood before keeps its figures.
WITH since AS (SELECT entry_id FROM ledger_since WHERE what = 'taxed_supplies'),
posted AS (
    SELECT * FROM documents WHERE state = 'posted' AND entry_id >= (SELECT entry_id FROM since) AND NOT EXISTS (
        SELECT 1 FROM document_links JOIN documents AS first ON first.id = to_id
        WHERE from_id = documents.id AND role IN ('cancels', 'credits') AND first.entry_id < (SELECT entry_id FROM since)))
SELECT number || ', code ' || code || ' of ' || day || ': taxed amounts are ' || sum(amount) || ' apart'
FROM (
    SELECT posted.number, tax_code AS code, document_lines.tax_date AS day, document_lines.net_minor AS amount
    FROM posted JOIN document_lines ON document_id = posted.id
    UNION ALL
    -- What was prepaid was taxed with its prepayment invoice; as an invoice is canceled the other way round.
    SELECT posted.number, document_lines.tax_code, document_lines.tax_date, -prepaid_uses.net_minor
    FROM posted JOIN document_lines ON document_id = posted.id JOIN prepaid_uses ON line_id = document_lines.id AND given_back = 0
    UNION ALL
    SELECT posted.number, document_lines.tax_code, document_lines.tax_date, prepaid_uses.net_minor
    FROM posted JOIN document_links ON from_id = posted.id AND role = 'cancels'
    JOIN document_lines ON document_lines.document_id = to_id JOIN prepaid_uses ON line_id = document_lines.id AND given_back = 0
    UNION ALL
    -- What was taxed as deposits came in is not taxed again.
    SELECT posted.number, tax_code, application_taxes.tax_date, -application_taxes.net_minor
    FROM posted JOIN applications ON applications.entry_id = posted.entry_id AND reverses_id IS NULL
    JOIN application_taxes ON application_id = applications.id
    UNION ALL
    -- A credit that takes a discount back gives the tax of that along, beside its own.
    SELECT posted.number, tax_code, discount_taxes.tax_date, -discount_taxes.net_minor
    FROM posted JOIN applications ON applications.entry_id = posted.entry_id
    JOIN discount_taxes ON application_id = applications.id
    UNION ALL
    SELECT posted.number, tax_code, entry_lines.tax_date, -tax_document_base_minor
    FROM posted JOIN entry_lines ON entry_lines.entry_id = posted.entry_id AND purpose = 'tax_payable'
)
GROUP BY number, code, day HAVING sum(amount) <> 0
UNION ALL
SELECT posted.number || ': what was taxed is ' || taxed || ' in base currency, what was sold ' || sold
FROM posted JOIN (
    SELECT entry_id, coalesce(sum(tax_base_minor) FILTER (WHERE purpose = 'tax_payable'), 0) AS taxed,
           -coalesce(sum(base_minor) FILTER (WHERE purpose IN ('revenue', 'charge_revenue', 'container_liability', 'returns', 'prepayment_liability')), 0) AS sold
    FROM entry_lines GROUP BY entry_id
) AS entry USING (entry_id)
WHERE taxed + coalesce((SELECT sum(net_base_minor) FROM applications JOIN application_taxes ON application_id = applications.id
                        WHERE applications.entry_id = posted.entry_id AND reverses_id IS NULL), 0)
      + coalesce((SELECT sum(net_base_minor) FROM applications JOIN discount_taxes ON application_id = applications.id
                  WHERE applications.entry_id = posted.entry_id), 0) <> sold
UNION ALL
SELECT posted.number || ': its tax in base currency is not that of its total'
FROM posted JOIN entry_lines ON entry_lines.entry_id = posted.entry_id AND purpose = 'tax_payable'
JOIN company
WHERE posted.currency = base_currency AND base_minor <> document_minor
UNION ALL
SELECT 'E-' || number || ' has a tax line without its rate, its date or what was taxed'
FROM entry_lines JOIN entries ON entries.id = entry_id
WHERE purpose = 'tax_payable' AND entries.id >= (SELECT entry_id FROM since) AND source_kind IN ('invoice', 'credit_memo') AND NOT EXISTS (
    SELECT 1 FROM document_links JOIN documents AS first ON first.id = to_id
    WHERE from_id = source_id AND first.entry_id < (SELECT entry_id FROM since))
  AND (tax_code IS NULL OR tax_rate_e6 IS NULL OR tax_date IS NULL OR tax_document_base_minor IS NULL);
