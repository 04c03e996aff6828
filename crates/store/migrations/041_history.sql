-- Files that tell what another system sent, and what became of it.
CREATE TABLE log_file (
    id INTEGER PRIMARY KEY, file_name TEXT NOT NULL, made_at INTEGER NOT NULL, person_id INTEGER REFERENCES person,
    encoding TEXT NOT NULL, delimiter INTEGER NOT NULL, header INTEGER NOT NULL, ndjson INTEGER NOT NULL,
    -- mailings, events
    holds TEXT NOT NULL, mapping TEXT NOT NULL, columns TEXT NOT NULL,
    -- Local times are of this zone; null: nobody said.
    zone TEXT, month_first INTEGER NOT NULL DEFAULT 0,
    -- People whom the base lacks are kept, without consent; mailings that no table told of are made.
    newcomers INTEGER NOT NULL DEFAULT 0, unnamed INTEGER NOT NULL DEFAULT 0,
    -- staged, checked, applying, applied, cancelled, undoing, undone
    state TEXT NOT NULL, found TEXT NOT NULL DEFAULT '{}', records INTEGER NOT NULL DEFAULT 0,
    -- Rows behind it, of twice as many: steps first, then answers.
    done INTEGER NOT NULL DEFAULT 0, new INTEGER NOT NULL DEFAULT 0, known INTEGER NOT NULL DEFAULT 0, refused INTEGER NOT NULL DEFAULT 0,
    applied_at INTEGER, undone_at INTEGER
);
-- Mailings that another system sent, by its key.
CREATE TABLE outside_mailing (
    mailing_id INTEGER PRIMARY KEY REFERENCES mailing, key TEXT NOT NULL UNIQUE, size INTEGER, log_id INTEGER REFERENCES log_file,
    -- Opens came without the program that fetched: scanners can't be taken out, so whether a person opened isn't known.
    opens_unknown INTEGER NOT NULL DEFAULT 0
);
-- Steps of a message's way. The row of send is what they come to.
CREATE TABLE log_step (
    send_id INTEGER NOT NULL REFERENCES send, step INTEGER NOT NULL, at INTEGER NOT NULL, log_id INTEGER REFERENCES log_file, reply TEXT,
    PRIMARY KEY (send_id, step, at)
) WITHOUT ROWID;
CREATE INDEX log_step_log ON log_step (log_id) WHERE log_id IS NOT NULL;
-- What a file spoke of, and whom it brought.
CREATE TABLE log_mailing (mailing_id INTEGER NOT NULL REFERENCES mailing, log_id INTEGER NOT NULL REFERENCES log_file, PRIMARY KEY (mailing_id, log_id)) WITHOUT ROWID;
CREATE TABLE log_person (log_id INTEGER NOT NULL REFERENCES log_file, contact_id INTEGER NOT NULL REFERENCES contact, PRIMARY KEY (log_id, contact_id)) WITHOUT ROWID;
ALTER TABLE response ADD COLUMN log_id INTEGER REFERENCES log_file;
CREATE INDEX response_log ON response (log_id) WHERE log_id IS NOT NULL;
ALTER TABLE purchase ADD COLUMN log_id INTEGER REFERENCES log_file;
CREATE INDEX purchase_log ON purchase (log_id) WHERE log_id IS NOT NULL;
-- Rows that weren't taken, by their place in the file: the first of them.
CREATE TABLE log_refused (log_id INTEGER NOT NULL REFERENCES log_file, row INTEGER NOT NULL, why TEXT NOT NULL, PRIMARY KEY (log_id, row)) WITHOUT ROWID;
-- Reserved by another system: a message whose first step hasn't come.
CREATE INDEX send_reserved ON send (give_up_at) WHERE state = 3 AND handed_at IS NULL;
-- A mailing that another system sends, whose people are drawn and cleared here: they are handed out as files, and its log says what came of them.
ALTER TABLE mailing ADD COLUMN handed_out INTEGER NOT NULL DEFAULT 0;
CREATE TRIGGER mailing_handed_out AFTER UPDATE OF started_at ON mailing WHEN new.handed_out = 1 AND new.started_at IS NOT NULL AND old.started_at IS NULL
BEGIN INSERT OR IGNORE INTO outside_mailing (mailing_id, key) VALUES (new.id, 'rinse-' || new.id); END;
-- Who got another arm's message than the one they were drawn to.
CREATE TABLE log_crossed (send_id INTEGER PRIMARY KEY REFERENCES send, arm INTEGER NOT NULL, log_id INTEGER REFERENCES log_file);
