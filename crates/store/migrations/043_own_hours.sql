-- Each person's own hour as an hour trial found it, where people differ in which suits them.
CREATE TABLE own_hour (
    contact_id INTEGER NOT NULL REFERENCES contact, trial_id INTEGER NOT NULL REFERENCES hour_trial, hour INTEGER NOT NULL,
    PRIMARY KEY (contact_id, trial_id)
) WITHOUT ROWID;
CREATE INDEX own_hour_trial ON own_hour (trial_id, contact_id, hour);
-- Of a trial of own hours: whose hour was held against the best one for all.
ALTER TABLE hour_roster ADD COLUMN own INTEGER;
