-- Case notes: what somebody wants whoever reads the evidence to know.
CREATE TABLE evidence_note (id INTEGER PRIMARY KEY, at INTEGER NOT NULL, person_id INTEGER REFERENCES person, text TEXT NOT NULL);
-- Addresses under upkeep in the order of their names.
CREATE INDEX contact_status_address ON contact (status, address_key) WHERE status <> 0;
