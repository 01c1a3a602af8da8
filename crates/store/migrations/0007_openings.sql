-- What a company brings along when it begins in the middle of its life: one document, one entry.
CREATE TABLE openings (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    number TEXT NOT NULL UNIQUE,
    sequence INTEGER NOT NULL UNIQUE,
    posting_date TEXT NOT NULL CHECK (posting_date = date(posting_date)),
    entry_id INTEGER NOT NULL REFERENCES entries (id)
) STRICT;
CREATE TRIGGER openings_keep BEFORE UPDATE ON openings
BEGIN SELECT RAISE(ABORT, 'an opening never changes'); END;
CREATE TRIGGER openings_stay BEFORE DELETE ON openings
BEGIN SELECT RAISE(ABORT, 'an opening is never deleted'); END;

-- An open item of before, under the number it had.
CREATE TABLE opening_items (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    opening_id INTEGER NOT NULL REFERENCES openings (id),
    number TEXT NOT NULL UNIQUE,
    customer_id INTEGER NOT NULL REFERENCES customers (id)
) STRICT;
CREATE TRIGGER opening_items_keep BEFORE UPDATE ON opening_items
BEGIN SELECT RAISE(ABORT, 'an opening never changes'); END;
CREATE TRIGGER opening_items_stay BEFORE DELETE ON opening_items
BEGIN SELECT RAISE(ABORT, 'an opening is never deleted'); END;

INSERT INTO number_ranges (kind, prefix, first, next) SELECT 'opening', 'OB-', 1, 1 FROM company;
INSERT INTO account_map (purpose, account) SELECT 'opening', account FROM account_map
WHERE purpose = 'equity' AND item_class IS NULL AND customer_class IS NULL;
