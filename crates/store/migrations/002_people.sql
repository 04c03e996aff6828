-- Fields of one's own, tags, purchases, segments: what people are picked out by.
ALTER TABLE contact ADD COLUMN region TEXT;
ALTER TABLE contact ADD COLUMN latitude REAL;
ALTER TABLE contact ADD COLUMN longitude REAL;
-- kind: text, number, date, yes_no, choice
CREATE TABLE field (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE COLLATE NOCASE, kind TEXT NOT NULL, made_at INTEGER NOT NULL);
-- One of the typed columns holds the value; key is the text as it is compared; days since 1970-01-01.
CREATE TABLE field_value (
    field_id INTEGER NOT NULL REFERENCES field, contact_id INTEGER NOT NULL REFERENCES contact,
    text TEXT, key TEXT, number REAL, day INTEGER, flag INTEGER,
    -- of an outside score: its day and where it comes from
    dated INTEGER, source TEXT,
    PRIMARY KEY (field_id, contact_id)
) WITHOUT ROWID;
CREATE INDEX field_value_contact ON field_value (contact_id, field_id);
CREATE TABLE tag (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE COLLATE NOCASE, made_at INTEGER NOT NULL);
CREATE TABLE contact_tag (
    tag_id INTEGER NOT NULL REFERENCES tag, contact_id INTEGER NOT NULL REFERENCES contact, at INTEGER NOT NULL,
    PRIMARY KEY (tag_id, contact_id)
) WITHOUT ROWID;
CREATE INDEX contact_tag_contact ON contact_tag (contact_id);
CREATE INDEX list_member_contact ON list_member (contact_id);
-- Values in hundredths of the currency, so that sums are exact; a refund is negative.
CREATE TABLE purchase (
    id INTEGER PRIMARY KEY, key TEXT NOT NULL UNIQUE, contact_id INTEGER NOT NULL REFERENCES contact, at INTEGER NOT NULL,
    cents INTEGER NOT NULL, currency TEXT NOT NULL, product TEXT NOT NULL, product_key TEXT NOT NULL,
    category TEXT NOT NULL DEFAULT '', category_key TEXT NOT NULL DEFAULT ''
);
CREATE INDEX purchase_contact ON purchase (contact_id, at);
CREATE INDEX purchase_product ON purchase (product_key, contact_id);
-- kind: live (its tree decides), frozen (a copy of its people), outside (replaced whole by each import)
CREATE TABLE segment (
    id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE COLLATE NOCASE, kind TEXT NOT NULL, tree TEXT NOT NULL,
    made_at INTEGER NOT NULL, changed_at INTEGER NOT NULL, person_id INTEGER REFERENCES person
);
CREATE TABLE segment_member (
    segment_id INTEGER NOT NULL REFERENCES segment, contact_id INTEGER NOT NULL REFERENCES contact,
    PRIMARY KEY (segment_id, contact_id)
) WITHOUT ROWID;
CREATE INDEX segment_member_contact ON segment_member (contact_id);
ALTER TABLE mailing ADD COLUMN segment_id INTEGER REFERENCES segment;
-- The header's words, so that the same columns are mapped the same way next time.
ALTER TABLE import_run ADD COLUMN columns TEXT NOT NULL DEFAULT '';
ALTER TABLE import_run ADD COLUMN tag_id INTEGER REFERENCES tag;
