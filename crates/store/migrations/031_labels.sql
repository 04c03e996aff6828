-- Labels of series hold for all their messages, those of hour trials for their rounds.
CREATE TABLE series_label (
    label_id INTEGER NOT NULL REFERENCES label, series_id INTEGER NOT NULL REFERENCES series, PRIMARY KEY (label_id, series_id)
) WITHOUT ROWID;
CREATE TABLE hour_trial_label (
    label_id INTEGER NOT NULL REFERENCES label, trial_id INTEGER NOT NULL REFERENCES hour_trial, PRIMARY KEY (label_id, trial_id)
) WITHOUT ROWID;
-- What mailings are called by, on their own account or by what they belong to.
CREATE VIEW labelled (mailing_id, label_id) AS
    SELECT mailing_id, label_id FROM mailing_label
    UNION SELECT m.id, s.label_id FROM series_label s JOIN mailing m ON m.series_id = s.series_id
    UNION SELECT r.mailing_id, h.label_id FROM hour_trial_label h JOIN hour_round r ON r.trial_id = h.trial_id;
