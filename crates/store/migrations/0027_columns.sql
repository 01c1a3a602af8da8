-- Which column of its bank's own table is what: said once for an account, and kept.
ALTER TABLE money_places ADD COLUMN statement_columns TEXT CHECK (json_valid(statement_columns));
