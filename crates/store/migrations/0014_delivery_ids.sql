-- A document that never went is taken off its way: its id is never given to another, or who still has the old page before
-- them would mark the other as printed.
CREATE TABLE deliveries_new (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    document_id INTEGER NOT NULL REFERENCES documents (id),
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    way TEXT NOT NULL CHECK (way IN ('print', 'mail')),
    state TEXT NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'done', 'failed')),
    -- As changed before it went; NULL: as the template makes it.
    recipient TEXT,
    subject TEXT,
    body TEXT,
    tries INTEGER NOT NULL DEFAULT 0,
    problem TEXT,
    done_at TEXT,
    version INTEGER NOT NULL DEFAULT 1,
    CHECK ((state = 'done') = (done_at IS NOT NULL)),
    CHECK ((state = 'failed') = (problem IS NOT NULL))
) STRICT;
INSERT INTO deliveries_new
SELECT id, document_id, customer_id, way, state, recipient, subject, body, tries, problem, done_at, version FROM deliveries ORDER BY id;
DROP TABLE deliveries;
ALTER TABLE deliveries_new RENAME TO deliveries;
CREATE INDEX deliveries_by_document ON deliveries (document_id);
CREATE INDEX deliveries_open ON deliveries (id) WHERE state <> 'done';
