-- The engine asks which handed-out mailings run, each time that it looks what is due.
CREATE INDEX handed_out_mailing ON mailing (state) WHERE handed_out = 1;
-- Logs that name no mailings: those that were proposed by subject and hour, and whether a person took them so.
ALTER TABLE log_file ADD COLUMN by_subject INTEGER NOT NULL DEFAULT 0;
ALTER TABLE log_file ADD COLUMN proposed TEXT NOT NULL DEFAULT '[]';
