-- Mailbox groups: whose hosts take a domain's mail. operator_by: 0 nobody said (the domain is a group of its own), 1 DNS, 2 a person.
ALTER TABLE domain ADD COLUMN operator TEXT;
ALTER TABLE domain ADD COLUMN operator_by INTEGER NOT NULL DEFAULT 0;
-- Its mail hosts as they were found, by preference, and when they were looked for.
ALTER TABLE domain ADD COLUMN mx TEXT;
ALTER TABLE domain ADD COLUMN mx_at INTEGER;
CREATE INDEX domain_group ON domain (coalesce(operator, name));
-- What hosts answered, by five minutes (since 1970, UTC): the last hour decides on a pause.
CREATE TABLE delivery_slot (
    domain_id INTEGER NOT NULL, slot INTEGER NOT NULL, accepted INTEGER NOT NULL DEFAULT 0, deferred INTEGER NOT NULL DEFAULT 0,
    blocked INTEGER NOT NULL DEFAULT 0, failed INTEGER NOT NULL DEFAULT 0, PRIMARY KEY (domain_id, slot)
) WITHOUT ROWID;
CREATE INDEX delivery_slot_slot ON delivery_slot (slot);
-- Groups whose hosts asked for less, paces in messages a minute.
CREATE TABLE throttle (
    name TEXT PRIMARY KEY, usual REAL NOT NULL, ceiling REAL NOT NULL, run INTEGER NOT NULL, minute INTEGER NOT NULL, good INTEGER NOT NULL,
    bad INTEGER NOT NULL, next_at INTEGER NOT NULL, queued_at INTEGER NOT NULL, asked_at INTEGER NOT NULL, since INTEGER NOT NULL
) WITHOUT ROWID;
-- Pauses that Rinse made by itself: the mailing that was on its way, and how many of the last hour's messages were blocked.
ALTER TABLE domain_pause ADD COLUMN by_itself INTEGER NOT NULL DEFAULT 0;
ALTER TABLE domain_pause ADD COLUMN mailing_id INTEGER REFERENCES mailing;
CREATE TABLE delivery_alert (
    id INTEGER PRIMARY KEY, name TEXT NOT NULL, kind INTEGER NOT NULL, mailing_id INTEGER NOT NULL REFERENCES mailing, since INTEGER NOT NULL,
    last_at INTEGER NOT NULL, grave INTEGER NOT NULL DEFAULT 0, mailings INTEGER NOT NULL DEFAULT 1, words TEXT NOT NULL DEFAULT '', figures TEXT NOT NULL DEFAULT '{}',
    -- By itself, after mailings within limits; or by a person, with a reason.
    ended_at INTEGER, person_id INTEGER REFERENCES person, reason TEXT, UNIQUE (name, kind, mailing_id)
);
CREATE INDEX delivery_alert_open ON delivery_alert (name, kind) WHERE ended_at IS NULL;
