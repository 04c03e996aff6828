-- Answers about everybody that take seconds: what was said last, as of when, and how long it took.
CREATE TABLE kept_answer (asked TEXT PRIMARY KEY, as_of INTEGER NOT NULL, took_ms INTEGER NOT NULL, answer BLOB NOT NULL);
