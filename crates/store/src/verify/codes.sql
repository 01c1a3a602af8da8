-- The reporting codes of a ledger line are rows of their own, the very ones the line was posted with.
SELECT 'E-' || number || ', line ' || (position + 1) || ': posted with ' || list || ' ' || code || ', and no such row stands beside it'
FROM (
    SELECT entry_id, position, said.key AS list, said.value AS code
    FROM entry_lines, json_each(entry_lines.marks, '$.codes') AS said WHERE marks IS NOT NULL
    EXCEPT SELECT entry_id, position, list, code FROM entry_line_codes
) JOIN entries ON entries.id = entry_id
UNION ALL
SELECT 'E-' || number || ', line ' || (position + 1) || ': a row says ' || list || ' ' || code || ', it was posted without'
FROM (
    SELECT entry_id, position, list, code FROM entry_line_codes
    EXCEPT SELECT entry_id, position, said.key, said.value
    FROM entry_lines, json_each(entry_lines.marks, '$.codes') AS said WHERE marks IS NOT NULL
) JOIN entries ON entries.id = entry_id;
