SELECT kind || ': numbers run from ' || low || ' to ' || high || ', but there are ' || count
FROM (
    SELECT 'entry' AS kind, min(number) AS low, max(number) AS high, count(*) AS count FROM entries
    UNION ALL SELECT 'invoice', min(sequence), max(sequence), count(*) FROM invoices WHERE state = 'posted'
    UNION ALL SELECT 'receipt', min(sequence), max(sequence), count(*) FROM receipts
) AS used JOIN number_ranges USING (kind)
WHERE (count > 0 AND (high - low + 1 <> count OR low <> first OR high <> next - 1)) OR (count = 0 AND next <> first);
