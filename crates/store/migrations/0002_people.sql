-- People, their sessions, limits and approvals; the record of who did what; prices changed on
-- drafts; numbers passed over.

CREATE TABLE people (
    id INTEGER PRIMARY KEY,
    -- As check_sign_in_name keeps it: small letters.
    sign_in TEXT NOT NULL UNIQUE CHECK (sign_in = lower(sign_in) AND length(sign_in) >= 2),
    name TEXT NOT NULL CHECK (length(name) > 0),
    role TEXT NOT NULL CHECK (role IN ('clerk', 'lead', 'auditor', 'administrator')),
    -- An argon2id hash in PHC form, never a password.
    password_hash TEXT NOT NULL CHECK (password_hash LIKE '$argon2id$%'),
    must_change INTEGER NOT NULL DEFAULT 0 CHECK (must_change IN (0, 1)),
    active INTEGER NOT NULL DEFAULT 1 CHECK (active IN (0, 1)),
    version INTEGER NOT NULL DEFAULT 1
) STRICT;

-- The token itself is only in the cookie; here is its SHA-256.
CREATE TABLE sessions (
    token_hash TEXT PRIMARY KEY CHECK (length(token_hash) = 64),
    person_id INTEGER NOT NULL REFERENCES people (id),
    made_at TEXT NOT NULL,
    seen_at TEXT NOT NULL,
    from_address TEXT NOT NULL
) STRICT, WITHOUT ROWID;
CREATE INDEX sessions_by_person ON sessions (person_id);

-- Wrong passwords in a row by typed name, whether anyone has it or not, and until when it is
-- locked because of them. The name itself is not kept: it may be a password in the wrong field.
CREATE TABLE sign_in_attempts (
    name_mark TEXT PRIMARY KEY CHECK (length(name_mark) = 64),
    failures INTEGER NOT NULL CHECK (failures > 0),
    locked_until TEXT NOT NULL,
    tried_at TEXT NOT NULL
) STRICT, WITHOUT ROWID;

CREATE TABLE limits (
    role TEXT NOT NULL CHECK (role IN ('clerk', 'lead', 'auditor', 'administrator')),
    kind TEXT NOT NULL CHECK (kind IN ('credit_memo', 'write_off', 'refund', 'price_change')),
    -- NULL: no limit.
    amount_minor INTEGER CHECK (amount_minor >= 0),
    PRIMARY KEY (role, kind)
) STRICT, WITHOUT ROWID;

CREATE TABLE approvals (
    id INTEGER PRIMARY KEY,
    operation TEXT NOT NULL,
    -- What is to be done, as the operation takes it.
    asked TEXT NOT NULL CHECK (json_valid(asked)),
    words TEXT NOT NULL,
    document_kind TEXT NOT NULL,
    document_id INTEGER NOT NULL,
    document_number TEXT NOT NULL,
    amount_base_minor INTEGER NOT NULL CHECK (amount_base_minor >= 0),
    -- From which value to which, as it stood when it was asked.
    changes TEXT NOT NULL CHECK (json_valid(changes)),
    reason TEXT NOT NULL,
    maker_id INTEGER NOT NULL REFERENCES people (id),
    made_at TEXT NOT NULL,
    -- The business date it was asked on.
    made_on TEXT NOT NULL CHECK (made_on = date(made_on)),
    state TEXT NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'approved', 'declined', 'withdrawn')),
    decided_by INTEGER REFERENCES people (id),
    decided_at TEXT,
    decision TEXT,
    CHECK ((state = 'waiting') = (decided_by IS NULL)),
    CHECK (state <> 'approved' OR decided_by <> maker_id),
    CHECK (state <> 'withdrawn' OR decided_by = maker_id)
) STRICT;
CREATE INDEX approvals_waiting ON approvals (id) WHERE state = 'waiting';
CREATE INDEX approvals_by_document ON approvals (document_kind, document_id);
-- The same thing is asked for once at a time.
CREATE UNIQUE INDEX approvals_once ON approvals (operation, document_kind, document_id, asked) WHERE state = 'waiting';
CREATE TRIGGER approvals_keep BEFORE UPDATE ON approvals WHEN OLD.state <> 'waiting'
BEGIN SELECT RAISE(ABORT, 'a decided approval never changes'); END;
CREATE TRIGGER approvals_stay BEFORE DELETE ON approvals
BEGIN SELECT RAISE(ABORT, 'an approval is never deleted'); END;

