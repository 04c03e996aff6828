//! Asks DNS what the records of our senders are, and blocklists whether they have anything of ours; see `rinse_core::delivery` for what it says.

use crate::dns::Dns;
use rinse_core::delivery::authentication::{AddressFacts, Facts, KeyFacts, Line, Record, judge};
use rinse_core::delivery::blocklist::{self, Of};
use rinse_core::delivery::operator::registered;
use rinse_core::id::LetterheadId;
use rinse_post::dkim::{self, Algorithm};
use rinse_store::blocklists::{self, List, Said};
use rinse_store::delivery::names;
use rinse_store::letterheads::{self, SigningKey};
use rinse_store::{Connection, Result};
use std::net::IpAddr;

/// A sender that is looked at.
#[derive(Debug, Clone)]
pub(crate) struct Sender {
    letterhead: LetterheadId,
    domain: String,
    keys: Vec<SigningKey>,
}

/// What is looked at.
#[derive(Debug, Clone)]
pub(crate) struct Asked {
    senders: Vec<Sender>,
    addresses: Vec<IpAddr>,
    lists: Vec<List>,
}

/// # Errors
/// When the database fails.
pub(crate) fn to_ask(c: &Connection) -> Result<Asked> {
    let sender = |l: letterheads::Letterhead| {
        let domain = l.from_address.rsplit_once('@').map_or("", |(_, d)| d).to_ascii_lowercase();
        let keys = letterheads::keys(c, l.id)?.into_iter().filter(|k| k.ended_at.is_none()).collect();
        Ok(Sender { letterhead: l.id, domain, keys })
    };
    Ok(Asked {
        senders: letterheads::all(c)?.into_iter().map(sender).collect::<Result<_>>()?,
        addresses: names::own_addresses(c)?,
        lists: blocklists::all(c)?.into_iter().map(|b| b.list).collect(),
    })
}

/// What DNS said.
pub(crate) struct Told {
    senders: Vec<(LetterheadId, Vec<Line>)>,
    lists: Vec<Said>,
}

impl Told {
    /// # Errors
    /// When the database fails.
    pub(crate) fn keep(&self, c: &Connection, now: rinse_core::Instant) -> Result<()> {
        self.senders.iter().try_for_each(|(letterhead, lines)| names::keep(c, *letterhead, lines, now))?;
        self.lists.iter().try_for_each(|said| blocklists::keep(c, said, now))
    }

    /// By letterhead.
    pub(crate) fn senders(&self) -> &[(LetterheadId, Vec<Line>)] {
        &self.senders
    }

    pub(crate) fn lists(&self) -> &[Said] {
        &self.lists
    }
}

/// Asks all of it.
pub(crate) async fn look(dns: &Dns, asked: &Asked, base_url: &str) -> Told {
    let dns = &dns.once_more();
    let mut senders = Vec::new();
    for s in &asked.senders {
        senders.push((s.letterhead, judge(&facts(dns, s, &asked.addresses, base_url).await)));
    }
    let mut domains: Vec<&str> = asked.senders.iter().map(|s| s.domain.as_str()).filter(|d| !d.is_empty()).collect();
    domains.sort_unstable();
    domains.dedup();
    let mut lists = Vec::new();
    for list in &asked.lists {
        lists.push(ask_list(dns, list, &asked.addresses, &domains).await);
    }
    Told { senders, lists }
}

async fn key(dns: &Dns, k: &SigningKey) -> KeyFacts {
    let algorithm = Algorithm::from_code(&k.algorithm);
    let name = dkim::record_name(&k.selector, &k.domain);
    let found = dns.texts(&name).await;
    let fits = algorithm.is_some_and(|a| found.iter().flatten().any(|r| dkim::record_fits(r, a, &k.public)));
    let value = algorithm.map(|a| dkim::record(a, &k.public)).unwrap_or_default();
    KeyFacts { selector: k.selector.clone(), domain: k.domain.clone(), publish: Record { name, kind: "TXT".into(), value }, found, fits }
}

async fn address(dns: &Dns, ip: IpAddr, domain: &str) -> AddressFacts {
    let names = dns.names_of(ip).await;
    let mut leads_back = false;
    for name in names.iter().flatten() {
        leads_back |= dns.addresses_of(name).await.is_some_and(|all| all.contains(&ip));
    }
    let hello = names.as_ref().and_then(|n| n.first()).map_or(domain, |n| n.trim_end_matches('.'));
    AddressFacts { ip, spf: dns.spf(ip, hello, domain).await, names, leads_back }
}

async fn facts(dns: &Dns, s: &Sender, addresses: &[IpAddr], base_url: &str) -> Facts {
    let above = registered(&s.domain).unwrap_or_else(|| s.domain.clone());
    let (dmarc, dmarc_above) = (format!("_dmarc.{}", s.domain), format!("_dmarc.{above}"));
    let (texts, dmarc, dmarc_above, mx) =
        futures::join!(dns.texts(&s.domain), dns.texts(&dmarc), dns.texts(&dmarc_above), dns.mx(&s.domain));
    let (mut keys, mut of_addresses) = (Vec::new(), Vec::new());
    for k in &s.keys {
        keys.push(key(dns, k).await);
    }
    for ip in addresses {
        of_addresses.push(address(dns, *ip, &s.domain).await);
    }
    Facts {
        texts,
        keys,
        dmarc,
        dmarc_above,
        addresses: of_addresses,
        takes_mail: mx.map(|mx| mx.iter().any(|m| !m.host.trim_end_matches('.').is_empty())),
        base_url: base_url.to_owned(),
        domain: s.domain.clone(),
    }
}

/// Asks a list about all that is ours and that it may have, after it has shown that it is one.
async fn ask_list(dns: &Dns, list: &List, addresses: &[IpAddr], domains: &[&str]) -> Said {
    let (has, hasnt) = blocklist::tests(list.of, &list.zone);
    let (has, hasnt) = futures::join!(dns.v4(&has), dns.v4(&hasnt));
    let works = has.zip(hasnt).map(|(has, hasnt)| blocklist::is_listed(&has) && hasnt.is_empty());
    let subjects: Vec<(String, String)> = match list.of {
        Of::Addresses => addresses.iter().map(|ip| (ip.to_string(), blocklist::of_address(*ip, &list.zone))).collect(),
        Of::Domains => domains.iter().map(|d| ((*d).to_owned(), blocklist::of_domain(d, &list.zone))).collect(),
    };
    let mut of = Vec::new();
    for (subject, name) in subjects {
        let answer = match dns.v4(&name).await {
            None => None,
            Some(found) if blocklist::is_listed(&found) => {
                Some((true, dns.texts(&name).await.unwrap_or_default().join(" ").chars().take(300).collect()))
            }
            Some(_) => Some((false, String::new())),
        };
        of.push((subject, answer));
    }
    Said { list: list.id, works, of }
}
