-- What was taken back again is applied no more.
WITH applied AS (SELECT * FROM applications WHERE id NOT IN (SELECT application_id FROM unapplications))
SELECT number || ': open is ' || open_minor || ', total less applied is ' || (total_minor - applied)
FROM (
    SELECT number, open_minor, open_base_minor, total_minor, total_base_minor,
           coalesce((SELECT sum(amount_minor) FROM applied WHERE invoice_id = invoices.id), 0)
             + CASE WHEN cancelled_by IS NULL THEN 0 ELSE total_minor END AS applied,
           coalesce((SELECT sum(receivable_base_minor) FROM applied WHERE invoice_id = invoices.id), 0)
             + CASE WHEN cancelled_by IS NULL THEN 0 ELSE total_base_minor END AS applied_base
    FROM invoices WHERE state = 'posted'
)
WHERE open_minor <> total_minor - applied OR (total_minor <> 0 AND open_base_minor <> total_base_minor - applied_base)
UNION ALL
SELECT number || ': unapplied is ' || unapplied_minor || ', amount less applied is ' || (amount_minor - applied)
FROM (
    SELECT number, unapplied_minor, unapplied_base_minor, amount_minor, amount_base_minor,
           coalesce((SELECT sum(amount_minor) FROM applied WHERE receipt_id = receipts.id), 0) AS applied,
           coalesce((SELECT sum(money_base_minor) FROM applied WHERE receipt_id = receipts.id), 0) AS applied_base
    FROM receipts
)
WHERE unapplied_minor <> amount_minor - applied OR unapplied_base_minor <> amount_base_minor - applied_base
UNION ALL
SELECT receipts.number || ' is applied to ' || invoices.number || ' before one of them was there'
FROM applications JOIN receipts ON receipts.id = receipt_id JOIN invoices ON invoices.id = invoice_id
WHERE application_date < receipts.posting_date OR application_date < invoices.posting_date;
