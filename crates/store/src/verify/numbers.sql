SELECT kind || ': numbers run from ' || low || ' to ' || high || ' and ' || void || ' are void, but there are ' || count
FROM (
    SELECT 'entry' AS kind, min(number) AS low, max(number) AS high, count(*) AS count FROM entries
    UNION ALL SELECT 'invoice', min(sequence), max(sequence), count(*) FROM documents WHERE kind = 'invoice' AND state = 'posted'
    UNION ALL SELECT 'prepayment_invoice', min(sequence), max(sequence), count(*) FROM documents WHERE kind = 'prepayment_invoice' AND state = 'posted'
    UNION ALL SELECT 'credit_memo', min(sequence), max(sequence), count(*) FROM credit_memos
    UNION ALL SELECT 'receipt', min(sequence), max(sequence), count(*) FROM payments WHERE kind = 'receipt'
    UNION ALL SELECT 'deposit', min(sequence), max(sequence), count(*) FROM payments WHERE kind = 'deposit'
    UNION ALL SELECT 'refund', min(sequence), max(sequence), count(*) FROM refunds
    UNION ALL SELECT 'deposit_end', min(sequence), max(sequence), count(*) FROM deposit_ends
    UNION ALL SELECT 'payment_request', min(sequence), max(sequence), count(*) FROM payment_requests
    UNION ALL SELECT 'card_authorization', min(sequence), max(sequence), count(*) FROM card_authorizations
    UNION ALL SELECT 'card_return', min(sequence), max(sequence), count(sequence) FROM card_returns
    UNION ALL SELECT 'card_payout', min(sequence), max(sequence), count(sequence) FROM card_payouts
    UNION ALL SELECT 'return', min(sequence), max(sequence), count(*) FROM returns
    UNION ALL SELECT 'return_accrual', min(sequence), max(sequence), count(*) FROM return_accruals
    UNION ALL SELECT 'bank_statement', min(sequence), max(sequence), count(*) FROM bank_statements
    UNION ALL SELECT 'bank_slip', min(sequence), max(sequence), count(*) FROM bank_slips
    UNION ALL SELECT 'estimate', min(sequence), max(sequence), count(*) FROM expected_returns
    UNION ALL SELECT 'opening', min(sequence), max(sequence), count(*) FROM openings
    UNION ALL SELECT 'container_return', min(sequence), max(sequence), count(*) FROM container_returns
) AS used JOIN number_ranges USING (kind)
JOIN (
    SELECT kind, coalesce(sum(last - void_numbers.first + 1), 0) AS void
    FROM number_ranges LEFT JOIN void_numbers USING (kind) GROUP BY kind
) AS passed USING (kind)
WHERE next - first <> count + void OR high >= next OR low < first
   OR EXISTS (SELECT 1 FROM void_numbers JOIN credit_memos ON sequence BETWEEN void_numbers.first AND last
              WHERE void_numbers.kind = 'credit_memo' AND used.kind = 'credit_memo')
   OR EXISTS (SELECT 1 FROM void_numbers JOIN invoices ON sequence BETWEEN void_numbers.first AND last
              WHERE void_numbers.kind = invoices.kind AND used.kind = invoices.kind)
   OR EXISTS (SELECT 1 FROM void_numbers JOIN payments ON sequence BETWEEN void_numbers.first AND last
              WHERE void_numbers.kind = payments.kind AND used.kind = payments.kind);
