-- Where a message went: domain (0: one of few people), country and source of its recipient, as they were when it was handed over; and the hour of
-- its first handover by the recipient's clock, in hours since 1970.
CREATE TABLE place (
    id INTEGER PRIMARY KEY, domain_id INTEGER NOT NULL, country TEXT NOT NULL, source TEXT NOT NULL, UNIQUE (domain_id, country, source)
);
ALTER TABLE send ADD COLUMN place_id INTEGER REFERENCES place;
ALTER TABLE send ADD COLUMN local_hour INTEGER;
