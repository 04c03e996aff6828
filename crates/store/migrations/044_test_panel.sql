-- Mailboxes of our own that get a copy of each mailing, and where each copy landed.
CREATE TABLE panel_mailbox (
    id INTEGER PRIMARY KEY, address TEXT NOT NULL, address_key TEXT NOT NULL UNIQUE, domain TEXT NOT NULL, made_at INTEGER NOT NULL, ended_at INTEGER
);
-- place: inbox, junk, missing; none: nobody has looked yet.
CREATE TABLE panel_copy (
    test_id INTEGER PRIMARY KEY REFERENCES test_send, mailing_id INTEGER NOT NULL REFERENCES mailing, mailbox_id INTEGER NOT NULL REFERENCES panel_mailbox,
    place TEXT, told_at INTEGER, UNIQUE (mailing_id, mailbox_id)
);
