-- Reporting codes of a ledger line as rows: each is a code of its list, and a report finds its lines.

CREATE TABLE entry_line_codes (
    entry_id INTEGER NOT NULL,
    position INTEGER NOT NULL,
    list TEXT NOT NULL,
    code TEXT NOT NULL,
    PRIMARY KEY (entry_id, position, list),
    FOREIGN KEY (entry_id, position) REFERENCES entry_lines (entry_id, position),
    FOREIGN KEY (list, code) REFERENCES reporting_codes (list, code)
) STRICT, WITHOUT ROWID;
INSERT INTO entry_line_codes
SELECT entry_id, position, said.key, said.value
FROM entry_lines, json_each(entry_lines.marks, '$.codes') AS said
JOIN reporting_codes ON reporting_codes.list = said.key AND reporting_codes.code = said.value
WHERE marks IS NOT NULL;
CREATE INDEX entry_line_codes_by_code ON entry_line_codes (list, code, entry_id);
CREATE TRIGGER entry_line_codes_keep BEFORE UPDATE ON entry_line_codes
BEGIN SELECT RAISE(ABORT, 'a journal entry never changes'); END;
CREATE TRIGGER entry_line_codes_stay BEFORE DELETE ON entry_line_codes
BEGIN SELECT RAISE(ABORT, 'a journal entry is never deleted'); END;
CREATE TRIGGER entry_line_codes_closed BEFORE INSERT ON entry_line_codes
WHEN NEW.entry_id <= (SELECT entry_id FROM ledger_end)
BEGIN SELECT RAISE(ABORT, 'a journal entry never changes'); END;
