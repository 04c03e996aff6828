-- The engine asks which handed-out mailings run, each time that it looks what is due.
CREATE INDEX handed_out_mailing ON mailing (state) WHERE handed_out = 1;
-- Logs that name no mailings: those that were proposed by subject and hour, and whether a person took them so.
ALTER TABLE log_file ADD COLUMN by_subject INTEGER NOT NULL DEFAULT 0;
ALTER TABLE log_file ADD COLUMN proposed TEXT NOT NULL DEFAULT '[]';
-- How many people there are by country, consent and mail status, kept as they change: every page asks it, and none walks everybody.
CREATE TABLE people_standing (
    country TEXT NOT NULL, consent INTEGER NOT NULL, status INTEGER NOT NULL, people INTEGER NOT NULL, PRIMARY KEY (country, consent, status)
) WITHOUT ROWID;
INSERT INTO people_standing SELECT coalesce(country, ''), consent, status, count(*) FROM contact WHERE gone IS NULL GROUP BY 1, 2, 3;
CREATE TRIGGER people_standing_new AFTER INSERT ON contact WHEN new.gone IS NULL
BEGIN
    INSERT OR IGNORE INTO people_standing VALUES (coalesce(new.country, ''), new.consent, new.status, 0);
    UPDATE people_standing SET people = people + 1 WHERE country = coalesce(new.country, '') AND consent = new.consent AND status = new.status;
END;
CREATE TRIGGER people_standing_changed AFTER UPDATE OF country, consent, status, gone ON contact
WHEN old.country IS NOT new.country OR old.consent <> new.consent OR old.status <> new.status OR old.gone IS NOT new.gone
BEGIN
    UPDATE people_standing SET people = people - 1 WHERE old.gone IS NULL AND country = coalesce(old.country, '') AND consent = old.consent AND status = old.status;
    INSERT OR IGNORE INTO people_standing SELECT coalesce(new.country, ''), new.consent, new.status, 0 WHERE new.gone IS NULL;
    UPDATE people_standing SET people = people + 1 WHERE new.gone IS NULL AND country = coalesce(new.country, '') AND consent = new.consent AND status = new.status;
END;
CREATE TRIGGER people_standing_gone AFTER DELETE ON contact WHEN old.gone IS NULL
BEGIN UPDATE people_standing SET people = people - 1 WHERE country = coalesce(old.country, '') AND consent = old.consent AND status = old.status; END;