-- The record: append-only, each row sealed on the one before it.
CREATE TABLE record (
    sequence INTEGER PRIMARY KEY CHECK (sequence > 0),
    at TEXT NOT NULL,
    person_id INTEGER,
    person TEXT NOT NULL,
    from_where TEXT NOT NULL,
    asked_by TEXT,
    what TEXT NOT NULL,
    words TEXT NOT NULL,
    document_kind TEXT,
    document_id INTEGER,
    document_number TEXT,
    document_version INTEGER,
    changes TEXT NOT NULL CHECK (json_valid(changes)),
    seal TEXT NOT NULL CHECK (length(seal) = 64)
) STRICT;
CREATE INDEX record_by_document ON record (document_kind, document_id, sequence);
CREATE INDEX record_by_person ON record (person_id, sequence);
-- Where it ends, noted apart, so that rows missing at the end show too.
CREATE TABLE record_end (
    id INTEGER PRIMARY KEY CHECK (id = 1),
    sequence INTEGER NOT NULL,
    seal TEXT NOT NULL
) STRICT;
INSERT INTO record_end (id, sequence, seal)
VALUES (1, 0, '0000000000000000000000000000000000000000000000000000000000000000');
CREATE TRIGGER record_keeps BEFORE UPDATE ON record
BEGIN SELECT RAISE(ABORT, 'the record never changes'); END;
CREATE TRIGGER record_stays BEFORE DELETE ON record
BEGIN SELECT RAISE(ABORT, 'the record is never deleted'); END;
CREATE TRIGGER record_follows BEFORE INSERT ON record
WHEN NEW.sequence <> (SELECT sequence FROM record_end) + 1
BEGIN SELECT RAISE(ABORT, 'the record is written at its end only'); END;

-- Numbers passed over when a next number was moved forward: void, with person and reason.
CREATE TABLE void_numbers (
    kind TEXT NOT NULL REFERENCES number_ranges (kind),
    first INTEGER NOT NULL,
    last INTEGER NOT NULL CHECK (last >= first),
    prefix TEXT NOT NULL,
    person TEXT NOT NULL,
    reason TEXT NOT NULL CHECK (length(reason) > 0),
    made_at TEXT NOT NULL,
    PRIMARY KEY (kind, first)
) STRICT, WITHOUT ROWID;
CREATE TRIGGER void_numbers_keep BEFORE UPDATE ON void_numbers
BEGIN SELECT RAISE(ABORT, 'void numbers never change'); END;
CREATE TRIGGER void_numbers_stay BEFORE DELETE ON void_numbers
BEGIN SELECT RAISE(ABORT, 'void numbers are never deleted'); END;
CREATE TRIGGER number_ranges_forward BEFORE UPDATE OF next ON number_ranges WHEN NEW.next < OLD.next
BEGIN SELECT RAISE(ABORT, 'numbers never go back'); END;

-- The price the order agreed, where the invoice has another; why; and how far it may differ
-- in net of the line, in base currency (NULL: without limit).
ALTER TABLE invoice_lines ADD COLUMN order_price_e6 INTEGER;
ALTER TABLE invoice_lines ADD COLUMN price_reason TEXT;
ALTER TABLE invoice_lines ADD COLUMN price_allowed_minor INTEGER;

ALTER TABLE company ADD COLUMN version INTEGER NOT NULL DEFAULT 1;
