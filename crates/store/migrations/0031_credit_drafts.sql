-- A credit memo that is not posted yet: what was typed so far, for whoever goes on with it. Nothing of it counts before it is
-- posted; who saved it, and when, the record says.
CREATE TABLE credit_drafts (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    invoice_id INTEGER REFERENCES documents (id),
    wish TEXT NOT NULL CHECK (json_valid(wish)),
    version INTEGER NOT NULL DEFAULT 1
) STRICT;
