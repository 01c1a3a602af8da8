-- What returns are expected, row by row, against the entries and the accounts.
SELECT number || ': its entry is not what changed' FROM expected_returns
WHERE more_net_minor <> coalesce((SELECT -sum(base_minor) FROM entry_lines WHERE entry_lines.entry_id = expected_returns.entry_id AND purpose = 'refund_liability'), 0)
   OR more_cost_minor <> coalesce((SELECT sum(base_minor) FROM entry_lines WHERE entry_lines.entry_id = expected_returns.entry_id AND purpose = 'right_to_goods'), 0)
UNION ALL
SELECT number || ': it is not the estimate before and what changed' FROM (
    SELECT number, net_minor, cost_minor, more_net_minor, more_cost_minor,
           lag(net_minor, 1, 0) OVER (ORDER BY id) AS net_before, lag(cost_minor, 1, 0) OVER (ORDER BY id) AS cost_before FROM expected_returns
) WHERE net_minor <> net_before + more_net_minor OR cost_minor <> cost_before + more_cost_minor
UNION ALL
SELECT purpose || ' is ' || stands || ', the estimate that stands is another' FROM (
    SELECT 'refund_liability' AS purpose, (SELECT coalesce(-sum(base_minor), 0) FROM entry_lines WHERE purpose = 'refund_liability') AS stands,
           coalesce((SELECT net_minor FROM expected_returns ORDER BY id DESC LIMIT 1), 0) AS estimated
    UNION ALL
    SELECT 'right_to_goods', (SELECT coalesce(sum(base_minor), 0) FROM entry_lines WHERE purpose = 'right_to_goods'),
           coalesce((SELECT cost_minor FROM expected_returns ORDER BY id DESC LIMIT 1), 0)
) WHERE stands <> estimated
UNION ALL
SELECT return_accruals.number || ': its entry or its reversal is not what was owed'
FROM return_accruals JOIN entries AS first ON first.id = entry_id JOIN entries AS back ON back.id = reversal_entry_id
WHERE net_minor <> coalesce((SELECT -sum(base_minor) FROM entry_lines WHERE entry_lines.entry_id = first.id AND purpose = 'refund_liability'), 0)
   OR net_minor <> coalesce((SELECT sum(base_minor) FROM entry_lines WHERE entry_lines.entry_id = back.id AND purpose = 'refund_liability'), 0)
   OR (first.posting_date, back.posting_date) <> (return_accruals.posting_date, reversed_on);
