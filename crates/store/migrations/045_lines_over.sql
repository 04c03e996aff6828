-- Lines of suppression lists that ended or ran out, until the other system is told of it. Kept only while one is told.
CREATE TABLE suppression_line_over (entry_id INTEGER PRIMARY KEY);
CREATE TRIGGER suppression_line_ends AFTER UPDATE OF ended_at ON suppression_entry
WHEN OLD.ended_at IS NULL AND NEW.ended_at IS NOT NULL AND EXISTS (SELECT 1 FROM setting WHERE key = 'do_not_write_webhook' AND value <> '')
BEGIN
    INSERT OR IGNORE INTO suppression_line_over VALUES (NEW.id);
END;
CREATE INDEX suppression_entry_runs_out ON suppression_entry (expires_at) WHERE expires_at IS NOT NULL AND ended_at IS NULL;
