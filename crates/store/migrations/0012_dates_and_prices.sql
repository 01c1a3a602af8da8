-- The latest date of a kind of document, found without reading all of them.
CREATE INDEX documents_memos_by_date ON documents (document_date) WHERE kind = 'credit_memo' AND state = 'posted';
CREATE INDEX payments_by_date ON payments (posting_date) WHERE reversed_on IS NULL;
CREATE INDEX container_returns_by_date ON container_returns (posting_date);

-- What typed prices and discounts of an order give away counts to the limit for changed prices of who approves it.
ALTER TABLE approvals ADD COLUMN gives_away_base_minor INTEGER NOT NULL DEFAULT 0 CHECK (gives_away_base_minor >= 0);
