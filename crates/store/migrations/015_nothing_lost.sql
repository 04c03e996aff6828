-- How far each journal file has been seen, by the file's own id (empty: from before files had one), and the digest of the last line seen.
CREATE TABLE journal_upto (journal TEXT PRIMARY KEY, upto INTEGER NOT NULL, digest TEXT NOT NULL DEFAULT '') WITHOUT ROWID;
INSERT INTO journal_upto SELECT '', upto, '' FROM journal_mark WHERE upto > 0;
DROP TABLE journal_mark;
-- What the journal says of people whom this database doesn't have, by the keyed hash of their address: it holds for whoever brings them.
CREATE TABLE departed (
    who BLOB NOT NULL, what TEXT NOT NULL, topic TEXT NOT NULL DEFAULT '', channel INTEGER NOT NULL, entity TEXT NOT NULL, at INTEGER NOT NULL,
    PRIMARY KEY (who, what, topic, channel, entity)
) WITHOUT ROWID;
-- What a person should know that no other table says: a journal with a gap, mail that couldn't be read.
CREATE TABLE notice (
    id INTEGER PRIMARY KEY, kind TEXT NOT NULL, about TEXT NOT NULL, at INTEGER NOT NULL, words TEXT NOT NULL, settled_at INTEGER,
    person_id INTEGER REFERENCES person, UNIQUE (kind, about)
);
CREATE INDEX notice_open ON notice (id) WHERE settled_at IS NULL;
-- Who may bring mail: each with a secret in the address that it posts to, of which a digest is kept.
CREATE TABLE door (
    id INTEGER PRIMARY KEY, name TEXT NOT NULL, digest TEXT NOT NULL UNIQUE, made_at INTEGER NOT NULL, person_id INTEGER REFERENCES person,
    ended_at INTEGER, used_at INTEGER
);
-- A reply that is known by its sender and subject alone may be one: it is shown, and nothing comes of it.
ALTER TABLE reply ADD COLUMN probable INTEGER NOT NULL DEFAULT 0;
-- How often a draft was saved: who saves an older one is told.
ALTER TABLE mailing ADD COLUMN version INTEGER NOT NULL DEFAULT 1;
ALTER TABLE mailing ADD COLUMN changed_at INTEGER;
ALTER TABLE mailing ADD COLUMN changed_by INTEGER REFERENCES person;
CREATE INDEX reply_probable ON reply (send_id) WHERE probable;
-- The rest of it was cancelled: what was being handed over meanwhile and comes back doesn't go either.
ALTER TABLE mailing ADD COLUMN cancelled_at INTEGER;
-- Everybody who is mailed is looked up here, lines that have ended included: the index of those in force doesn't serve for that.
CREATE INDEX suppression_entry_named ON suppression_entry (text, list_id);
