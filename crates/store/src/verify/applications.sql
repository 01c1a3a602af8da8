-- What is kept as open follows from what was applied, in both currencies.
SELECT number || ': open is ' || open_minor || ' and ' || open_base_minor || ' in base currency, amount less applied is '
       || (amount_minor - applied) || ' and ' || (amount_base_minor - applied_base)
FROM (
    SELECT number, open_minor, open_base_minor, amount_minor, amount_base_minor,
           coalesce((SELECT sum(debit_minor) FROM applications WHERE debit_item = open_items.id), 0)
             + coalesce((SELECT sum(credit_minor) FROM applications WHERE credit_item = open_items.id), 0) AS applied,
           coalesce((SELECT sum(debit_base_minor) FROM applications WHERE debit_item = open_items.id), 0)
             + coalesce((SELECT sum(credit_base_minor) FROM applications WHERE credit_item = open_items.id), 0) AS applied_base
    FROM open_items
)
WHERE open_minor <> amount_minor - applied OR (amount_minor <> 0 AND open_base_minor <> amount_base_minor - applied_base)
UNION ALL
SELECT credit.number || ' is applied to ' || debit.number || ' before one of them was there'
FROM applications JOIN open_items AS debit ON debit.id = debit_item JOIN open_items AS credit ON credit.id = credit_item
WHERE application_date < debit.posting_date OR application_date < credit.posting_date
UNION ALL
SELECT credit.number || ' is applied to ' || debit.number || ' on the wrong side'
FROM applications JOIN open_items AS debit ON debit.id = debit_item JOIN open_items AS credit ON credit.id = credit_item
WHERE debit.side <> 'owed_to_us' OR credit.side <> 'owed_by_us'
UNION ALL
SELECT credit.number || ' in ' || credit.currency || ' is applied to ' || debit.number || ': two amounts in one currency'
FROM applications JOIN open_items AS debit ON debit.id = debit_item JOIN open_items AS credit ON credit.id = credit_item
WHERE debit.currency = credit.currency AND debit_minor <> credit_minor + discount_minor + written_off_minor - kept_minor
UNION ALL
-- Every document that carries a balance has its item, at its amounts.
SELECT coalesce(documents.number, 'a document') || ' and its open item differ'
FROM (
    SELECT 'invoice' AS kind, id, number, customer_id, 'owed_to_us' AS side, currency, total_minor AS amount, total_base_minor AS base, posting_date AS day
    FROM invoices WHERE state = 'posted'
    UNION ALL
    SELECT kind, id, number, customer_id, 'owed_by_us', currency, amount_minor, amount_base_minor, posting_date FROM payments
    UNION ALL
    SELECT kind, id, number, customer_id, 'owed_to_us', currency, amount_minor, amount_base_minor, reversed_on FROM payments
    WHERE reversed_on IS NOT NULL AND id NOT IN (SELECT id FROM deposits WHERE turned_from IS NOT NULL)
    UNION ALL
    -- What uses up the unapplied money a deposit was made of.
    SELECT kind, payments.id, number, customer_id, 'owed_to_us', currency, amount_minor, amount_base_minor, posting_date
    FROM payments JOIN deposits ON deposits.id = payments.id AND turned_from IS NOT NULL
    UNION ALL
    SELECT 'deposit_end', deposit_ends.id, deposit_ends.number, customer_id, 'owed_to_us', currency, deposit_ends.amount_minor, deposit_ends.amount_base_minor, deposit_ends.posting_date
    FROM deposit_ends JOIN payments ON payments.id = deposit_id
    UNION ALL
    SELECT 'deposit_end', deposit_ends.id, deposit_ends.number, customer_id, 'owed_by_us', currency, deposit_ends.amount_minor, deposit_ends.amount_base_minor, deposit_ends.reversed_on
    FROM deposit_ends JOIN payments ON payments.id = deposit_id WHERE deposit_ends.reversed_on IS NOT NULL
    UNION ALL
    SELECT 'refund', refunds.id, refunds.number, customer_id, 'owed_to_us', currency, refunds.amount_minor, refunds.amount_base_minor, refunds.posting_date
    FROM refunds JOIN open_items ON open_items.id = item_id
    UNION ALL
    SELECT 'refund', refunds.id, refunds.number, customer_id, 'owed_by_us', currency, refunds.amount_minor, refunds.amount_base_minor, refunds.reversed_on
    FROM refunds JOIN open_items ON open_items.id = item_id WHERE refunds.reversed_on IS NOT NULL
    UNION ALL
    SELECT 'card_return', card_returns.id, card_returns.number, customer_id, 'owed_to_us', currency, card_returns.amount_minor, card_returns.amount_base_minor, card_returns.posting_date
    FROM card_returns JOIN card_captures ON card_captures.id = capture_id JOIN card_authorizations ON card_authorizations.id = authorization_id
    WHERE card_returns.entry_id IS NOT NULL
    UNION ALL
    SELECT 'credit_memo', id, number, customer_id, 'owed_by_us', currency, -total_minor, -total_base_minor, posting_date FROM credit_memos
    UNION ALL
    SELECT 'container_return', container_returns.id, number, customer_id, 'owed_by_us', base_currency, amount_minor, amount_minor, posting_date
    FROM container_returns JOIN company
    UNION ALL
    SELECT 'opening', opening_items.id, opening_items.number, opening_items.customer_id, side, currency, amount_minor, amount_base_minor, openings.posting_date
    FROM opening_items JOIN openings ON openings.id = opening_id JOIN open_items ON kind = 'opening' AND document_id = opening_items.id
) AS documents
FULL JOIN (
    -- A credit of which part is kept makes two: on receivables, and unapplied.
    SELECT min(id) AS id, kind, document_id, side, customer_id, currency, posting_date, sum(amount_minor) AS amount_minor, sum(amount_base_minor) AS amount_base_minor
    FROM open_items GROUP BY kind, document_id, side, customer_id, currency, posting_date
) AS items ON items.kind = documents.kind AND items.document_id = documents.id AND items.side = documents.side
WHERE items.id IS NULL OR documents.id IS NULL
   OR (items.customer_id, items.currency, items.amount_minor, items.amount_base_minor, items.posting_date)
      <> (documents.customer_id, documents.currency, documents.amount, documents.base, documents.day);
