-- Sending domains that are warmed up: each mailbox group gets a ceiling of messages a day.
CREATE TABLE warm_up (
    id INTEGER PRIMARY KEY, domain TEXT NOT NULL, start INTEGER NOT NULL, factor REAL NOT NULL, began_at INTEGER NOT NULL, began_by INTEGER REFERENCES person,
    -- By itself (nobody, no reason), or by a person with a reason.
    ended_at INTEGER, ended_by INTEGER REFERENCES person, reason TEXT
);
CREATE UNIQUE INDEX warm_up_open ON warm_up (domain) WHERE ended_at IS NULL;
-- What a usual day brings each group: a ceiling over that is none.
CREATE TABLE warm_up_group (
    warm_up_id INTEGER NOT NULL REFERENCES warm_up, name TEXT NOT NULL, usual INTEGER NOT NULL, PRIMARY KEY (warm_up_id, name)
) WITHOUT ROWID;
-- A day (since 1970, UTC) on which something went to a group: its ceiling (null: none any more) and why, and what came back, by the first answer to each message.
CREATE TABLE warm_up_day (
    warm_up_id INTEGER NOT NULL REFERENCES warm_up, name TEXT NOT NULL, day INTEGER NOT NULL, ceiling INTEGER, because INTEGER NOT NULL,
    handed INTEGER NOT NULL DEFAULT 0, accepted INTEGER NOT NULL DEFAULT 0, deferred INTEGER NOT NULL DEFAULT 0, blocked INTEGER NOT NULL DEFAULT 0,
    failed INTEGER NOT NULL DEFAULT 0, complained INTEGER NOT NULL DEFAULT 0, PRIMARY KEY (warm_up_id, name, day)
) WITHOUT ROWID;
