//! Does a host that gets our mail find in DNS that it is ours? SPF (RFC 7208), DKIM (RFC 6376), DMARC (RFC 7489) and their alignment, the name of
//! the address that mail goes out from (RFC 1912, section 2.1), and what one-click leaving needs (RFC 8058).
//!
//! What DNS says is gathered outside; here it is judged, with the record to publish where one is missing or says something else.

use super::operator::registered;
use serde::{Deserialize, Serialize};
use std::net::IpAddr;
use utoipa::ToSchema;

/// What is looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[schema(as = AuthenticationCheck)]
pub enum Check {
    Spf,
    Dkim,
    Dmarc,
    ReverseName,
    OneClick,
    Replies,
}

impl Check {
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Spf => "SPF",
            Self::Dkim => "DKIM",
            Self::Dmarc => "DMARC",
            Self::ReverseName => "Name of the sending address",
            Self::OneClick => "One-click leaving",
            Self::Replies => "Mail to the sender",
        }
    }
}

/// How it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[schema(as = AuthenticationState)]
pub enum State {
    Right,
    Wrong,
    CantTell,
}

/// A record of DNS.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[schema(as = DnsRecord)]
pub struct Record {
    pub name: String,
    pub kind: String,
    pub value: String,
}

/// What was found of one thing, and what to do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[schema(as = AuthenticationLine)]
pub struct Line {
    pub check: Check,
    pub state: State,
    pub words: String,
    /// What stands in DNS.
    pub found: Vec<String>,
    /// What should.
    pub publish: Option<Record>,
}

/// What an evaluation of SPF said of an address (RFC 7208, section 2.6).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Spf {
    Pass,
    Fail,
    SoftFail,
    Neutral,
    None,
    PermError,
    TempError,
}

/// A signing key with its record.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeyFacts {
    pub selector: String,
    /// The domain that it signs for.
    pub domain: String,
    pub publish: Record,
    /// What stands there; none: nobody said anything.
    pub found: Option<Vec<String>>,
    /// One of the records found is the key's.
    pub fits: bool,
}

/// An address that mail goes out from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AddressFacts {
    pub ip: IpAddr,
    pub spf: Spf,
    /// Its names; none: nobody said anything.
    pub names: Option<Vec<String>>,
    /// One of the names leads back to it.
    pub leads_back: bool,
}

/// What was found of a sender. `None` where nobody said anything.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Facts {
    /// The domain of the from address, which is that of the return path, too.
    pub domain: String,
    pub texts: Option<Vec<String>>,
    pub keys: Vec<KeyFacts>,
    /// TXT records of `_dmarc` at the domain, and at its registered domain.
    pub dmarc: Option<Vec<String>>,
    pub dmarc_above: Option<Vec<String>>,
    pub addresses: Vec<AddressFacts>,
    pub takes_mail: Option<bool>,
    /// Where our own links lead.
    pub base_url: String,
}

fn line(check: Check, state: State, words: impl Into<String>) -> Line {
    Line { check, state, words: words.into(), found: Vec::new(), publish: None }
}

/// What each check says of a sender.
#[must_use]
pub fn judge(f: &Facts) -> Vec<Line> {
    let mut lines = vec![spf(f)];
    lines.extend(dkim(f));
    lines.push(dmarc(f));
    lines.extend(f.addresses.iter().map(reverse));
    lines.push(one_click(f));
    lines.push(replies(f));
    lines
}

fn is_spf(text: &str) -> bool {
    let t = text.trim().to_ascii_lowercase();
    t == "v=spf1" || t.starts_with("v=spf1 ")
}

/// A record that lets the addresses send, as short as can be.
fn spf_record(f: &Facts) -> Record {
    let each = f.addresses.iter().map(|a| match a.ip {
        IpAddr::V4(ip) => format!(" ip4:{ip}"),
        IpAddr::V6(ip) => format!(" ip6:{ip}"),
    });
    Record { name: f.domain.clone(), kind: "TXT".into(), value: format!("v=spf1{} -all", each.collect::<String>()) }
}

