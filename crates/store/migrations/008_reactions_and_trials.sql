-- Reactions, scores, tasks for people, webhooks; trials of several arms.
CREATE TABLE score (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE COLLATE NOCASE, half_life_days REAL, made_at INTEGER NOT NULL);
CREATE TABLE score_entry (
    id INTEGER PRIMARY KEY, score_id INTEGER NOT NULL REFERENCES score, contact_id INTEGER NOT NULL REFERENCES contact, at INTEGER NOT NULL, points REAL NOT NULL,
    -- What it comes from; without a reaction a person gave it, and said why.
    reaction_id INTEGER REFERENCES reaction, cause INTEGER, why TEXT NOT NULL DEFAULT '', person_id INTEGER REFERENCES person
);
CREATE INDEX score_entry_contact ON score_entry (contact_id, score_id, at);
CREATE INDEX score_entry_cause ON score_entry (reaction_id, cause) WHERE reaction_id IS NOT NULL;
-- What a person's entries add up to at the newest of them; it fades from there.
CREATE TABLE score_now (
    score_id INTEGER NOT NULL REFERENCES score, contact_id INTEGER NOT NULL REFERENCES contact, value REAL NOT NULL, as_of INTEGER NOT NULL,
    PRIMARY KEY (score_id, contact_id)
) WITHOUT ROWID;
CREATE INDEX score_now_contact ON score_now (contact_id);
-- A reaction never changes: a changed one ends, and another begins. on_at: since when it acts; null: off.
CREATE TABLE reaction (
    id INTEGER PRIMARY KEY, mailing_id INTEGER REFERENCES mailing, rule TEXT NOT NULL, made_at INTEGER NOT NULL, person_id INTEGER REFERENCES person,
    on_at INTEGER, ended_at INTEGER
);
-- Each at most once per cause: a send, a purchase or an event, by the trigger's kind. changed: a bit for each deed that
-- changed something, so that only that is taken back.
CREATE TABLE reacted (
    reaction_id INTEGER NOT NULL REFERENCES reaction, cause INTEGER NOT NULL, contact_id INTEGER NOT NULL REFERENCES contact, at INTEGER NOT NULL,
    done_at INTEGER NOT NULL, changed INTEGER NOT NULL, taken_back_at INTEGER, PRIMARY KEY (reaction_id, cause)
) WITHOUT ROWID;
CREATE INDEX reacted_contact ON reacted (contact_id);
-- How far the responses, purchases and events have been looked at, and the clock's last look.
CREATE TABLE reaction_mark (id INTEGER PRIMARY KEY CHECK (id = 1), response INTEGER NOT NULL, purchase INTEGER NOT NULL, event INTEGER NOT NULL, clock INTEGER NOT NULL);
INSERT INTO reaction_mark VALUES (1, 0, 0, 0, 0);
CREATE TABLE task (
    id INTEGER PRIMARY KEY, at INTEGER NOT NULL, reaction_id INTEGER NOT NULL REFERENCES reaction, contact_id INTEGER NOT NULL REFERENCES contact, words TEXT NOT NULL,
    done_at INTEGER, person_id INTEGER REFERENCES person
);
CREATE INDEX task_open ON task (at) WHERE done_at IS NULL;
CREATE TABLE webhook (
    id INTEGER PRIMARY KEY, name TEXT NOT NULL, url TEXT NOT NULL, secret BLOB NOT NULL, made_at INTEGER NOT NULL, person_id INTEGER REFERENCES person, ended_at INTEGER,
    why_ended TEXT NOT NULL DEFAULT ''
);
-- state: 0 waiting, 1 delivered, 2 given up. The key goes along, so that the receiver knows a repetition.
CREATE TABLE delivery (
    id INTEGER PRIMARY KEY, webhook_id INTEGER NOT NULL REFERENCES webhook, key TEXT NOT NULL UNIQUE, contact_id INTEGER REFERENCES contact, body TEXT NOT NULL,
    made_at INTEGER NOT NULL, next_at INTEGER, tries INTEGER NOT NULL DEFAULT 0, state INTEGER NOT NULL DEFAULT 0, status INTEGER, answer TEXT NOT NULL DEFAULT '', tried_at INTEGER
);
CREATE INDEX delivery_due ON delivery (next_at) WHERE next_at IS NOT NULL;
CREATE INDEX delivery_contact ON delivery (contact_id) WHERE contact_id IS NOT NULL;
CREATE INDEX send_accepted ON send (accepted_at) WHERE accepted_at IS NOT NULL;
CREATE INDEX send_failed ON send (failed_at) WHERE failed_at IS NOT NULL;
-- Trials of several arms: the seal with its looks, how many were held and the next, arms that one stopped for harm, and
-- who opened the arms early.
ALTER TABLE trial ADD COLUMN seal TEXT;
ALTER TABLE trial ADD COLUMN looked INTEGER NOT NULL DEFAULT 0;
ALTER TABLE trial ADD COLUMN next_look INTEGER;
ALTER TABLE trial ADD COLUMN stopped TEXT NOT NULL DEFAULT '[]';
ALTER TABLE trial ADD COLUMN opened_at INTEGER;
ALTER TABLE trial ADD COLUMN opened_by INTEGER REFERENCES person;
