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
-- What was reported, by source and by day: a host's report may name fifty thousand sources.
CREATE INDEX dmarc_row_source ON dmarc_row (source, day);
CREATE TABLE dmarc_source (source TEXT PRIMARY KEY, first_day INTEGER NOT NULL) WITHOUT ROWID;
INSERT INTO dmarc_source SELECT source, min(day) FROM dmarc_row GROUP BY source;
CREATE INDEX dmarc_source_first ON dmarc_source (first_day);
CREATE TABLE dmarc_day (day INTEGER PRIMARY KEY, messages INTEGER NOT NULL, aligned INTEGER NOT NULL);
INSERT INTO dmarc_day SELECT day, sum(messages), sum(messages * (dkim OR spf)) FROM dmarc_row GROUP BY day;
