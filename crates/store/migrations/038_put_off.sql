-- Messages that a domain's hosts put off at their first try, by day (since 1970, UTC).
CREATE TABLE deferred_day (day INTEGER NOT NULL, domain_id INTEGER NOT NULL, messages INTEGER NOT NULL, PRIMARY KEY (day, domain_id)) WITHOUT ROWID;
