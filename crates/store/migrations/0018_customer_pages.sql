-- The customer's own page: signed links that lead there, what a quote asks for, who accepted it; cards that pay invoices.

ALTER TABLE quotes ADD COLUMN asks TEXT NOT NULL DEFAULT 'nothing' CHECK (asks IN ('nothing', 'card', 'deposit'));
-- The share of its total that is asked for; 1 is all of it.
ALTER TABLE quotes ADD COLUMN asks_share_e6 INTEGER NOT NULL DEFAULT 0 CHECK (asks_share_e6 BETWEEN 0 AND 1000000);

-- Signs links. Made with the first of them, and never shown.
CREATE TABLE page_key (
    id INTEGER PRIMARY KEY CHECK (id = 1),
    key BLOB NOT NULL CHECK (length(key) = 32)
) STRICT;

CREATE TABLE page_links (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    -- The quote it was sent with.
    quote_id INTEGER REFERENCES quotes (id),
    -- Whom it was mailed to.
    recipient TEXT,
    made_by TEXT NOT NULL CHECK (length(made_by) > 0),
    made_at TEXT NOT NULL,
    expires_at TEXT NOT NULL,
    ended_at TEXT,
    opened INTEGER NOT NULL DEFAULT 0 CHECK (opened >= 0),
    opened_at TEXT
) STRICT;
CREATE INDEX page_links_by_customer ON page_links (customer_id);
CREATE TRIGGER page_links_keep BEFORE UPDATE OF customer_id, quote_id, made_by, made_at, expires_at ON page_links
BEGIN SELECT RAISE(ABORT, 'a link never changes whom it leads to, nor how long'); END;
CREATE TRIGGER page_links_end_once BEFORE UPDATE OF ended_at ON page_links WHEN OLD.ended_at IS NOT NULL
BEGIN SELECT RAISE(ABORT, 'a link that was ended stays ended'); END;
CREATE TRIGGER page_links_stay BEFORE DELETE ON page_links
BEGIN SELECT RAISE(ABORT, 'a link is never deleted'); END;

-- Quotes that customers accepted on their page.
CREATE TABLE quote_acceptances (
    quote_id INTEGER PRIMARY KEY REFERENCES quotes (id),
    order_id INTEGER NOT NULL UNIQUE REFERENCES orders (id),
    link_id INTEGER NOT NULL REFERENCES page_links (id),
    name TEXT NOT NULL CHECK (length(name) > 0),
    accepted_on TEXT NOT NULL CHECK (accepted_on = date(accepted_on)),
    accepted_at TEXT NOT NULL,
    -- From where, as the network said it.
    came_from TEXT NOT NULL,
    total_minor INTEGER NOT NULL,
    asks TEXT NOT NULL CHECK (asks IN ('nothing', 'card', 'deposit')),
    asked_minor INTEGER NOT NULL CHECK (asked_minor >= 0)
) STRICT;
CREATE TRIGGER quote_acceptances_keep BEFORE UPDATE ON quote_acceptances
BEGIN SELECT RAISE(ABORT, 'an acceptance never changes'); END;
CREATE TRIGGER quote_acceptances_stay BEFORE DELETE ON quote_acceptances
BEGIN SELECT RAISE(ABORT, 'an acceptance is never deleted'); END;

-- A card is authorized for an order, or pays an invoice.
CREATE TABLE card_authorizations_new (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    number TEXT NOT NULL UNIQUE,
    sequence INTEGER NOT NULL UNIQUE,
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    order_id INTEGER REFERENCES orders (id),
    invoice_id INTEGER REFERENCES documents (id),
    card_id INTEGER NOT NULL REFERENCES cards (id),
    currency TEXT NOT NULL CHECK (length(currency) = 3),
    amount_minor INTEGER NOT NULL CHECK (amount_minor > 0),
    asked_on TEXT NOT NULL CHECK (asked_on = date(asked_on)),
    -- What the processor said last.
    status TEXT NOT NULL CHECK (status IN ('asked', 'live', 'declined', 'another_card', 'voided', 'expired', 'refused')),
    -- As the processor names it; NULL until it answered.
    reference TEXT UNIQUE,
    -- Counts the changes it told: what counts lower came out of order.
    revision INTEGER NOT NULL DEFAULT 0,
    valid_until TEXT CHECK (valid_until = date(valid_until)),
    -- Why it was declined or refused, in the processor's words.
    words TEXT,
    version INTEGER NOT NULL DEFAULT 1,
    CHECK ((order_id IS NULL) <> (invoice_id IS NULL)),
    CHECK (status <> 'live' OR (reference IS NOT NULL AND valid_until IS NOT NULL))
) STRICT;
INSERT INTO card_authorizations_new (id, number, sequence, customer_id, order_id, card_id, currency, amount_minor, asked_on, status,
                                     reference, revision, valid_until, words, version)
SELECT id, number, sequence, customer_id, order_id, card_id, currency, amount_minor, asked_on, status, reference, revision, valid_until, words, version
FROM card_authorizations;
DROP TABLE card_authorizations;
ALTER TABLE card_authorizations_new RENAME TO card_authorizations;
CREATE INDEX card_authorizations_by_order ON card_authorizations (order_id);
CREATE INDEX card_authorizations_by_invoice ON card_authorizations (invoice_id);
CREATE INDEX card_authorizations_by_customer ON card_authorizations (customer_id);
CREATE INDEX card_authorizations_open ON card_authorizations (id) WHERE status IN ('asked', 'live');
CREATE TRIGGER card_authorizations_keep
BEFORE UPDATE OF number, sequence, customer_id, order_id, invoice_id, card_id, currency, amount_minor, asked_on ON card_authorizations
BEGIN SELECT RAISE(ABORT, 'what was authorized never changes'); END;
CREATE TRIGGER card_authorizations_stay BEFORE DELETE ON card_authorizations
BEGIN SELECT RAISE(ABORT, 'a card authorization is never deleted'); END;

-- The stand-in mail service takes messages with a link too.
CREATE TABLE mailbox_new (
    id INTEGER PRIMARY KEY,
    delivery_id INTEGER REFERENCES deliveries (id),
    link_id INTEGER REFERENCES page_links (id),
    taken_at TEXT NOT NULL,
    recipient TEXT NOT NULL,
    subject TEXT NOT NULL,
    message TEXT NOT NULL,
    CHECK ((delivery_id IS NULL) <> (link_id IS NULL))
) STRICT;
INSERT INTO mailbox_new (id, delivery_id, taken_at, recipient, subject, message)
SELECT id, delivery_id, taken_at, recipient, subject, message FROM mailbox;
DROP TABLE mailbox;
ALTER TABLE mailbox_new RENAME TO mailbox;
CREATE INDEX mailbox_by_delivery ON mailbox (delivery_id);
CREATE INDEX mailbox_by_link ON mailbox (link_id);
CREATE TRIGGER mailbox_keeps BEFORE UPDATE ON mailbox
BEGIN SELECT RAISE(ABORT, 'a message that was sent never changes'); END;
