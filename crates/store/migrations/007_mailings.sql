-- Mailings in full: letterheads, parts, images, schedules, audiences, keys, test sends.
CREATE TABLE image (
    id INTEGER PRIMARY KEY, name TEXT NOT NULL, kind TEXT NOT NULL, digest BLOB NOT NULL UNIQUE, bytes BLOB NOT NULL, at INTEGER NOT NULL, person_id INTEGER REFERENCES person
);
-- Where replies go (empty: reply@ the from address's domain); pages elsewhere as JSON [{"name", "url"}].
ALTER TABLE letterhead ADD COLUMN reply_to TEXT NOT NULL DEFAULT '';
ALTER TABLE letterhead ADD COLUMN social TEXT NOT NULL DEFAULT '[]';
ALTER TABLE letterhead ADD COLUMN logo_id INTEGER REFERENCES image;
ALTER TABLE letterhead ADD COLUMN is_default INTEGER NOT NULL DEFAULT 0;
UPDATE letterhead SET is_default = 1 WHERE id = (SELECT min(id) FROM letterhead);
-- Keys that sign (RFC 6376). An ended one stays, so that what it signed can still be told.
CREATE TABLE dkim_key (
    id INTEGER PRIMARY KEY, letterhead_id INTEGER NOT NULL REFERENCES letterhead, domain TEXT NOT NULL, selector TEXT NOT NULL, algorithm TEXT NOT NULL,
    private BLOB NOT NULL, public TEXT NOT NULL, made_at INTEGER NOT NULL, ended_at INTEGER, person_id INTEGER REFERENCES person, UNIQUE (domain, selector)
);
ALTER TABLE mailing ADD COLUMN preheader TEXT NOT NULL DEFAULT '';
-- format: html, markdown. schedule: core's document.
ALTER TABLE mailing ADD COLUMN format TEXT NOT NULL DEFAULT 'html';
ALTER TABLE mailing ADD COLUMN schedule TEXT NOT NULL DEFAULT '{}';
ALTER TABLE mailing ADD COLUMN paused_at INTEGER;
ALTER TABLE mailing ADD COLUMN archived_at INTEGER;
-- Kept to begin others from: it never goes out itself.
ALTER TABLE mailing ADD COLUMN template INTEGER NOT NULL DEFAULT 0;
ALTER TABLE mailing ADD COLUMN copied_from INTEGER REFERENCES mailing;
-- The letterhead as it was when sending began: all of a mailing's messages carry the same, and it never changes again.
ALTER TABLE mailing ADD COLUMN letterhead_as_sent TEXT;
-- Beside the list and the segment of the mailing itself. side: also, without; kind: list, segment.
CREATE TABLE audience_part (
    mailing_id INTEGER NOT NULL REFERENCES mailing, side TEXT NOT NULL, kind TEXT NOT NULL, ref INTEGER NOT NULL, PRIMARY KEY (mailing_id, side, kind, ref)
) WITHOUT ROWID;
-- Pieces of source of one's own, by what they are for.
CREATE TABLE message_part (
    id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE COLLATE NOCASE, purpose TEXT NOT NULL, format TEXT NOT NULL, source TEXT NOT NULL, made_at INTEGER NOT NULL,
    person_id INTEGER REFERENCES person
);
-- Messages to try a draft out. They are no sends, and no figure counts them.
CREATE TABLE test_send (
    id INTEGER PRIMARY KEY, at INTEGER NOT NULL, mailing_id INTEGER REFERENCES mailing, address TEXT NOT NULL, reply TEXT NOT NULL, person_id INTEGER REFERENCES person
);
-- What people wrote back, without what they quoted.
CREATE TABLE reply (id INTEGER PRIMARY KEY, send_id INTEGER NOT NULL REFERENCES send, at INTEGER NOT NULL, subject TEXT NOT NULL, text TEXT NOT NULL);
CREATE INDEX reply_send ON reply (send_id);
