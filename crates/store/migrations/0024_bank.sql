-- Bank statements: taken in once, line by line cleared against the ledger.

-- The number of a bank account as its statements name it; NULL where none was said.
ALTER TABLE money_places ADD COLUMN bank_account TEXT CHECK (length(bank_account) > 0);
CREATE UNIQUE INDEX money_places_by_bank_account ON money_places (bank_account) WHERE bank_account IS NOT NULL;

CREATE TABLE bank_statements (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    number TEXT NOT NULL UNIQUE,
    sequence INTEGER NOT NULL UNIQUE,
    place TEXT NOT NULL REFERENCES money_places (code),
    -- What the bank calls it.
    bank_id TEXT NOT NULL,
    currency TEXT NOT NULL CHECK (length(currency) = 3),
    opening_on TEXT NOT NULL CHECK (opening_on = date(opening_on)),
    opening_minor INTEGER NOT NULL,
    closing_on TEXT NOT NULL CHECK (closing_on = date(closing_on)),
    closing_minor INTEGER NOT NULL,
    -- The same for the same statement, whatever the file was called.
    mark TEXT NOT NULL,
    file_name TEXT NOT NULL,
    imported_on TEXT NOT NULL CHECK (imported_on = date(imported_on)),
    UNIQUE (place, mark)
) STRICT;
CREATE TRIGGER bank_statements_keep BEFORE UPDATE ON bank_statements
BEGIN SELECT RAISE(ABORT, 'a bank statement never changes'); END;
CREATE TRIGGER bank_statements_stay BEFORE DELETE ON bank_statements
BEGIN SELECT RAISE(ABORT, 'a bank statement is never deleted'); END;

CREATE TABLE bank_lines (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    statement_id INTEGER NOT NULL REFERENCES bank_statements (id),
    position INTEGER NOT NULL,
    booked_on TEXT NOT NULL CHECK (booked_on = date(booked_on)),
    value_on TEXT CHECK (value_on = date(value_on)),
    amount_minor INTEGER NOT NULL CHECK (amount_minor <> 0),
    kind TEXT NOT NULL CHECK (kind IN ('transfer', 'returned', 'fee', 'interest', 'deposit', 'card_payout')),
    words TEXT NOT NULL,
    reference TEXT,
    party TEXT,
    party_account TEXT,
    bank_reference TEXT,
    -- What of it is cleared: kept for speed, proved by `verify` from the matches.
    cleared_minor INTEGER NOT NULL DEFAULT 0,
    UNIQUE (statement_id, position),
    CHECK (cleared_minor = 0 OR (cleared_minor > 0) = (amount_minor > 0)),
    CHECK (abs(cleared_minor) <= abs(amount_minor))
) STRICT;
CREATE INDEX bank_lines_open ON bank_lines (statement_id, position) WHERE cleared_minor <> amount_minor;
CREATE TRIGGER bank_lines_keep BEFORE UPDATE OF id, statement_id, position, booked_on, value_on, amount_minor, kind, words, reference, party,
    party_account, bank_reference ON bank_lines
BEGIN SELECT RAISE(ABORT, 'a line of a bank statement never changes'); END;
CREATE TRIGGER bank_lines_stay BEFORE DELETE ON bank_lines
BEGIN SELECT RAISE(ABORT, 'a line of a bank statement is never lost'); END;

-- Which entry of the ledger a line is, or a part of it.
CREATE TABLE bank_matches (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    line_id INTEGER NOT NULL REFERENCES bank_lines (id),
    entry_id INTEGER NOT NULL REFERENCES entries (id),
    amount_minor INTEGER NOT NULL CHECK (amount_minor <> 0),
    -- Whether the entry was in the books already, is a receipt made of the line, or was booked from it.
    how TEXT NOT NULL CHECK (how IN ('cleared', 'receipt', 'booked')),
    matched_on TEXT NOT NULL CHECK (matched_on = date(matched_on)),
    undone_on TEXT CHECK (undone_on = date(undone_on)),
    undone_reason TEXT CHECK ((undone_reason IS NULL) = (undone_on IS NULL))
) STRICT;
CREATE INDEX bank_matches_by_line ON bank_matches (line_id);
CREATE INDEX bank_matches_by_entry ON bank_matches (entry_id);
CREATE UNIQUE INDEX bank_matches_once ON bank_matches (entry_id) WHERE undone_on IS NULL;
CREATE TRIGGER bank_matches_keep BEFORE UPDATE OF id, line_id, entry_id, amount_minor, how, matched_on ON bank_matches
BEGIN SELECT RAISE(ABORT, 'what a line was cleared against never changes; it is undone'); END;
CREATE TRIGGER bank_matches_stay BEFORE DELETE ON bank_matches
BEGIN SELECT RAISE(ABORT, 'what a line was cleared against is never deleted; it is undone'); END;

-- Which accounts a customer has paid from, as far as statements told.
CREATE TABLE payer_accounts (
    account TEXT NOT NULL CHECK (length(account) > 0),
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    learned_on TEXT NOT NULL CHECK (learned_on = date(learned_on)),
    PRIMARY KEY (account, customer_id)
) STRICT, WITHOUT ROWID;

INSERT INTO number_ranges (kind, prefix, first, next) SELECT 'bank_statement', 'BS-', 1, 1 FROM company;
