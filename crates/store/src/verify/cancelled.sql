-- The credit memo turns the very lines of the invoice's entries round, and nothing of the invoice is left open.
-- Deposits that were applied in the entry of an invoice.
WITH used AS (
    SELECT applications.* FROM applications JOIN open_items ON open_items.id = credit_item AND purpose = 'deposit_liability'
    JOIN documents ON documents.entry_id = applications.entry_id AND documents.kind <> 'credit_memo' WHERE reverses_id IS NULL
)
SELECT credit_memos.number || ' does not turn the entry of its invoice round'
FROM credit_memos JOIN invoices ON invoices.id = credit_memos.invoice_id
WHERE whole AND NOT EXISTS (SELECT 1 FROM used WHERE used.entry_id = invoices.entry_id) AND EXISTS (
    SELECT 1 FROM entry_lines AS first LEFT JOIN entry_lines AS back
      ON back.entry_id = credit_memos.entry_id AND back.position = first.position AND back.account = first.account
    WHERE first.entry_id = invoices.entry_id
      AND (back.base_minor IS NULL OR back.base_minor <> -first.base_minor OR back.document_minor <> -first.document_minor
           OR coalesce(back.tax_base_minor, 0) <> -coalesce(first.tax_base_minor, 0)))
UNION ALL
-- Deposits that were applied in the entry of the invoice are unapplied by entries of their own: the credit memo turns round
-- what the invoice would have been without them.
SELECT credit_memos.number || ' and the deposits of its invoice do not turn its entry round: ' || purpose || ' is ' || sum(amount) || ' apart'
FROM credit_memos JOIN invoices ON invoices.id = credit_memos.invoice_id
JOIN (
    SELECT entry_id AS entry, purpose, base_minor AS amount FROM entry_lines
    UNION ALL
    SELECT entry_id, 'receivable', debit_base_minor FROM used
    UNION ALL
    SELECT entry_id, 'deposit_liability', -credit_base_minor FROM used
    UNION ALL
    SELECT entry_id, 'deposit_liability', tax_base_minor FROM used JOIN application_taxes ON application_id = used.id
    UNION ALL
    SELECT entry_id, 'tax_payable', -tax_base_minor FROM used JOIN application_taxes ON application_id = used.id
) AS moved ON moved.entry IN (invoices.entry_id, credit_memos.entry_id)
WHERE whole AND EXISTS (SELECT 1 FROM used WHERE used.entry_id = invoices.entry_id)
GROUP BY credit_memos.id, purpose HAVING sum(amount) <> 0
UNION ALL
SELECT credit_memos.number || ' does not turn the cost of its invoice round'
FROM credit_memos JOIN invoices ON invoices.id = credit_memos.invoice_id
WHERE whole AND EXISTS (
    SELECT 1 FROM entry_lines AS first LEFT JOIN entry_lines AS back
      ON back.entry_id = credit_memos.cost_entry_id AND back.position = first.position AND back.account = first.account
    WHERE first.entry_id = invoices.cost_entry_id AND (back.base_minor IS NULL OR back.base_minor <> -first.base_minor))
UNION ALL
SELECT invoices.number || ' is cancelled and still open, or paid'
FROM invoices JOIN open_items AS debit ON debit.kind = 'invoice' AND debit.document_id = invoices.id
WHERE cancelled_by IS NOT NULL AND (open_minor <> 0 OR EXISTS (
    SELECT 1 FROM applications JOIN open_items AS credit ON credit.id = credit_item
    WHERE debit_item = debit.id GROUP BY credit.id HAVING sum(debit_minor) <> 0 AND credit.kind <> 'credit_memo'))
UNION ALL
SELECT credit_memos.number || ' cancels ' || invoices.number || ' and does not come to its amounts'
FROM credit_memos JOIN invoices ON invoices.id = credit_memos.invoice_id
WHERE whole AND (credit_memos.net_minor, credit_memos.tax_minor, credit_memos.total_minor, credit_memos.total_base_minor)
             <> (-invoices.net_minor, -invoices.tax_minor, -invoices.total_minor, -invoices.total_base_minor);
