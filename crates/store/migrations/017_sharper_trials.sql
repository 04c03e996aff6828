-- In a series: which look called an arm, and of whom (JSON).
ALTER TABLE trial ADD COLUMN called_at_look TEXT;
-- What people of a roster did before their trial, frozen at the seal: the share of their last messages that they answered, in parts of 27,720.
CREATE TABLE roster_before (
    trial_id INTEGER NOT NULL REFERENCES trial, contact_id INTEGER NOT NULL REFERENCES contact, share INTEGER NOT NULL, PRIMARY KEY (trial_id, contact_id)
) WITHOUT ROWID;
