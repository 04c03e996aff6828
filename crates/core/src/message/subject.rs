//! Subjects of answers: how a reply is known by its subject when nothing else in it tells.

/// What mail programs put before the subject of an answer, in the languages they are used in.
const ANSWERS: [&str; 9] = ["re", "aw", "sv", "vs", "antw", "odp", "rif", "res", "ynt"];

/// A subject without the marks of an answer, blanks as one, in small letters (after the base subject of RFC 5256
/// section 2.1; marks of passing on stay, since what was passed on is no answer).
#[must_use]
pub fn stem(subject: &str) -> String {
    let folded = subject.split_whitespace().collect::<Vec<_>>().join(" ").to_lowercase();
    let mut rest = folded.as_str();
    while let Some(after) = unmarked(rest) {
        rest = after;
    }
    rest.to_owned()
}

/// What follows one mark of an answer: `re:`, `re[2]:`, `aw :`.
fn unmarked(subject: &str) -> Option<&str> {
    let (mark, after) = subject.split_once([':', '：'])?;
    let mark = mark.trim_end().trim_end_matches(|c: char| c.is_ascii_digit() || "[]()^".contains(c));
    ANSWERS.contains(&mark.trim()).then(|| after.trim_start())
}

/// Does a message with this subject answer one with ours?
#[must_use]
pub fn answers(theirs: &str, ours: &str) -> bool {
    let ours = stem(ours);
    !ours.is_empty() && stem(theirs) == ours
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("Re: Boats at low tide", "Boats at low tide", true)]
    #[case("AW: RE[2]:  boats  at low tide", "Boats at low tide", true)]
    #[case("Boats at low tide", "Boats at low tide", true)]
    #[case("Sv : Re: Boats", "Re: Boats", true)]
    #[case("Fwd: Boats", "Boats", false)]
    #[case("Automatic reply: Boats", "Boats", false)]
    #[case("Re: Boat", "Boats", false)]
    #[case("Re:", "", false)]
    fn answers_are_known(#[case] theirs: &str, #[case] ours: &str, #[case] want: bool) {
        assert_eq!(answers(theirs, ours), want);
    }

    proptest! {
        /// Whatever a mail program puts before it, however often, the rest is the same; what is left has no mark any more.
        #[test]
        fn marks_change_nothing(subject in "\\PC{0,40}", marks in prop::collection::vec(prop::sample::select(vec!["Re: ", "AW: ", "re[3]: ", "Antw:", "SV : "]), 0..4)) {
            let marked = format!("{}{subject}", marks.concat());
            prop_assert_eq!(stem(&marked), stem(&subject));
            prop_assert_eq!(stem(&stem(&subject)), stem(&subject));
        }
    }
}
