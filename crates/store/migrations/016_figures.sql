-- Of each domain, day by day: messages accepted, and those whose images were fetched within minutes. `delivered` and `fetched` of a
-- domain are their sums over the last 90 days from now on; whether its opens can be known is kept, so that a domain that gets no mail
-- for a while stays what it was found to be.
ALTER TABLE domain ADD COLUMN opens_unknown INTEGER NOT NULL DEFAULT 0;
UPDATE domain SET opens_unknown = 1 WHERE delivered >= 50 AND fetched > 0.8 * delivered;
CREATE TABLE domain_day (
    domain_id INTEGER NOT NULL REFERENCES domain, day INTEGER NOT NULL, delivered INTEGER NOT NULL DEFAULT 0, fetched INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (domain_id, day)
) WITHOUT ROWID;
CREATE INDEX domain_day_day ON domain_day (day);
INSERT INTO domain_day SELECT k.domain_id, s.accepted_at / 86400000, count(*), coalesce(sum(s.any_open_at - s.accepted_at <= 300000), 0)
    FROM send s JOIN contact k ON k.id = s.contact_id
    WHERE s.channel = 1 AND s.accepted_at >= (SELECT max(at) FROM send) - 7776000000 GROUP BY 1, 2;
UPDATE domain SET delivered = 0, fetched = 0;
UPDATE domain SET delivered = o.delivered, fetched = o.fetched
    FROM (SELECT domain_id, sum(delivered) AS delivered, sum(fetched) AS fetched FROM domain_day GROUP BY domain_id) o WHERE id = o.domain_id;
-- Domains whose messages are still to be marked, from this instant on, and up to which person that is done.
CREATE TABLE opens_unknown_due (domain_id INTEGER PRIMARY KEY REFERENCES domain, since INTEGER NOT NULL, upto INTEGER NOT NULL);
-- What was known of the message's domain as it was handed over, or found out within the days after.
DROP TRIGGER send_figures;
DROP TRIGGER send_figures_moved;
DROP TABLE mailing_figure;
ALTER TABLE send ADD COLUMN opens_unknown INTEGER NOT NULL DEFAULT 0;
UPDATE send SET opens_unknown = 1 WHERE handed_at IS NOT NULL AND channel = 1
    AND contact_id IN (SELECT id FROM contact WHERE domain_id IN (SELECT id FROM domain WHERE opens_unknown = 1));
-- The rollout goes at the hour of the pilot, by each person's own clock.
ALTER TABLE trial ADD COLUMN at_pilot_hour INTEGER NOT NULL DEFAULT 0;
UPDATE trial SET at_pilot_hour = 1 WHERE state = 'rolling';
-- The reading of a trial as it was shown when it was read.
ALTER TABLE trial ADD COLUMN reading TEXT;
-- What keeps sums, in its own words: when it changes, they are counted again.
CREATE TABLE kept_sums (name TEXT PRIMARY KEY, made_by TEXT NOT NULL) WITHOUT ROWID;
-- Of everybody on a roster, whether their opens can be known, frozen before the seal; of a trial that people enter one by one it goes by
-- the domains as they were found at the seal.
ALTER TABLE roster ADD COLUMN opens_unknown INTEGER NOT NULL DEFAULT 0;
CREATE TABLE trial_opens_unknown (
    trial_id INTEGER NOT NULL REFERENCES trial, domain_id INTEGER NOT NULL REFERENCES domain, PRIMARY KEY (trial_id, domain_id)
) WITHOUT ROWID;
