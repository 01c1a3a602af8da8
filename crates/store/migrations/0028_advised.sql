-- What a transfer says it is for, document by document.
ALTER TABLE bank_lines ADD COLUMN advised TEXT CHECK (advised IS NULL OR json_valid(advised));
DROP TRIGGER bank_lines_keep;
CREATE TRIGGER bank_lines_keep BEFORE UPDATE OF id, statement_id, position, booked_on, value_on, amount_minor, kind, words, reference, party,
    party_account, bank_reference, advised ON bank_lines
BEGIN SELECT RAISE(ABORT, 'a line of a bank statement never changes'); END;
