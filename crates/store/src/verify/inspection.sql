SELECT 'on ' || day || ': ' || sum(amount) || ' apart'
FROM (
    SELECT posting_date AS day, cost_minor AS amount FROM inspection_layers
    UNION ALL
    SELECT posting_date, -cost_minor FROM inspection_moves
    UNION ALL
    SELECT posting_date, -base_minor FROM entry_lines JOIN entries ON entries.id = entry_id WHERE purpose = 'inspection'
)
GROUP BY day HAVING sum(amount) <> 0;
