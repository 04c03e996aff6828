-- People by the month they joined in: what each of them counts as, and the sums of that. Months since January 1970; `since`: since the one of joining.
CREATE TABLE cohort_person (contact_id INTEGER PRIMARY KEY REFERENCES contact, life TEXT NOT NULL);
CREATE TABLE cohort_sum (
    joined INTEGER NOT NULL, since INTEGER NOT NULL,
    -- people who joined; those who can be mailed now and couldn't the month before, less the others; those who answered
    people INTEGER NOT NULL DEFAULT 0, turned INTEGER NOT NULL DEFAULT 0, answered INTEGER NOT NULL DEFAULT 0, PRIMARY KEY (joined, since)
) WITHOUT ROWID;
CREATE TABLE cohort_bought (
    joined INTEGER NOT NULL, since INTEGER NOT NULL, currency TEXT NOT NULL, people INTEGER NOT NULL, cents INTEGER NOT NULL, squares REAL NOT NULL,
    PRIMARY KEY (joined, since, currency)
) WITHOUT ROWID;
-- Who is to be counted anew, beyond those who are new, answered or have a new entry in their ledger.
CREATE TABLE cohort_due (contact_id INTEGER PRIMARY KEY);
CREATE TRIGGER cohort_send_to_another AFTER UPDATE OF contact_id ON send WHEN old.contact_id <> new.contact_id
    BEGIN INSERT OR IGNORE INTO cohort_due VALUES (old.contact_id), (new.contact_id); END;
CREATE TRIGGER cohort_purchase_made AFTER INSERT ON purchase BEGIN INSERT OR IGNORE INTO cohort_due VALUES (new.contact_id); END;
CREATE TRIGGER cohort_purchase_to_another AFTER UPDATE ON purchase BEGIN INSERT OR IGNORE INTO cohort_due VALUES (old.contact_id), (new.contact_id); END;
CREATE TRIGGER cohort_purchase_gone AFTER DELETE ON purchase BEGIN INSERT OR IGNORE INTO cohort_due VALUES (old.contact_id); END;
CREATE TRIGGER cohort_answer_gone AFTER UPDATE OF open_at, click_at, opens_unknown ON send
    WHEN (old.open_at IS NOT NULL AND new.open_at IS NULL) OR (old.click_at IS NOT NULL AND new.click_at IS NULL)
        OR (old.opens_unknown <> new.opens_unknown AND new.open_at IS NOT NULL)
    BEGIN INSERT OR IGNORE INTO cohort_due VALUES (new.contact_id); END;
