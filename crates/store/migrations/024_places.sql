-- Where a message went: domain (0: one of few people), country and source of its recipient, as they were when it was handed over; and the hour of
-- its first handover by the recipient's clock, in hours since 1970.
CREATE TABLE place (
    id INTEGER PRIMARY KEY, domain_id INTEGER NOT NULL, country TEXT NOT NULL, source TEXT NOT NULL, UNIQUE (domain_id, country, source)
);
ALTER TABLE send ADD COLUMN place_id INTEGER REFERENCES place;
ALTER TABLE send ADD COLUMN local_hour INTEGER;
-- Views of findings that somebody wants to look at again.
CREATE TABLE saved_view (
    id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE COLLATE NOCASE, path TEXT NOT NULL, made_at INTEGER NOT NULL, person_id INTEGER REFERENCES person
);
