-- What mailbox groups' people opened of each mailing, against what its opens elsewhere and the group's own past lead to expect. Worked out each day
-- with the alerts, of the mailings that can be judged.
CREATE TABLE delivery_opened (
    name TEXT NOT NULL, mailing_id INTEGER NOT NULL REFERENCES mailing, at INTEGER NOT NULL, opened INTEGER NOT NULL, known INTEGER NOT NULL,
    expected REAL NOT NULL, lower REAL NOT NULL, under INTEGER NOT NULL, PRIMARY KEY (name, mailing_id)
) WITHOUT ROWID;