fn spf(f: &Facts) -> Line {
    let Some(texts) = &f.texts else { return line(Check::Spf, State::CantTell, "DNS gave no answer.") };
    let found: Vec<String> = texts.iter().filter(|t| is_spf(t)).cloned().collect();
    let said = match (found.len(), &f.addresses[..]) {
        (0, addresses) => {
            let publish = (!addresses.is_empty()).then(|| spf_record(f));
            Line { publish, ..line(Check::Spf, State::Wrong, format!("{} has no SPF record: nothing says who may send for it.", f.domain)) }
        }
        (1, []) => {
            line(Check::Spf, State::CantTell, "Say which addresses your mail goes out from: then the record can be held against them.")
        }
        (1, addresses) => {
            let refused: Vec<&AddressFacts> = addresses.iter().filter(|a| a.spf != Spf::Pass).collect();
            match refused.first() {
                None => line(Check::Spf, State::Right, "The record lets all addresses send that your mail goes out from."),
                Some(a) if a.spf == Spf::TempError => line(Check::Spf, State::CantTell, "DNS gave no answer to what the record refers to."),
                Some(a) if a.spf == Spf::PermError => Line {
                    publish: Some(spf_record(f)),
                    ..line(
                        Check::Spf,
                        State::Wrong,
                        "The record can’t be evaluated: it has a mistake, or needs more than ten further questions. Hosts treat it as none.",
                    )
                },
                Some(a) => Line {
                    publish: Some(spf_record(f)),
                    ..line(
                        Check::Spf,
                        State::Wrong,
                        format!("The record doesn’t let {} send. Add it to the record, or publish this one.", a.ip),
                    )
                },
            }
        }
        (n, _) => line(Check::Spf, State::Wrong, format!("{n} SPF records: hosts take more than one for a mistake. Leave one.")),
    };
    Line { found, ..said }
}

fn dkim(f: &Facts) -> Vec<Line> {
    if f.keys.is_empty() {
        return vec![line(Check::Dkim, State::Wrong, "The letterhead has no signing key: make one, and publish its record.")];
    }
    let of = |k: &KeyFacts| {
        let Some(found) = &k.found else {
            return line(Check::Dkim, State::CantTell, format!("DNS gave no answer about {}.", k.publish.name));
        };
        let aligned = registered(&k.domain).is_some() && registered(&k.domain) == registered(&f.domain);
        let said = match (k.fits, found.is_empty()) {
            (true, _) if aligned => {
                line(Check::Dkim, State::Right, format!("The key {} is published, and signs for the domain that people see.", k.selector))
            }
            (true, _) => line(
                Check::Dkim,
                State::Wrong,
                format!("The key {} signs for {}, and people see {}: DMARC takes it for somebody else’s.", k.selector, k.domain, f.domain),
            ),
            (false, true) => line(
                Check::Dkim,
                State::Wrong,
                format!("The record of the key {} isn’t there: hosts take its signature for a forged one.", k.selector),
            ),
            (false, false) => line(
                Check::Dkim,
                State::Wrong,
                format!("Another record stands where that of the key {} should: hosts take its signature for a forged one.", k.selector),
            ),
        };
        Line { found: found.clone(), publish: (!k.fits).then(|| k.publish.clone()), ..said }
    };
    f.keys.iter().map(of).collect()
}

/// A tag of a DMARC record (RFC 7489, section 6.4).
fn tag<'a>(record: &'a str, name: &str) -> Option<&'a str> {
    record.split(';').filter_map(|t| t.split_once('=')).find(|(k, _)| k.trim().eq_ignore_ascii_case(name)).map(|(_, v)| v.trim())
}

fn is_dmarc(text: &str) -> bool {
    text.split(';').next().is_some_and(|first| first.split_once('=').is_some_and(|(k, v)| k.trim() == "v" && v.trim() == "DMARC1"))
}

fn dmarc(f: &Facts) -> Line {
    let (Some(own), Some(above)) = (&f.dmarc, &f.dmarc_above) else { return line(Check::Dmarc, State::CantTell, "DNS gave no answer.") };
    let mut found: Vec<String> = own.iter().filter(|t| is_dmarc(t)).cloned().collect();
    let inherited = found.is_empty();
    if inherited {
        found = above.iter().filter(|t| is_dmarc(t)).cloned().collect();
    }
    let publish = Record {
        name: format!("_dmarc.{}", f.domain),
        kind: "TXT".into(),
        value: format!("v=DMARC1; p=none; rua=mailto:reports@{}", f.domain),
    };
    let said = match &found[..] {
        [] => Line {
            publish: Some(publish),
            ..line(
                Check::Dmarc,
                State::Wrong,
                format!("{} has no DMARC record: anybody may send in its name, and nobody reports it.", f.domain),
            )
        },
        [record] => {
            let policy = tag(record, if inherited { "sp" } else { "p" }).or_else(|| tag(record, "p")).map(str::to_ascii_lowercase);
            match policy.as_deref() {
                Some(p @ ("none" | "quarantine" | "reject")) => {
                    let asks = match p {
                        "none" => "asks for nothing but reports",
                        "quarantine" => "asks to put what isn’t ours aside",
                        _ => "asks to refuse what isn’t ours",
                    };
                    if tag(record, "rua").is_some_and(|r| !r.is_empty()) {
                        line(Check::Dmarc, State::Right, format!("The record {asks}, and says where reports go."))
                    } else {
                        line(
                            Check::Dmarc,
                            State::Wrong,
                            format!("The record {asks}, and doesn’t say where reports go (rua): you won’t learn who sends in your name."),
                        )
                    }
                }
                _ => Line {
                    publish: Some(publish),
                    ..line(Check::Dmarc, State::Wrong, "The record has no policy (p): hosts leave it aside.")
                },
            }
        }
        more => line(Check::Dmarc, State::Wrong, format!("{} DMARC records: hosts leave all of them aside. Leave one.", more.len())),
    };
    // One key that is found under a domain that isn't aligned is told by itself; a strict record asks for the very domain.
    let strict = found.first().and_then(|r| tag(r, "adkim")).is_some_and(|v| v.eq_ignore_ascii_case("s"));
    let very = f.keys.iter().any(|k| k.fits && k.domain.eq_ignore_ascii_case(&f.domain));
    if said.state == State::Right && strict && !f.keys.is_empty() && !very {
        return Line {
            found,
            ..line(
                Check::Dmarc,
                State::Wrong,
                format!("The record asks that signatures are of {} itself (adkim=s), and none is.", f.domain),
            )
        };
    }
    Line { found, ..said }
}

