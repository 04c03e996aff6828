-- Imports say to which legal entity their people agreed; empty: the first.
ALTER TABLE import_run ADD COLUMN entity TEXT NOT NULL DEFAULT '';
-- Mail domains that get nothing for a while. Rows end and stay, so that an old decision can be explained.
CREATE TABLE domain_pause (
    id INTEGER PRIMARY KEY, domain_id INTEGER NOT NULL REFERENCES domain, made_at INTEGER NOT NULL, until_at INTEGER NOT NULL,
    reason TEXT NOT NULL, person_id INTEGER REFERENCES person, ended_at INTEGER
);
CREATE INDEX domain_pause_domain ON domain_pause (domain_id);
-- Why a trial under its needed size was sealed all the same, and who let it.
ALTER TABLE trial ADD COLUMN small_reason TEXT;
ALTER TABLE trial ADD COLUMN small_by INTEGER REFERENCES person;
