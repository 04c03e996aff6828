-- Reports of other hosts about mail in our name: DMARC aggregate reports, TLS reports, and what couldn't be read.
CREATE TABLE report_in (
    id INTEGER PRIMARY KEY, digest BLOB NOT NULL UNIQUE, came_at INTEGER NOT NULL, person_id INTEGER REFERENCES person, name TEXT NOT NULL,
    -- dmarc, tls, unreadable
    kind TEXT NOT NULL, error TEXT, org TEXT, report_id TEXT, domain TEXT, begin_at INTEGER, end_at INTEGER
);
-- The same report again, packed otherwise.
CREATE UNIQUE INDEX report_in_said ON report_in (kind, org, report_id, domain) WHERE report_id IS NOT NULL;
CREATE TABLE dmarc_row (
    report_id INTEGER NOT NULL REFERENCES report_in, day INTEGER NOT NULL, source TEXT NOT NULL, messages INTEGER NOT NULL,
    dkim INTEGER NOT NULL, spf INTEGER NOT NULL, disposition TEXT NOT NULL, header_from TEXT NOT NULL
);
CREATE INDEX dmarc_row_day ON dmarc_row (day, source);
CREATE INDEX dmarc_row_report ON dmarc_row (report_id);
CREATE TABLE tls_row (
    report_id INTEGER NOT NULL REFERENCES report_in, day INTEGER NOT NULL, domain TEXT NOT NULL, policy TEXT NOT NULL, good INTEGER NOT NULL, failed INTEGER NOT NULL,
    reasons TEXT NOT NULL
);
CREATE INDEX tls_row_day ON tls_row (day);
