-- Clearance in full: rules as documents in versions, suppression lists, a record of every decision.
-- What holds under a pause, and again after it.
ALTER TABLE contact ADD COLUMN under_pause INTEGER NOT NULL DEFAULT 0;
UPDATE contact SET under_pause = 2 WHERE consent = 4;
-- For people without a zone or a country of their own; what one-click ends: topic or everything.
ALTER TABLE letterhead ADD COLUMN zone TEXT NOT NULL DEFAULT 'UTC';
ALTER TABLE letterhead ADD COLUMN country TEXT;
ALTER TABLE letterhead ADD COLUMN one_click TEXT NOT NULL DEFAULT 'topic';
-- 1 goes first; people are held for at most so many days; who let it exceed the caps, and why.
ALTER TABLE mailing ADD COLUMN priority INTEGER NOT NULL DEFAULT 3;
ALTER TABLE mailing ADD COLUMN hold_days INTEGER NOT NULL DEFAULT 7;
ALTER TABLE mailing ADD COLUMN exceed_reason TEXT NOT NULL DEFAULT '';
ALTER TABLE mailing ADD COLUMN exceed_by INTEGER REFERENCES person;
ALTER TABLE rules_version ADD COLUMN rules TEXT NOT NULL DEFAULT '{}';
ALTER TABLE rules_version ADD COLUMN note TEXT NOT NULL DEFAULT '';
UPDATE rules_version SET rules = json_object('caps', json_array(json_object(
    'limit', cap_limit, 'scope', json_object('kind', 'marketing'), 'in_force', json(iif(cap_in_force, 'true', 'false')),
    'window', iif(cap_window_hours % 24 = 0, json_object('kind', 'days', 'n', cap_window_hours / 24), json_object('kind', 'hours', 'n', cap_window_hours)))));
ALTER TABLE rules_version DROP COLUMN cap_limit;
ALTER TABLE rules_version DROP COLUMN cap_window_hours;
ALTER TABLE rules_version DROP COLUMN cap_in_force;
-- The reasons' numbers leave room for rules to come.
UPDATE send SET reason = CASE reason WHEN 6 THEN 7 WHEN 7 THEN 9 WHEN 8 THEN 12 WHEN 9 THEN 14 WHEN 10 THEN 15 WHEN 11 THEN 16 WHEN 12 THEN 17 WHEN 13 THEN 18 END
    WHERE reason >= 6;
-- What is due is taken by rank at the same instant, from the index alone.
ALTER TABLE send ADD COLUMN priority INTEGER NOT NULL DEFAULT 3;
DROP INDEX send_due;
CREATE INDEX send_due ON send (at, priority, mailing_id, id) WHERE state IN (0, 1, 4);
-- What counts towards caps is asked of the index alone.
DROP INDEX send_recent;
CREATE INDEX send_recent ON send (at, contact_id, mailing_id, state, handed_at) WHERE class = 1;
-- scope: all, letterhead, topic, mailing. With a segment: a live rule, whoever is in it.
CREATE TABLE suppression_list (
    id INTEGER PRIMARY KEY, name TEXT NOT NULL, reason TEXT NOT NULL DEFAULT '', scope TEXT NOT NULL DEFAULT 'all', scope_id INTEGER,
    segment_id INTEGER REFERENCES segment, made_at INTEGER NOT NULL, person_id INTEGER REFERENCES person, looked_at INTEGER NOT NULL, ended_at INTEGER
);
CREATE UNIQUE INDEX suppression_list_name ON suppression_list (name COLLATE NOCASE) WHERE ended_at IS NULL;
-- kind: 1 address, 2 domain, 3 domain with its subdomains, 4 SHA-256 of an address. Rows end, and stay.
CREATE TABLE suppression_entry (
    id INTEGER PRIMARY KEY, list_id INTEGER NOT NULL REFERENCES suppression_list, kind INTEGER NOT NULL, text TEXT NOT NULL,
    reason TEXT NOT NULL DEFAULT '', source TEXT NOT NULL DEFAULT '', added_at INTEGER NOT NULL, expires_at INTEGER, ended_at INTEGER, person_id INTEGER REFERENCES person
);
CREATE UNIQUE INDEX suppression_entry_text ON suppression_entry (text, list_id) WHERE ended_at IS NULL;
CREATE INDEX suppression_entry_list ON suppression_entry (list_id, id);
INSERT INTO suppression_list (id, name, made_at, looked_at) VALUES (1, 'Never mail', 0, coalesce((SELECT max(added_at) FROM suppression), 0));
INSERT INTO suppression_entry (list_id, kind, text, reason, source, added_at, person_id)
    SELECT 1, CASE WHEN text LIKE '*.%' THEN 3 WHEN text LIKE '%@%' THEN 1 ELSE 2 END, text, reason, 'by hand', added_at, person_id FROM suppression;
DROP TABLE suppression;
-- Every decision but the plain "cleared": that one is the send's own handed_at and rules_version.
-- outcome: 1 held, 2 barred. detail: the caps and lists behind it, by name, as they were then.
CREATE TABLE decision (
    contact_id INTEGER NOT NULL REFERENCES contact, mailing_id INTEGER NOT NULL REFERENCES mailing, at INTEGER NOT NULL,
    rules_version INTEGER NOT NULL REFERENCES rules_version, outcome INTEGER NOT NULL, until INTEGER, reasons INTEGER NOT NULL, detail TEXT,
    PRIMARY KEY (contact_id, mailing_id, at)
) WITHOUT ROWID;
-- Withdrawals, complaints and deletions on their way into the journal file, by keyed hash of the address; and how far
-- the file is part of this one.
CREATE TABLE journal_due (id INTEGER PRIMARY KEY, what TEXT NOT NULL, who BLOB NOT NULL, topic TEXT, at INTEGER NOT NULL);
CREATE TABLE journal_mark (id INTEGER PRIMARY KEY CHECK (id = 1), upto INTEGER NOT NULL);
INSERT INTO journal_mark VALUES (1, 0);
-- Sign-ups by the public form or the API. state of the invitation: 0 none goes, 1 ready, 2 handing over, 3 accepted, 5 failed.
ALTER TABLE letterhead ADD COLUMN double_opt_in INTEGER NOT NULL DEFAULT 1;
CREATE TABLE consent_wording (
    id INTEGER PRIMARY KEY, letterhead_id INTEGER NOT NULL REFERENCES letterhead, version INTEGER NOT NULL, text TEXT NOT NULL, made_at INTEGER NOT NULL,
    UNIQUE (letterhead_id, version)
);
CREATE TABLE sign_up (
    id INTEGER PRIMARY KEY, at INTEGER NOT NULL, letterhead_id INTEGER NOT NULL REFERENCES letterhead, address TEXT NOT NULL, address_key TEXT NOT NULL,
    given_name TEXT, topics TEXT NOT NULL, wording_id INTEGER REFERENCES consent_wording, came_by TEXT NOT NULL, came_from BLOB, contact_id INTEGER REFERENCES contact,
    is_new INTEGER NOT NULL, state INTEGER NOT NULL, why TEXT NOT NULL DEFAULT '', due_at INTEGER NOT NULL, tries INTEGER NOT NULL DEFAULT 0, invited_at INTEGER, confirmed_at INTEGER
);
CREATE INDEX sign_up_address ON sign_up (address_key, at);
CREATE INDEX sign_up_from ON sign_up (came_from, at);
CREATE INDEX sign_up_due ON sign_up (due_at) WHERE state = 1;
CREATE INDEX sign_up_contact ON sign_up (contact_id);
