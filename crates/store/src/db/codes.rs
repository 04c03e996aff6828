//! States as SQL writes them, made from the enums (those of messages: [`crate::send_state`]). A partial index is only met by the very words that it
//! was made with: a query on one mail status says `status <> {ACTIVE}`, too, or it reads everybody.

use const_format::formatcp;
use rinse_core::consent::Consent;
use rinse_core::invitation::State as SignUp;
use rinse_core::standing::{ChangeState, FileState, MailingState, SeriesState, TrialState};
use rinse_core::upkeep::MailStatus;
use rinse_core::upkeep::run::{Becomes, MemberState, RunState};
use rinse_core::webhook::State as Told;

pub(crate) const MAILING_DRAFT: &str = formatcp!("'{}'", MailingState::Draft.as_str());
pub(crate) const MAILING_PLANNED: &str = formatcp!("'{}'", MailingState::Planned.as_str());
pub(crate) const MAILING_SENDING: &str = formatcp!("'{}'", MailingState::Sending.as_str());
pub(crate) const MAILING_SENT: &str = formatcp!("'{}'", MailingState::Sent.as_str());
pub(crate) const MAILING_SERIES: &str = formatcp!("'{}'", MailingState::Series.as_str());

pub(crate) const TRIAL_PLANNED: &str = formatcp!("'{}'", TrialState::Planned.as_str());
pub(crate) const TRIAL_COLLECTING: &str = formatcp!("'{}'", TrialState::Collecting.as_str());
pub(crate) const TRIAL_READ: &str = formatcp!("'{}'", TrialState::Read.as_str());
pub(crate) const TRIAL_ROLLING: &str = formatcp!("'{}'", TrialState::Rolling.as_str());
pub(crate) const TRIAL_ENDED: &str = formatcp!("'{}'", TrialState::Ended.as_str());

pub(crate) const SERIES_RUNNING: &str = formatcp!("'{}'", SeriesState::Running.as_str());
pub(crate) const SERIES_ENDED: &str = formatcp!("'{}'", SeriesState::Ended.as_str());

pub(crate) const FILE_STAGED: &str = formatcp!("'{}'", FileState::Staged.as_str());
pub(crate) const FILE_CHECKED: &str = formatcp!("'{}'", FileState::Checked.as_str());
pub(crate) const FILE_APPLYING: &str = formatcp!("'{}'", FileState::Applying.as_str());
pub(crate) const FILE_APPLIED: &str = formatcp!("'{}'", FileState::Applied.as_str());
pub(crate) const FILE_CANCELLED: &str = formatcp!("'{}'", FileState::Cancelled.as_str());
pub(crate) const FILE_UNDOING: &str = formatcp!("'{}'", FileState::Undoing.as_str());
pub(crate) const FILE_UNDONE: &str = formatcp!("'{}'", FileState::Undone.as_str());

/// Those whose columns can still be told otherwise.
pub(crate) const FILE_CHANGEABLE: &str = formatcp!("{FILE_STAGED}, {FILE_CHECKED}");
/// Those of which more is to come by itself.
pub(crate) const FILE_AT_WORK: &str = formatcp!("{FILE_APPLYING}, {FILE_UNDOING}");

pub(crate) const CHANGE_UNDOING: &str = formatcp!("'{}'", ChangeState::Undoing.as_str());
pub(crate) const CHANGE_UNDONE: &str = formatcp!("'{}'", ChangeState::Undone.as_str());

pub(crate) const RUN_PROPOSING: &str = formatcp!("'{}'", RunState::Proposing.as_str());
pub(crate) const RUN_PROPOSED: &str = formatcp!("'{}'", RunState::Proposed.as_str());
pub(crate) const RUN_APPLYING: &str = formatcp!("'{}'", RunState::Applying.as_str());
pub(crate) const RUN_UNDOING: &str = formatcp!("'{}'", RunState::Undoing.as_str());
pub(crate) const RUN_DROPPED: &str = formatcp!("'{}'", RunState::Dropped.as_str());

