-- What a credit takes back of a discount that was earned: it gives up the discount of what it takes back, and settles nothing of the
-- invoice. Such an application moves the credit alone.

PRAGMA legacy_alter_table = ON;
CREATE TABLE applications_new (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    application_date TEXT NOT NULL CHECK (application_date = date(application_date)),
    debit_item INTEGER NOT NULL REFERENCES open_items (id),
    credit_item INTEGER NOT NULL REFERENCES open_items (id),
    -- On the side that is owed to us, and on the side that is owed by us: in each item's currency, and
    -- what it released in base currency. A reversal has the signs turned.
    debit_minor INTEGER NOT NULL,
    debit_base_minor INTEGER NOT NULL,
    credit_minor INTEGER NOT NULL CHECK (credit_minor <> 0),
    credit_base_minor INTEGER NOT NULL,
    -- What of the debit was settled without a credit: a discount earned, a difference given up. Below zero: a discount taken back.
    discount_minor INTEGER NOT NULL DEFAULT 0,
    written_off_minor INTEGER NOT NULL DEFAULT 0,
    -- NULL where the two stand on one account at one base amount: nothing to write.
    entry_id INTEGER REFERENCES entries (id),
    reverses_id INTEGER UNIQUE REFERENCES applications (id),
    discount_base_minor INTEGER NOT NULL DEFAULT 0,
    written_off_base_minor INTEGER NOT NULL DEFAULT 0,
    kept_minor INTEGER NOT NULL DEFAULT 0,
    kept_base_minor INTEGER NOT NULL DEFAULT 0,
    CHECK ((reverses_id IS NULL) = (credit_minor > 0)),
    CHECK (debit_minor = 0 OR (debit_minor > 0) = (credit_minor > 0)),
    -- Nothing settled: a discount taken back, no more and no less.
    CHECK (debit_minor <> 0 OR (debit_base_minor = 0 AND credit_minor = -discount_minor AND written_off_minor = 0 AND kept_minor = 0)),
    CHECK (debit_item <> credit_item)
) STRICT;
INSERT INTO applications_new (id, application_date, debit_item, credit_item, debit_minor, debit_base_minor, credit_minor, credit_base_minor,
    discount_minor, written_off_minor, entry_id, reverses_id, discount_base_minor, written_off_base_minor, kept_minor, kept_base_minor)
SELECT id, application_date, debit_item, credit_item, debit_minor, debit_base_minor, credit_minor, credit_base_minor,
    discount_minor, written_off_minor, entry_id, reverses_id, discount_base_minor, written_off_base_minor, kept_minor, kept_base_minor
FROM applications ORDER BY id;
DROP TABLE applications;
ALTER TABLE applications_new RENAME TO applications;
PRAGMA legacy_alter_table = OFF;
CREATE INDEX applications_by_debit ON applications (debit_item);
CREATE INDEX applications_by_credit ON applications (credit_item);
CREATE INDEX applications_by_entry ON applications (entry_id);
CREATE TRIGGER applications_keep BEFORE UPDATE ON applications
BEGIN SELECT RAISE(ABORT, 'an application never changes; it is reversed'); END;
CREATE TRIGGER applications_stay BEFORE DELETE ON applications
BEGIN SELECT RAISE(ABORT, 'an application is never deleted; it is reversed'); END;
CREATE TRIGGER applications_mirror BEFORE INSERT ON applications
WHEN NEW.reverses_id IS NOT NULL AND NOT EXISTS (
    SELECT 1 FROM applications AS first WHERE first.id = NEW.reverses_id AND first.debit_item = NEW.debit_item
      AND first.credit_item = NEW.credit_item AND first.debit_minor = -NEW.debit_minor AND first.credit_minor = -NEW.credit_minor
      AND first.debit_base_minor = -NEW.debit_base_minor AND first.credit_base_minor = -NEW.credit_base_minor
      AND first.discount_minor = -NEW.discount_minor AND first.discount_base_minor = -NEW.discount_base_minor
      AND first.written_off_minor = -NEW.written_off_minor AND first.written_off_base_minor = -NEW.written_off_base_minor
      AND first.kept_minor = -NEW.kept_minor AND first.kept_base_minor = -NEW.kept_base_minor
      AND first.application_date <= NEW.application_date)
BEGIN SELECT RAISE(ABORT, 'a reversal turns the very application round'); END;
