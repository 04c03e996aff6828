-- The rules that tell machines' responses from people's, in versions; how far what is stored has been judged by each, and what that changed.
-- What earlier files hold is judged anew once: opens of domains that were found out after them.
CREATE TABLE machine_rules (
    id INTEGER PRIMARY KEY, at INTEGER NOT NULL, person_id INTEGER REFERENCES person, rules TEXT NOT NULL, note TEXT NOT NULL,
    upto INTEGER NOT NULL DEFAULT 0, done_at INTEGER, changed TEXT
);
INSERT INTO machine_rules (id, at, done_at, rules, note) SELECT 1, 0, iif(EXISTS (SELECT 1 FROM response), NULL, 0),
    '{"too_soon_seconds":10,"agents":["imageproxy","image-proxy","linkscanner","prefetch"],"networks":[],"fetch_percent":80,"fetch_messages":50,"burst_links":3,"burst_seconds":3}',
    'As Rinse comes';
-- Where hits come from: the first 24 bits of an IPv4 address, 48 of an IPv6 address.
CREATE TABLE network (id INTEGER PRIMARY KEY, network TEXT NOT NULL UNIQUE);
ALTER TABLE response ADD COLUMN network_id INTEGER REFERENCES network;
-- What explains a message's first open, and first click, that isn't a person's.
ALTER TABLE send ADD COLUMN open_rule INTEGER;
ALTER TABLE send ADD COLUMN click_rule INTEGER;
UPDATE send SET open_rule = (SELECT machine FROM response r WHERE r.send_id = send.id AND r.kind = 1 AND r.machine > 0 ORDER BY r.id LIMIT 1),
    click_rule = (SELECT machine FROM response r WHERE r.send_id = send.id AND r.kind = 2 AND r.machine > 0 ORDER BY r.id LIMIT 1)
    WHERE any_open_at IS NOT NULL OR any_click_at IS NOT NULL;
-- Messages of a domain that other rules let go are marked like those of one that was found out.
ALTER TABLE opens_unknown_due ADD COLUMN opens_unknown INTEGER NOT NULL DEFAULT 1;
