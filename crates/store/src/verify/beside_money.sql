-- Discounts for early payment, differences written off and kept: by day, as applications say them and as the ledger does.
SELECT purpose || ' on ' || day || ': ' || sum(amount) || ' apart'
FROM (
    SELECT 'discount_allowed' AS purpose, application_date AS day, discount_base_minor AS amount FROM applications
    UNION ALL
    SELECT 'discount_allowed', application_date, -discount_taxes.tax_base_minor
    FROM discount_taxes JOIN applications ON applications.id = application_id
    UNION ALL
    SELECT 'write_off', application_date, written_off_base_minor FROM applications
    UNION ALL
    -- What the bank counted short of a slip, as it was banked or on its statement.
    SELECT 'write_off', banked_on, amount_base_minor - counted_base_minor FROM bank_slips WHERE counted_base_minor < amount_base_minor
    UNION ALL
    SELECT 'write_off', canceled_on, counted_base_minor - amount_base_minor FROM bank_slips
    WHERE counted_base_minor < amount_base_minor AND cancel_entry_id IS NOT NULL
    UNION ALL
    SELECT 'write_off', entries.posting_date, -base_minor
    FROM bank_matches JOIN bank_lines ON bank_lines.id = line_id
    JOIN entries ON bank_matches.entry_id IN (entries.id, entries.reverses_id)
    JOIN entry_lines ON entry_lines.entry_id = entries.id AND purpose = 'bank'
    WHERE how = 'booked' AND bank_matches.amount_minor < 0 AND bank_lines.amount_minor > 0
    UNION ALL
    SELECT purpose, posting_date, -base_minor FROM entry_lines JOIN entries ON entries.id = entry_id
    WHERE purpose IN ('discount_allowed', 'write_off')
)
GROUP BY purpose, day HAVING sum(amount) <> 0
UNION ALL
-- Nothing is given twice: a discount stands once on what it settles, and is never more than the item came to.
SELECT open_items.number || ': ' || sum(discount_minor) || ' of discount on ' || amount_minor
FROM applications JOIN open_items ON open_items.id = debit_item
GROUP BY debit_item HAVING sum(discount_minor) NOT BETWEEN 0 AND amount_minor
UNION ALL
SELECT 'application ' || applications.id || ': the parts of its discount by tax code are not the discount'
FROM applications JOIN discount_taxes ON application_id = applications.id
GROUP BY applications.id HAVING sum(net_minor + tax_minor) <> discount_minor OR sum(net_base_minor + tax_base_minor) <> discount_base_minor;