fn reverse(a: &AddressFacts) -> Line {
    let Some(names) = &a.names else { return line(Check::ReverseName, State::CantTell, format!("DNS gave no answer about {}.", a.ip)) };
    let said = match (names.is_empty(), a.leads_back) {
        (true, _) => line(
            Check::ReverseName,
            State::Wrong,
            format!("{} has no name: many hosts refuse mail from such addresses. Its owner can give it one (PTR).", a.ip),
        ),
        (false, false) => line(
            Check::ReverseName,
            State::Wrong,
            format!("The name of {} doesn’t lead back to it: publish an address record of the name.", a.ip),
        ),
        (false, true) => line(Check::ReverseName, State::Right, format!("{} has a name that leads back to it.", a.ip)),
    };
    Line { found: names.clone(), ..said }
}

fn one_click(f: &Facts) -> Line {
    if f.base_url.starts_with("https://") {
        line(Check::OneClick, State::Right, "The links for leaving are signed by the message, and lead to https.")
    } else {
        line(
            Check::OneClick,
            State::Wrong,
            format!(
                "Links for leaving lead to {}: mail programs show their button only where they lead to https. Put Rinse behind a proxy that has a certificate.",
                f.base_url
            ),
        )
    }
}

fn replies(f: &Facts) -> Line {
    match f.takes_mail {
        None => line(Check::Replies, State::CantTell, "DNS gave no answer."),
        Some(true) => line(Check::Replies, State::Right, format!("{} takes mail: replies and reports arrive.", f.domain)),
        Some(false) => line(
            Check::Replies,
            State::Wrong,
            format!(
                "{} has no mail host (MX): replies and reports of failures get lost, and hosts distrust a sender that takes no mail.",
                f.domain
            ),
        ),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn facts() -> Facts {
        let publish = Record { name: "day1._domainkey.skerry-light.example".into(), kind: "TXT".into(), value: "v=DKIM1; p=AB".into() };
        Facts {
            domain: "skerry-light.example".into(),
            texts: Some(vec!["another text".into(), "v=spf1 ip4:192.0.2.25 -all".into()]),
            keys: vec![KeyFacts {
                selector: "day1".into(),
                domain: "skerry-light.example".into(),
                found: Some(vec![publish.value.clone()]),
                publish,
                fits: true,
            }],
            dmarc: Some(vec!["v=DMARC1; p=quarantine; rua=mailto:reports@skerry-light.example".into()]),
            dmarc_above: Some(vec![]),
            addresses: vec![AddressFacts {
                ip: "192.0.2.25".parse().unwrap(),
                spf: Spf::Pass,
                names: Some(vec!["out1.skerry-light.example.".into()]),
                leads_back: true,
            }],
            takes_mail: Some(true),
            base_url: "https://skerry-light.example".into(),
        }
    }

    #[test]
    fn what_is_right_is_said_to_be() {
        let lines = judge(&facts());
        assert!(lines.iter().all(|l| l.state == State::Right && l.publish.is_none()), "{lines:#?}");
        assert_eq!(lines.len(), 6);
    }

    /// Each fault is found in its own line, and only there.
    #[rstest]
    #[case(Check::Spf, |f: &mut Facts| f.texts = Some(vec![]), "no SPF record", Some("v=spf1 ip4:192.0.2.25 -all"))]
    #[case(Check::Spf, |f: &mut Facts| f.texts.as_mut().unwrap().push("V=SPF1 -all".into()), "2 SPF records", None)]
    #[case(Check::Spf, |f: &mut Facts| f.addresses[0].spf = Spf::Fail, "doesn’t let 192.0.2.25 send", Some("v=spf1 ip4:192.0.2.25 -all"))]
    #[case(Check::Spf, |f: &mut Facts| f.addresses[0].spf = Spf::PermError, "can’t be evaluated", Some("v=spf1 ip4:192.0.2.25 -all"))]
    #[case(Check::Dkim, |f: &mut Facts| f.keys.clear(), "no signing key", None)]
    #[case(Check::Dkim, |f: &mut Facts| { f.keys[0].fits = false; f.keys[0].found = Some(vec![]) }, "isn’t there", Some("v=DKIM1; p=AB"))]
    #[case(Check::Dkim, |f: &mut Facts| f.keys[0].fits = false, "Another record", Some("v=DKIM1; p=AB"))]
    #[case(Check::Dkim, |f: &mut Facts| f.keys[0].domain = "elsewhere.example".into(), "somebody else’s", None)]
    #[case(Check::Dmarc, |f: &mut Facts| f.dmarc = Some(vec!["v=spf1".into()]), "no DMARC record", Some("v=DMARC1; p=none; rua=mailto:reports@skerry-light.example"))]
    #[case(Check::Dmarc, |f: &mut Facts| f.dmarc = Some(vec!["v=DMARC1; p=none".into()]), "where reports go (rua)", None)]
    #[case(Check::Dmarc, |f: &mut Facts| f.dmarc = Some(vec!["v=DMARC1; rua=mailto:a@b.example".into()]), "no policy", Some("v=DMARC1; p=none; rua=mailto:reports@skerry-light.example"))]
    #[case(Check::Dmarc, |f: &mut Facts| { let r = f.dmarc.clone().unwrap(); f.dmarc.as_mut().unwrap().extend(r) }, "2 DMARC records", None)]
    #[case(Check::ReverseName, |f: &mut Facts| f.addresses[0].names = Some(vec![]), "has no name", None)]
    #[case(Check::ReverseName, |f: &mut Facts| f.addresses[0].leads_back = false, "doesn’t lead back", None)]
    #[case(Check::OneClick, |f: &mut Facts| f.base_url = "http://127.0.0.1:7411".into(), "https", None)]
    #[case(Check::Replies, |f: &mut Facts| f.takes_mail = Some(false), "no mail host", None)]
    fn a_fault_is_found_where_it_is(
        #[case] check: Check,
        #[case] break_it: fn(&mut Facts),
        #[case] says: &str,
        #[case] publish: Option<&str>,
    ) {
        let mut f = facts();
        break_it(&mut f);
        let lines = judge(&f);
        let wrong: Vec<&Line> = lines.iter().filter(|l| l.state != State::Right).collect();
        assert_eq!(wrong.len(), 1, "{wrong:#?}");
        assert_eq!((wrong[0].check, wrong[0].state), (check, State::Wrong));
        assert!(wrong[0].words.contains(says), "{}", wrong[0].words);
        assert_eq!(wrong[0].publish.as_ref().map(|r| r.value.as_str()), publish);
    }

    #[test]
    fn silence_is_no_fault() {
        let mut f = facts();
        (f.texts, f.dmarc, f.takes_mail, f.keys[0].found, f.addresses[0].names) = (None, None, None, None, None);
        f.keys[0].fits = false;
        let told: Vec<State> = judge(&f).iter().filter(|l| l.check != Check::OneClick).map(|l| l.state).collect();
        assert!(told.iter().all(|s| *s == State::CantTell), "{told:?}");
        // Without addresses the record is there, and can't be held against anything.
        let f = Facts { addresses: vec![], ..facts() };
        assert_eq!(judge(&f)[0].state, State::CantTell);
    }

    #[test]
    fn a_domain_below_takes_the_policy_from_above() {
        let mut f = facts();
        f.domain = "news.skerry-light.example".into();
        (f.dmarc, f.dmarc_above) = (Some(vec![]), f.dmarc);
        let of = |f: &Facts| judge(f).into_iter().find(|l| l.check == Check::Dmarc).unwrap();
        assert_eq!(of(&f).state, State::Right);
        // A strict record asks for the very domain.
        f.dmarc_above = Some(vec!["v=DMARC1; p=reject; adkim=s; rua=mailto:a@b.example".into()]);
        assert!(of(&f).words.contains("adkim=s"));
    }
}
