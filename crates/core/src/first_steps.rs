//! What a new installation needs before it sends: each with how it stands and one thing to do. They go once all that is needed is there, or a mailing
//! has gone.

use serde::Serialize;
use utoipa::ToSchema;

/// What is there.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Facts {
    pub people: u64,
    /// The letterhead that new mailings begin under, with its sending domain.
    pub letterhead: Option<String>,
    /// It has the postal address that commercial mail must show.
    pub postal_address: bool,
    /// SPF or DKIM was found right for it; none: DNS wasn't looked at.
    pub proved: Option<bool>,
    /// Somebody may be asked of DNS.
    pub dns: bool,
    pub caps_in_force: usize,
    /// What the host replied to the last test message.
    pub test: Option<String>,
    pub test_accepted: bool,
    pub goals: usize,
    /// Mailings that another system sent.
    pub past: u64,
    /// A mailing has gone.
    pub sent: bool,
}

/// A step.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
#[schema(as = FirstStep)]
pub struct Step {
    pub title: &'static str,
    pub done: bool,
    /// It can be left out.
    pub optional: bool,
    /// How it stands, in a sentence.
    pub words: String,
    /// Where it is done.
    pub link: &'static str,
    pub action: &'static str,
}

/// The steps; none once nothing is needed any more.
#[must_use]
pub fn first_steps(f: &Facts) -> Vec<Step> {
    let step = |title, done, words: String, link, action| Step { title, done, optional: false, words, link, action };
    let people = step(
        "People in the base",
        f.people > 0,
        match f.people {
            0 => "Nobody is in the base yet. A CSV from any system will do.".into(),
            n => format!("{} in the base.", crate::words::people(n)),
        },
        "/contacts/import",
        "Import a file",
    );
    let past = Step {
        optional: true,
        ..step(
            "What was sent before",
            f.past > 0,
            match f.past {
                0 => "Bring the log of the system that sent until now: findings, caps and bounces don’t begin at nothing then.".into(),
                1 => "1 mailing of another system is known.".into(),
                n => format!("{} mailings of another system are known.", crate::words::thousands(n)),
            },
            "/mailings/elsewhere",
            "Bring a log",
        )
    };
    let letterhead = step(
        "A letterhead with your postal address",
        f.letterhead.is_some() && f.postal_address,
        match (&f.letterhead, f.postal_address) {
            (None, _) => {
                "Mailings are written under a letterhead: who they come from, and the address that commercial mail must show.".into()
            }
            (Some(_), false) => "The letterhead has no postal address yet.".into(),
            (Some(domain), true) => format!("Mail goes out from {domain}."),
        },
        "/setup/letterheads/0",
        "Make a letterhead",
    );
    let proved = step(
        "A sender that hosts believe",
        f.proved == Some(true),
        match (f.proved, f.dns) {
            (Some(true), _) => "SPF or DKIM is right in DNS.".into(),
            (Some(false), _) => "DNS has no SPF or DKIM record that fits: the records to publish stand there.".into(),
            (None, true) => "DNS wasn't looked at yet.".into(),
            (None, false) => "Nobody may be asked of DNS: start Rinse with --dns system, or --dns and a name server's address.".into(),
        },
        "/delivery/authentication",
        "Look at the records",
    );
    let caps = step(
        "A cap in force",
        f.caps_in_force > 0,
        match f.caps_in_force {
            0 => "Nothing bounds how often somebody is written to.".into(),
            1 => "1 cap bounds how often somebody is written to.".into(),
            n => format!("{n} caps bound how often somebody is written to."),
        },
        "/clearance/rules",
        "Set a cap",
    );
    let test = step(
        "A test message received",
        f.test_accepted,
        match (&f.test, f.test_accepted) {
            (None, _) => "Send one to yourself from a draft: does it come, and does it look right?".into(),
            (Some(_), true) => "The last test message was taken by its host.".into(),
            (Some(reply), false) => format!("The last test message wasn't taken: {reply}"),
        },
        "/mailings/new",
        "Write a draft",
    );
    let goals = Step {
        optional: true,
        ..step(
            "What mail is for",
            f.goals > 0,
            match f.goals {
                0 => "Without a goal, revenue and conversions can't be told.".into(),
                1 => "1 goal is set.".into(),
                n => format!("{n} goals are set."),
            },
            "/setup/goals",
            "Set a goal",
        )
    };
    let all = vec![people, letterhead, past, proved, caps, test, goals];
    if f.sent || all.iter().all(|s| s.done || s.optional) { Vec::new() } else { all }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn they_go_once_all_is_there() {
        let done = Facts {
            people: 3,
            letterhead: Some("skerry-light.example".into()),
            postal_address: true,
            proved: Some(true),
            dns: true,
            caps_in_force: 1,
            test: Some("250 ok".into()),
            test_accepted: true,
            ..Facts::default()
        };
        assert!(first_steps(&done).is_empty(), "goals can wait");
        let lacking: [fn(&mut Facts); 5] =
            [|f| f.people = 0, |f| f.postal_address = false, |f| f.proved = None, |f| f.caps_in_force = 0, |f| f.test_accepted = false];
        for (i, lack) in lacking.into_iter().enumerate() {
            let mut f = done.clone();
            lack(&mut f);
            let steps = first_steps(&f);
            assert_eq!(
                steps.iter().map(|s| s.done).collect::<Vec<_>>(),
                (0..7).map(|n| n != [0, 1, 3, 4, 5][i] && n != 2 && n != 6).collect::<Vec<_>>()
            );
            assert!(steps.iter().all(|s| s.words.ends_with('.') || s.words.ends_with('?') || s.words.contains(": ")));
            f.sent = true;
            assert!(first_steps(&f).is_empty());
        }
        assert!(first_steps(&Facts { proved: None, dns: false, ..done })[3].words.contains("--dns"));
    }
}
