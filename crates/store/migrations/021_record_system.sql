-- Files of the system of record, and how many of a file's rows would have brought somebody back who was deleted here.
ALTER TABLE import_run ADD COLUMN record INTEGER NOT NULL DEFAULT 0;
ALTER TABLE import_run ADD COLUMN came_back INTEGER NOT NULL DEFAULT 0;
CREATE INDEX import_record ON import_run (id) WHERE record = 1;
-- Whom files would have brought back, by the keyed hash of the address.
CREATE TABLE came_back (
    hash BLOB PRIMARY KEY, times INTEGER NOT NULL, first_at INTEGER NOT NULL, last_at INTEGER NOT NULL, import_id INTEGER NOT NULL REFERENCES import_run
) WITHOUT ROWID;
