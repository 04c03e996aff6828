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
