-- No more is captured than was authorized, and no more goes back than was captured.
SELECT card_authorizations.number || ': ' || sum(card_captures.amount_minor) || ' captured of ' || card_authorizations.amount_minor
FROM card_authorizations JOIN card_captures ON authorization_id = card_authorizations.id
GROUP BY card_authorizations.id HAVING sum(card_captures.amount_minor) > card_authorizations.amount_minor
UNION ALL
SELECT card_captures.reference || ': ' || sum(card_returns.amount_minor) || ' went back of ' || card_captures.amount_minor
FROM card_captures JOIN card_returns ON capture_id = card_captures.id
GROUP BY card_captures.id HAVING sum(card_returns.amount_minor) > card_captures.amount_minor
UNION ALL
-- A capture is the receipt or deposit it became.
SELECT card_captures.reference || ' and ' || payments.number || ' differ'
FROM card_captures JOIN card_authorizations ON card_authorizations.id = authorization_id JOIN payments ON payments.id = payment_id
LEFT JOIN money_places ON money_places.code = place
WHERE (payments.amount_minor, payments.customer_id, payments.currency)
   <> (card_captures.amount_minor, card_authorizations.customer_id, card_authorizations.currency)
   OR money_places.kind IS NOT 'card_clearing' OR reversed_on IS NOT NULL
UNION ALL
-- What went back stands against what it came with.
SELECT card_returns.number || ' does not stand against what it came with'
FROM card_returns JOIN card_captures ON card_captures.id = capture_id
LEFT JOIN open_items AS debit ON debit.kind = 'card_return' AND debit.document_id = card_returns.id AND debit.side = 'owed_to_us'
LEFT JOIN applications ON debit_item = debit.id LEFT JOIN open_items AS credit ON credit.id = credit_item
WHERE card_returns.entry_id IS NOT NULL AND (credit.document_id IS NOT payment_id OR debit.amount_minor IS NOT card_returns.amount_minor
   OR debit_minor IS NOT card_returns.amount_minor OR credit.kind NOT IN ('receipt', 'deposit'))
UNION ALL
-- A payout pays what its lines moved.
SELECT card_payouts.number || ' pays ' || cleared_base_minor || ', its lines moved ' || coalesce(sum(moved), 0)
FROM card_payouts LEFT JOIN (
    SELECT payout_id, amount_base_minor AS moved FROM card_captures JOIN payments ON payments.id = payment_id
    UNION ALL
    SELECT payout_id, -cleared_base_minor FROM card_returns
) AS lines ON lines.payout_id = card_payouts.id
WHERE card_payouts.entry_id IS NOT NULL GROUP BY card_payouts.id HAVING cleared_base_minor <> coalesce(sum(moved), 0)
UNION ALL
SELECT card_payouts.number || ' and the entry it wrote differ'
FROM card_payouts
WHERE entry_id IS NOT NULL AND cleared_base_minor <> -coalesce(
    (SELECT sum(base_minor) FROM entry_lines WHERE entry_lines.entry_id = card_payouts.entry_id AND purpose = 'card_clearing'), 0);
