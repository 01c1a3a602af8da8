-- Bank statements: each proves its balances, follows the one before it, and what is cleared of a line is what its entries moved.
SELECT number || ': opens with ' || opening_minor || ', closes with ' || closing_minor || ', its lines come to '
       || (SELECT coalesce(sum(amount_minor), 0) FROM bank_lines WHERE statement_id = bank_statements.id)
FROM bank_statements
WHERE opening_minor + (SELECT coalesce(sum(amount_minor), 0) FROM bank_lines WHERE statement_id = bank_statements.id) <> closing_minor
UNION ALL
SELECT later.number || ' does not open with what ' || earlier.number || ' closed with'
FROM bank_statements AS later
JOIN bank_statements AS earlier ON earlier.id = (SELECT max(id) FROM bank_statements AS before WHERE before.place = later.place AND before.id < later.id)
WHERE later.opening_minor <> earlier.closing_minor
UNION ALL
SELECT 'line ' || (position + 1) || ' of ' || number || ': cleared is ' || cleared_minor || ', its matches say ' || coalesce(sum(bank_matches.amount_minor), 0)
FROM bank_lines JOIN bank_statements ON bank_statements.id = statement_id
LEFT JOIN bank_matches ON line_id = bank_lines.id AND undone_on IS NULL
GROUP BY bank_lines.id HAVING cleared_minor <> coalesce(sum(bank_matches.amount_minor), 0)
UNION ALL
SELECT 'E-' || entries.number || ' is cleared by ' || bank_matches.amount_minor || ' on ' || bank_statements.number || ', it moved ' || coalesce(CASE WHEN bank_statements.currency = base_currency THEN base ELSE document END, 0)
FROM bank_matches JOIN bank_lines ON bank_lines.id = line_id JOIN bank_statements ON bank_statements.id = statement_id
JOIN money_places ON money_places.code = place JOIN entries ON entries.id = bank_matches.entry_id
LEFT JOIN (
    SELECT entry_id, account, sum(base_minor) AS base, sum(document_minor) AS document FROM entry_lines WHERE purpose = 'bank' GROUP BY entry_id, account
) AS lines ON lines.entry_id = entries.id AND lines.account = money_places.account
JOIN company
WHERE undone_on IS NULL AND bank_matches.amount_minor <> coalesce(CASE WHEN bank_statements.currency = base_currency THEN base ELSE document END, 0)
UNION ALL
SELECT payments.number || ' is said to be cleared, no bank statement says so'
FROM payments
WHERE whereabouts = 'cleared' AND NOT EXISTS (
    SELECT 1 FROM bank_matches WHERE undone_on IS NULL AND bank_matches.entry_id IN (
        SELECT payments.entry_id
        UNION ALL
        SELECT bank_slips.entry_id FROM bank_slip_lines JOIN bank_slips ON bank_slips.id = slip_id WHERE bank_slip_lines.entry_id = payments.entry_id AND live));
