-- Case notes: what somebody wants whoever reads the evidence to know.
CREATE TABLE evidence_note (id INTEGER PRIMARY KEY, at INTEGER NOT NULL, person_id INTEGER REFERENCES person, text TEXT NOT NULL);
