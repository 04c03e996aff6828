-- How often and when lately a person answered, per kind of answer: what conditions on responses ask.
-- kind: 1 opened, 2 clicked, 3 replied, 4 left, 5 complained (human ones), 6 received. n: messages, ever;
-- t1 to t6: the latest such instants of the latest six messages, the newest first.
CREATE TABLE answered (
    kind INTEGER NOT NULL, contact_id INTEGER NOT NULL REFERENCES contact, n INTEGER NOT NULL,
    t1 INTEGER NOT NULL, t2 INTEGER, t3 INTEGER, t4 INTEGER, t5 INTEGER, t6 INTEGER, PRIMARY KEY (kind, contact_id)
) WITHOUT ROWID;
-- Responses up to this one are rolled up, and none of them is later than `latest`.
CREATE TABLE rollup (id INTEGER PRIMARY KEY CHECK (id = 1), upto INTEGER NOT NULL, latest INTEGER NOT NULL);
INSERT INTO rollup VALUES (1, 0, 0);
-- People whose messages changed since.
CREATE TABLE rollup_due (contact_id INTEGER PRIMARY KEY) WITHOUT ROWID;
INSERT INTO rollup_due SELECT DISTINCT contact_id FROM send;
-- Who bought a product is asked of the index alone.
DROP INDEX purchase_product;
CREATE INDEX purchase_product ON purchase (product_key, contact_id, at, cents);
