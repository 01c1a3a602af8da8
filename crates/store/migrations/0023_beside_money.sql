-- What settles an item beside money: discounts for early payment by tax code, differences within the company's tolerance.

ALTER TABLE company ADD COLUMN write_off_tolerance_minor INTEGER NOT NULL DEFAULT 5 CHECK (write_off_tolerance_minor BETWEEN 0 AND 10000);

-- The discount and what is written off stand in columns of their own already: what they gave up in base currency, and what
-- was kept as income where too much came.
ALTER TABLE applications ADD COLUMN discount_base_minor INTEGER NOT NULL DEFAULT 0;
ALTER TABLE applications ADD COLUMN written_off_base_minor INTEGER NOT NULL DEFAULT 0;
ALTER TABLE applications ADD COLUMN kept_minor INTEGER NOT NULL DEFAULT 0;
ALTER TABLE applications ADD COLUMN kept_base_minor INTEGER NOT NULL DEFAULT 0;
DROP TRIGGER applications_mirror;
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

-- What a discount took of the tax, where the terms adjust it.
CREATE TABLE discount_taxes (
    application_id INTEGER NOT NULL REFERENCES applications (id),
    position INTEGER NOT NULL,
    tax_code TEXT NOT NULL REFERENCES tax_codes (code),
    category TEXT NOT NULL,
    rate_e6 INTEGER NOT NULL,
    tax_date TEXT NOT NULL CHECK (tax_date = date(tax_date)),
    net_minor INTEGER NOT NULL,
    tax_minor INTEGER NOT NULL,
    net_base_minor INTEGER NOT NULL,
    tax_base_minor INTEGER NOT NULL,
    PRIMARY KEY (application_id, position)
) STRICT, WITHOUT ROWID;
CREATE TRIGGER discount_taxes_keep BEFORE UPDATE ON discount_taxes
BEGIN SELECT RAISE(ABORT, 'tax of a discount never changes'); END;
CREATE TRIGGER discount_taxes_stay BEFORE DELETE ON discount_taxes
BEGIN SELECT RAISE(ABORT, 'tax of a discount is never deleted'); END;
