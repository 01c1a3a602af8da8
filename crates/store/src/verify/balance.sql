SELECT 'entry ' || number || ' is ' || coalesce(sum(base_minor), 'empty') || ' apart'
FROM entries LEFT JOIN entry_lines ON entry_id = entries.id
GROUP BY entries.id HAVING coalesce(sum(base_minor), 1) <> 0 OR count(*) < 2
UNION ALL
SELECT 'all accounts together are ' || sum(base_minor) FROM entry_lines HAVING coalesce(sum(base_minor), 0) <> 0;
