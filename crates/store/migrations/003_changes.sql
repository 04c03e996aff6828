-- Changes that can be taken back, people who are gone, scores and events from outside, labels.
-- A person who is gone keeps their row, without anything personal, so that counts in reports stay:
-- 1 deleted at their wish, 2 came with an import that was taken back, 3 merged into another.
ALTER TABLE contact ADD COLUMN gone INTEGER;
ALTER TABLE contact ADD COLUMN merged_into INTEGER REFERENCES contact;
-- The run that changed the profile last; null when a person did.
ALTER TABLE contact ADD COLUMN run_id INTEGER;
CREATE INDEX contact_gone ON contact (id) WHERE gone IS NOT NULL;
CREATE INDEX contact_merged ON contact (merged_into) WHERE merged_into IS NOT NULL;
-- Of a send that moved with a merge: whom it was addressed to. An address's mail status counts its own.
ALTER TABLE send ADD COLUMN address_of INTEGER REFERENCES contact;
-- The state that an entry states outright: after a merge, a changed address, a change taken back.
ALTER TABLE ledger ADD COLUMN state INTEGER;
ALTER TABLE ledger ADD COLUMN run_id INTEGER;
-- Keyed hashes of the addresses that were deleted and may not come back by an import.
CREATE TABLE tombstone (hash BLOB PRIMARY KEY, at INTEGER NOT NULL) WITHOUT ROWID;
-- kind: import, merge, address, tag, list. The marks are the newest rows when it began.
CREATE TABLE change_run (
    id INTEGER PRIMARY KEY, at INTEGER NOT NULL, person_id INTEGER REFERENCES person, kind TEXT NOT NULL, words TEXT NOT NULL,
    import_id INTEGER UNIQUE REFERENCES import_run, people INTEGER NOT NULL DEFAULT 0,
    ledger_mark INTEGER NOT NULL, send_mark INTEGER NOT NULL, response_mark INTEGER NOT NULL, purchase_mark INTEGER NOT NULL,
    -- done, undoing, undone
    state TEXT NOT NULL DEFAULT 'done', undone_at INTEGER, undone INTEGER NOT NULL DEFAULT 0, kept INTEGER NOT NULL DEFAULT 0
);
CREATE TABLE before_image (
    id INTEGER PRIMARY KEY, run_id INTEGER NOT NULL REFERENCES change_run, contact_id INTEGER NOT NULL REFERENCES contact, image TEXT NOT NULL,
    -- the run that had changed them last before this one
    run_before INTEGER
);
CREATE INDEX before_image_run ON before_image (run_id, id);
CREATE INDEX before_image_contact ON before_image (contact_id);
-- What the base check should not bring up again.
CREATE TABLE set_aside (finding TEXT NOT NULL, text TEXT NOT NULL, at INTEGER NOT NULL, person_id INTEGER REFERENCES person, PRIMARY KEY (finding, text)) WITHOUT ROWID;
CREATE TABLE disposable_domain (name TEXT PRIMARY KEY) WITHOUT ROWID;
INSERT INTO disposable_domain VALUES ('ten-minutes.example'), ('throw-away.example'), ('one-use.example');
ALTER TABLE import_run ADD COLUMN ndjson INTEGER NOT NULL DEFAULT 0;
ALTER TABLE import_run ADD COLUMN fixes TEXT NOT NULL DEFAULT '{}';
ALTER TABLE import_run ADD COLUMN findings TEXT NOT NULL DEFAULT '{}';
-- Every value of an outside score; the newest day's is the one in field_value.
CREATE TABLE score_history (
    contact_id INTEGER NOT NULL REFERENCES contact, field_id INTEGER NOT NULL REFERENCES field, day INTEGER NOT NULL, source TEXT NOT NULL, number REAL NOT NULL,
    PRIMARY KEY (contact_id, field_id, day, source)
) WITHOUT ROWID;
-- What people did elsewhere, by the other system's own key.
CREATE TABLE event (
    id INTEGER PRIMARY KEY, key TEXT NOT NULL UNIQUE, contact_id INTEGER NOT NULL REFERENCES contact, at INTEGER NOT NULL,
    name TEXT NOT NULL, name_key TEXT NOT NULL, about TEXT NOT NULL DEFAULT ''
);
CREATE INDEX event_contact ON event (contact_id, at);
CREATE INDEX event_name ON event (name_key, at, contact_id);
CREATE TABLE label (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE COLLATE NOCASE, made_at INTEGER NOT NULL);
CREATE TABLE mailing_label (
    label_id INTEGER NOT NULL REFERENCES label, mailing_id INTEGER NOT NULL REFERENCES mailing, PRIMARY KEY (label_id, mailing_id)
) WITHOUT ROWID;
