-- Consent that proves itself, and what else clearance asks.
-- Every entry carries a salted digest of what it says, and a link: the digest of the link before and its own. Whoever
-- changes or removes an entry breaks the links after it; erasing what an entry says takes its salt along and breaks none.
ALTER TABLE ledger ADD COLUMN salt BLOB;
ALTER TABLE ledger ADD COLUMN digest BLOB;
ALTER TABLE ledger ADD COLUMN link BLOB;
-- No marketing, for silence, since this instant.
ALTER TABLE contact ADD COLUMN sunset_at INTEGER;
CREATE INDEX contact_sunset ON contact (id) WHERE sunset_at IS NOT NULL;
-- Why it is a service mailing; why it may go to people who complained, and which approver said so.
ALTER TABLE mailing ADD COLUMN service_reason TEXT NOT NULL DEFAULT '';
ALTER TABLE mailing ADD COLUMN complainers_reason TEXT NOT NULL DEFAULT '';
ALTER TABLE mailing ADD COLUMN complainers_by INTEGER REFERENCES person;
-- Mail-load cells that it leaves out, a bit each.
ALTER TABLE mailing ADD COLUMN leave_out INTEGER NOT NULL DEFAULT 0;
-- How much mail people get and how they answer it, as of the newest day it was worked out.
-- cell: 5 * mail (0 sparse, 1 usual, 2 dense) + answer (0 new, 1 rising, 2 steady, 3 slackening, 4 silent)
CREATE TABLE mail_load (
    contact_id INTEGER PRIMARY KEY REFERENCES contact, cell INTEGER NOT NULL, per_28_days REAL NOT NULL, rate REAL, delivered REAL NOT NULL,
    responses REAL NOT NULL, blind INTEGER NOT NULL
);
CREATE INDEX mail_load_cell ON mail_load (cell, contact_id);
-- One row a day and cell: people, those of them who can be mailed, and who complained or withdrew in the 90 days before.
CREATE TABLE mail_load_day (
    day INTEGER NOT NULL, cell INTEGER NOT NULL, people INTEGER NOT NULL, mailable INTEGER NOT NULL, complained INTEGER NOT NULL, withdrew INTEGER NOT NULL,
    PRIMARY KEY (day, cell)
) WITHOUT ROWID;
-- What somebody decided about a near-miss of a barred domain or company. subject: 'domain tern.example', 'person 17'.
CREATE TABLE near_miss (subject TEXT PRIMARY KEY, choice TEXT NOT NULL, at INTEGER NOT NULL, person_id INTEGER REFERENCES person) WITHOUT ROWID;
-- Separate legal entities keep separate consent. Empty: the first, whose consent stands on the contact.
ALTER TABLE letterhead ADD COLUMN entity TEXT NOT NULL DEFAULT '';
ALTER TABLE ledger ADD COLUMN entity TEXT NOT NULL DEFAULT '';
ALTER TABLE journal_due ADD COLUMN entity TEXT NOT NULL DEFAULT '';
CREATE TABLE entity_consent (
    entity TEXT NOT NULL, contact_id INTEGER NOT NULL REFERENCES contact, consent INTEGER NOT NULL, consent_at INTEGER, paused_until INTEGER,
    under_pause INTEGER NOT NULL DEFAULT 0, PRIMARY KEY (entity, contact_id)
) WITHOUT ROWID;
CREATE INDEX entity_consent_contact ON entity_consent (contact_id);
-- What counts as a conversion: a purchase (of a product, or a category), or an event by its name, worth so much.
CREATE TABLE goal (
    id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE COLLATE NOCASE, what TEXT NOT NULL, currency TEXT NOT NULL DEFAULT '', made_at INTEGER NOT NULL
);
