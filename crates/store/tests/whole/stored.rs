//! What the file holds and this Rinse can't read.

use crate::common::{START, mailing, run};
use rinse_core::clearance::OverCap;
use rinse_core::id::MailingId;
use rinse_store::{clearing, sends};

/// What a person's row or a mailing's document says in words that this Rinse doesn't know is an error, not "active" or "at once".
#[test]
fn what_cannot_be_read_is_never_taken_for_the_usual() {
    run(3, |c| {
        let m = mailing(c, None, OverCap::Hold);
        for (sql, why) in [
            ("UPDATE contact SET status = 9 WHERE id = 2", "9 is no mail status"),
            ("UPDATE contact SET status = 0, consent = 17 WHERE id = 2", "17 is no consent state"),
            ("UPDATE contact SET consent = 2", ""),
            ("UPDATE mailing SET schedule = '{\"local\": 3}'", "mailing 1 holds"),
        ] {
            c.execute(sql, []).unwrap();
            let tried = clearing::audience(c, MailingId(m), START)
                .and_then(|done| sends::turns(c, MailingId(m), START, sends::Hour::AsScheduled, &done, []).map(drop));
            let said = tried.err().map(|e| e.to_string()).unwrap_or_default();
            assert!(said.contains(why) && said.is_empty() == why.is_empty(), "{sql}: {said}");
        }
    });
}