pub(crate) const ACTIVE: &str = formatcp!("{}", MailStatus::Active as i64);
pub(crate) const RESTING: &str = formatcp!("{}", MailStatus::Resting as i64);
pub(crate) const OBSERVED: &str = formatcp!("{}", MailStatus::Observed as i64);
pub(crate) const RETIRED: &str = formatcp!("{}", MailStatus::Retired as i64);

pub(crate) const NONE: &str = formatcp!("{}", Consent::None as i64);
pub(crate) const CONSENTED: &str = formatcp!("{}", Consent::Consented as i64);
pub(crate) const CONFIRMED: &str = formatcp!("{}", Consent::Confirmed as i64);
pub(crate) const PAUSED: &str = formatcp!("{}", Consent::Paused as i64);
pub(crate) const WITHDRAWN: &str = formatcp!("{}", Consent::Withdrawn as i64);
pub(crate) const COMPLAINED: &str = formatcp!("{}", Consent::Complained as i64);

pub(crate) const MEMBER_PROPOSED: &str = formatcp!("{}", MemberState::Proposed as i64);
pub(crate) const MEMBER_TAKEN_OUT: &str = formatcp!("{}", MemberState::TakenOut as i64);
pub(crate) const MEMBER_APPLIED: &str = formatcp!("{}", MemberState::Applied as i64);
pub(crate) const MEMBER_PUT_BACK: &str = formatcp!("{}", MemberState::PutBack as i64);
pub(crate) const MEMBER_NOT_PUT_BACK: &str = formatcp!("{}", MemberState::NotPutBack as i64);
pub(crate) const MEMBER_STAYED: &str = formatcp!("{}", MemberState::Stayed as i64);
pub(crate) const MEMBER_CHANGED: &str = formatcp!("{}", MemberState::Changed as i64);
pub(crate) const MEMBER_UNDOING: &str = formatcp!("{}", MemberState::Undoing as i64);

pub(crate) const BECOMES_RESTING: &str = formatcp!("{}", Becomes::Resting as i64);
pub(crate) const BECOMES_RETIRED: &str = formatcp!("{}", Becomes::Retired as i64);
pub(crate) const BECOMES_SUNSET: &str = formatcp!("{}", Becomes::Sunset as i64);
pub(crate) const BECOMES_KEPT_BACK: &str = formatcp!("{}", Becomes::KeptBack as i64);
pub(crate) const BECOMES_DELETED: &str = formatcp!("{}", Becomes::Deleted as i64);

pub(crate) const SIGN_UP_NONE: &str = formatcp!("{}", SignUp::None as i64);
/// The words of the index `sign_up_due`.
pub(crate) const SIGN_UP_WAITING: &str = formatcp!("{}", SignUp::Waiting as i64);
pub(crate) const SIGN_UP_HANDING_OVER: &str = formatcp!("{}", SignUp::HandingOver as i64);
pub(crate) const SIGN_UP_INVITED: &str = formatcp!("{}", SignUp::Invited as i64);
pub(crate) const SIGN_UP_ENDED: &str = formatcp!("{}", SignUp::Ended as i64);

pub(crate) const TOLD_WAITING: &str = formatcp!("{}", Told::Waiting as i64);
pub(crate) const TOLD_DELIVERED: &str = formatcp!("{}", Told::Delivered as i64);
pub(crate) const TOLD_GIVEN_UP: &str = formatcp!("{}", Told::GivenUp as i64);

#[cfg(test)]
mod tests {
    use super::*;
    use rinse_core::code::Word;
    use rinse_core::standing::FileEvent;

    /// The sets are those in which something happens.
    #[test]
    fn sets_of_files_follow_from_the_events() {
        let those = |is: &dyn Fn(FileState) -> bool| {
            FileState::all().iter().filter(|s| is(**s)).map(|s| format!("'{}'", s.word())).collect::<Vec<_>>().join(", ")
        };
        let can = |s: FileState, e| s.next(e).is_some();
        assert_eq!(FILE_CHANGEABLE, those(&FileState::can_be_changed));
        // What is applied can be taken back, but nothing takes it back by itself.
        let goes_on = |s| can(s, FileEvent::Finished) || (can(s, FileEvent::TakenBack) && !can(s, FileEvent::TakingBack));
        assert_eq!(FILE_AT_WORK, those(&goes_on));
    }
}
