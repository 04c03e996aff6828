-- Incidents are of a mailbox group: the domains whose mail the same operator takes, or one of them alone (whole = 0). Decision: null not decided, 0 they
-- don't count, 1 they count.
CREATE TABLE incident_of_group (
    id INTEGER PRIMARY KEY, mailing_id INTEGER NOT NULL REFERENCES mailing, name TEXT NOT NULL, whole INTEGER NOT NULL, opened_at INTEGER NOT NULL,
    -- the mailing's messages there, once it is decided: what they are counted from is forgotten later
    messages INTEGER,
    -- what was usual: group (there), base, usual
    norm_of TEXT NOT NULL, norm_failures INTEGER NOT NULL, norm_messages INTEGER NOT NULL,
    decision INTEGER, decided_at INTEGER, person_id INTEGER REFERENCES person, reason TEXT NOT NULL DEFAULT '', UNIQUE (mailing_id, name, whole)
);
INSERT INTO incident_of_group
    SELECT i.id, i.mailing_id, d.name, 0, i.opened_at, i.messages, i.norm_of, i.norm_failures, i.norm_messages, i.decision,
        i.decided_at, i.person_id, i.reason
    FROM incident i JOIN domain d ON d.id = i.domain_id;
-- The domains that an incident is of, as they were of the group then; one that comes to the group later joins with its first failure.
CREATE TABLE incident_domain (
    mailing_id INTEGER NOT NULL REFERENCES mailing, domain_id INTEGER NOT NULL REFERENCES domain,
    incident_id INTEGER NOT NULL REFERENCES incident_of_group ON DELETE CASCADE, PRIMARY KEY (mailing_id, domain_id)
) WITHOUT ROWID;
INSERT INTO incident_domain SELECT mailing_id, domain_id, id FROM incident;
DROP TABLE incident;
ALTER TABLE incident_of_group RENAME TO incident;
CREATE INDEX incident_domain_incident ON incident_domain (incident_id);
CREATE INDEX domain_failure_domain ON domain_failure (domain_id, mailing_id, day);
-- Failures of a mailing at a group that count against addresses, by the day (since 1970, UTC): they say when to look whether they make an incident.
CREATE TABLE group_failure (
    mailing_id INTEGER NOT NULL REFERENCES mailing, name TEXT NOT NULL, day INTEGER NOT NULL, failures INTEGER NOT NULL, PRIMARY KEY (mailing_id, name, day)
) WITHOUT ROWID;
INSERT INTO group_failure SELECT f.mailing_id, coalesce(d.operator, d.name), f.day, sum(f.failures)
    FROM domain_failure f JOIN domain d ON d.id = f.domain_id WHERE f.failures > 0 GROUP BY 1, 2, 3;
-- What hosts put off is counted by sender, too; 0: before it was.
CREATE TABLE deferred_of (
    day INTEGER NOT NULL, domain_id INTEGER NOT NULL, letterhead_id INTEGER NOT NULL, messages INTEGER NOT NULL, PRIMARY KEY (day, domain_id, letterhead_id)
) WITHOUT ROWID;
INSERT INTO deferred_of SELECT day, domain_id, 0, messages FROM deferred_day;
DROP TABLE deferred_day;
ALTER TABLE deferred_of RENAME TO deferred_day;
-- What was bought is found by its categories, too, without reading every purchase.
CREATE INDEX purchase_category ON purchase (category_key, category) WHERE category_key > '';
