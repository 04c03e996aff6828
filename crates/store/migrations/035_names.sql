-- What DNS was found to say of each sender, when it was looked at last.
CREATE TABLE authentication (
    letterhead_id INTEGER PRIMARY KEY REFERENCES letterhead, looked_at INTEGER NOT NULL, lines TEXT NOT NULL
);
-- Blocklists to be asked, and what of ours they had. of_what: 0 addresses, 1 domains. state: 0 not asked yet, 1 works, 2 doesn't answer as a list does.
CREATE TABLE blocklist (
    id INTEGER PRIMARY KEY, zone TEXT NOT NULL, of_what INTEGER NOT NULL, state INTEGER NOT NULL DEFAULT 0, asked_at INTEGER, UNIQUE (zone, of_what)
);
CREATE TABLE listing (
    id INTEGER PRIMARY KEY, blocklist_id INTEGER NOT NULL REFERENCES blocklist ON DELETE CASCADE, subject TEXT NOT NULL, answer TEXT NOT NULL DEFAULT '',
    listed_at INTEGER NOT NULL, off_at INTEGER
);
CREATE UNIQUE INDEX listing_open ON listing (blocklist_id, subject) WHERE off_at IS NULL;
