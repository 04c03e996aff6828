-- Instants are UTC milliseconds. Codes are those of crates/core. Channel: 1 email, 2 text message.
-- Class: 1 marketing, 2 service.
CREATE TABLE setting (key TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE signing_key (id INTEGER PRIMARY KEY, key BLOB NOT NULL, made_at INTEGER NOT NULL);
CREATE TABLE person (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, role TEXT NOT NULL CHECK (role IN ('analyst','marketer','approver')));
CREATE TABLE audit (
    id INTEGER PRIMARY KEY, at INTEGER NOT NULL, person_id INTEGER REFERENCES person, what TEXT NOT NULL,
    subject TEXT NOT NULL, subject_id INTEGER, detail TEXT NOT NULL DEFAULT ''
);
CREATE TABLE letterhead (
    id INTEGER PRIMARY KEY, name TEXT NOT NULL, from_name TEXT NOT NULL, from_address TEXT NOT NULL,
    postal_address TEXT NOT NULL, ground TEXT NOT NULL, ink TEXT NOT NULL, accent TEXT NOT NULL
);
CREATE TABLE topic (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE);
CREATE TABLE list (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, made_at INTEGER NOT NULL);
CREATE TABLE domain (
    id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE,
    delivered INTEGER NOT NULL DEFAULT 0, fetched INTEGER NOT NULL DEFAULT 0
);
CREATE TABLE import_run (
    id INTEGER PRIMARY KEY, file_name TEXT NOT NULL, made_at INTEGER NOT NULL, person_id INTEGER REFERENCES person,
    encoding TEXT NOT NULL, delimiter INTEGER NOT NULL, header INTEGER NOT NULL, mapping TEXT NOT NULL,
    list_id INTEGER REFERENCES list, consent INTEGER NOT NULL DEFAULT 0, evidence TEXT NOT NULL DEFAULT '',
    -- staged, checked, applying, applied, cancelled
    state TEXT NOT NULL, records INTEGER NOT NULL DEFAULT 0, done INTEGER NOT NULL DEFAULT 0,
    new INTEGER NOT NULL DEFAULT 0, changed INTEGER NOT NULL DEFAULT 0, unchanged INTEGER NOT NULL DEFAULT 0,
    refused INTEGER NOT NULL DEFAULT 0
);
CREATE TABLE contact (
    id INTEGER PRIMARY KEY, address TEXT NOT NULL, address_key TEXT NOT NULL, domain_id INTEGER NOT NULL REFERENCES domain,
    given_name TEXT, family_name TEXT, country TEXT, zone TEXT, source TEXT,
    added_at INTEGER NOT NULL, import_id INTEGER REFERENCES import_run,
    -- what the ledger adds up to
    consent INTEGER NOT NULL DEFAULT 0, consent_at INTEGER, paused_until INTEGER,
    status INTEGER NOT NULL DEFAULT 0, status_until INTEGER, status_at INTEGER
);
CREATE UNIQUE INDEX contact_address ON contact (address_key);
CREATE INDEX contact_family ON contact (family_name COLLATE NOCASE, id);
CREATE INDEX contact_given ON contact (given_name COLLATE NOCASE, id);
CREATE INDEX contact_domain ON contact (domain_id, id);
CREATE INDEX contact_added ON contact (added_at, id);
CREATE INDEX contact_status ON contact (status, status_until) WHERE status <> 0;
CREATE TABLE list_member (
    list_id INTEGER NOT NULL REFERENCES list, contact_id INTEGER NOT NULL REFERENCES contact, joined_at INTEGER NOT NULL,
    PRIMARY KEY (list_id, contact_id)
) WITHOUT ROWID;
CREATE TABLE topic_left (
    topic_id INTEGER NOT NULL REFERENCES topic, contact_id INTEGER NOT NULL REFERENCES contact, at INTEGER NOT NULL,
    PRIMARY KEY (topic_id, contact_id)
) WITHOUT ROWID;
-- Append-only: nothing updates or deletes here.
CREATE TABLE ledger (
    id INTEGER PRIMARY KEY, contact_id INTEGER NOT NULL REFERENCES contact, at INTEGER NOT NULL,
    channel INTEGER NOT NULL DEFAULT 1, kind TEXT NOT NULL, topic_id INTEGER REFERENCES topic, until INTEGER,
    source TEXT NOT NULL, evidence TEXT NOT NULL DEFAULT '', send_id INTEGER, import_id INTEGER, person_id INTEGER REFERENCES person
);
CREATE INDEX ledger_contact ON ledger (contact_id, id);
CREATE TABLE suppression (
    text TEXT PRIMARY KEY, reason TEXT NOT NULL, added_at INTEGER NOT NULL, person_id INTEGER REFERENCES person
) WITHOUT ROWID;
-- The rules in force are the newest row; every send names the one it was cleared under.
CREATE TABLE rules_version (
    id INTEGER PRIMARY KEY, at INTEGER NOT NULL, person_id INTEGER REFERENCES person,
    cap_limit INTEGER NOT NULL, cap_window_hours INTEGER NOT NULL, cap_in_force INTEGER NOT NULL
);
CREATE TABLE mailing (
    id INTEGER PRIMARY KEY, name TEXT NOT NULL, channel INTEGER NOT NULL DEFAULT 1, class INTEGER NOT NULL DEFAULT 1,
    topic_id INTEGER REFERENCES topic, letterhead_id INTEGER NOT NULL REFERENCES letterhead,
    -- null: everyone
    list_id INTEGER REFERENCES list, over_cap TEXT NOT NULL DEFAULT 'hold',
    html TEXT NOT NULL DEFAULT '', text TEXT NOT NULL DEFAULT '',
    -- draft, planned, sending, sent
    state TEXT NOT NULL DEFAULT 'draft', planned_at INTEGER, started_at INTEGER, finished_at INTEGER,
    made_at INTEGER NOT NULL, person_id INTEGER REFERENCES person
);
CREATE TABLE variant (
    mailing_id INTEGER NOT NULL REFERENCES mailing, arm INTEGER NOT NULL, subject TEXT NOT NULL,
    PRIMARY KEY (mailing_id, arm)
) WITHOUT ROWID;
CREATE TABLE link (
    mailing_id INTEGER NOT NULL REFERENCES mailing, position INTEGER NOT NULL, url TEXT NOT NULL, name TEXT NOT NULL,
    PRIMARY KEY (mailing_id, position)
) WITHOUT ROWID;
CREATE TABLE send (
    id INTEGER PRIMARY KEY, mailing_id INTEGER NOT NULL REFERENCES mailing, contact_id INTEGER NOT NULL REFERENCES contact,
    -- cause: 1 mailing, 2 series step; phase: 0 whole audience, 1 pilot, 2 rollout, 3 rollout check
    cause INTEGER NOT NULL DEFAULT 1, cause_id INTEGER NOT NULL, phase INTEGER NOT NULL DEFAULT 0, arm INTEGER NOT NULL DEFAULT 0,
    channel INTEGER NOT NULL DEFAULT 1, class INTEGER NOT NULL DEFAULT 1, rules_version INTEGER REFERENCES rules_version,
    -- 0 held, 1 ready, 2 handing over, 3 accepted, 4 deferred, 5 failed, 6 barred, 7 in doubt
    state INTEGER NOT NULL, at INTEGER NOT NULL, give_up_at INTEGER NOT NULL, tries INTEGER NOT NULL DEFAULT 0,
    reason INTEGER, handed_at INTEGER, accepted_at INTEGER, failed_at INTEGER, category INTEGER, reply TEXT,
    open_at INTEGER, any_open_at INTEGER, click_at INTEGER, any_click_at INTEGER, reply_at INTEGER,
    left_at INTEGER, complained_at INTEGER,
    UNIQUE (mailing_id, contact_id)
);
CREATE INDEX send_due ON send (at, id) WHERE state IN (0, 1, 4);
CREATE INDEX send_handing ON send (id) WHERE state IN (2, 7);
CREATE INDEX send_recent ON send (at, contact_id) WHERE class = 1;
CREATE INDEX send_contact ON send (contact_id, id);
-- kind: 1 open, 2 click, 3 reply, 4 unsubscribe, 5 complaint; machine: 0 human, else why not
CREATE TABLE response (
    id INTEGER PRIMARY KEY, at INTEGER NOT NULL, send_id INTEGER NOT NULL REFERENCES send, kind INTEGER NOT NULL,
    link INTEGER, agent TEXT NOT NULL DEFAULT '', machine INTEGER NOT NULL DEFAULT 0, rules_version INTEGER NOT NULL
);
CREATE INDEX response_send ON response (send_id, kind);
-- Digests of raw mail taken in, so that the same report twice changes nothing.
CREATE TABLE inbound (digest BLOB PRIMARY KEY, at INTEGER NOT NULL, kind TEXT NOT NULL, send_id INTEGER) WITHOUT ROWID;
CREATE TABLE trial (
    id INTEGER PRIMARY KEY, mailing_id INTEGER NOT NULL UNIQUE REFERENCES mailing, plan TEXT NOT NULL,
    -- planned, collecting, read, rolled_out, ended
    state TEXT NOT NULL, made_at INTEGER NOT NULL, person_id INTEGER REFERENCES person, seed INTEGER,
    sealed_at INTEGER, reading_due INTEGER, read_at INTEGER, verdict TEXT, counts TEXT, rollout_at INTEGER
);
CREATE TABLE roster (
    trial_id INTEGER NOT NULL REFERENCES trial, contact_id INTEGER NOT NULL REFERENCES contact,
    stratum INTEGER NOT NULL, arm INTEGER NOT NULL, PRIMARY KEY (trial_id, contact_id)
) WITHOUT ROWID;
INSERT INTO person (name, role) VALUES ('Ines Marek', 'analyst'), ('Tove Lind', 'marketer'), ('Oskar Bray', 'approver');
INSERT INTO rules_version (at, cap_limit, cap_window_hours, cap_in_force) VALUES (0, 3, 168, 0);
