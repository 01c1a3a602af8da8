-- Requests for approval keep a mark of what was asked for ----------------------------------------------

-- Empty on requests of before it was kept: they are asked for again.
ALTER TABLE approvals ADD COLUMN mark TEXT NOT NULL DEFAULT '';
