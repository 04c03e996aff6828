-- Reply lines that a person reads otherwise than the rules do. `past_at`, `past_send`: how far what failed before was read again; null: all of it.
CREATE TABLE reading (
    id INTEGER PRIMARY KEY,
    line TEXT NOT NULL,
    category INTEGER NOT NULL,
    at INTEGER NOT NULL,
    person_id INTEGER REFERENCES person (id),
    why TEXT NOT NULL,
    ended_at INTEGER,
    ended_by INTEGER REFERENCES person (id),
    past_at INTEGER,
    past_send INTEGER
);
CREATE UNIQUE INDEX reading_in_force ON reading (line) WHERE ended_at IS NULL;
CREATE INDEX reading_unfinished ON reading (id) WHERE past_at IS NOT NULL;
