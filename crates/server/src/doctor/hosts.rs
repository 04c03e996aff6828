//! Do the mail hosts of the groups with most people let us in, and is mail to them encrypted? Each is greeted once, over a connection of its own, and
//! left again; no message goes.

use super::Finding;
use crate::dns::Dns;
use crate::transport::{reached, within};
use lettre::transport::smtp::client::{AsyncSmtpConnection, Certificate, TlsParameters};
use lettre::transport::smtp::extension::ClientId;
use rinse_core::delivery::authentication::State;
use rinse_store::Connection;
use rinse_store::delivery::operators;
use std::collections::HashMap;
use std::net::SocketAddr;
use std::time::Duration;

/// A host is waited for so long at each step.
const PATIENCE: Duration = Duration::from_secs(10);
/// Domains that groups are found among: those with most people.
const DOMAINS: u32 = 5_000;

/// Which hosts are looked at, and where.
#[derive(Debug, Clone)]
pub struct Hosts {
    /// Of so many groups: those with most people.
    pub groups: usize,
    /// Where they take mail: 25 (RFC 5321), but for a test.
    pub port: u16,
    /// A certificate authority that is believed beside the public ones, in PEM.
    pub authority: Option<Vec<u8>>,
}

impl Hosts {
    /// As the world has it.
    #[must_use]
    pub fn of(groups: usize) -> Self {
        Self { groups, port: 25, authority: None }
    }
}

/// The groups with most people, each with its largest domain.
pub(super) fn groups(c: &Connection, most: usize) -> rinse_store::Result<Vec<(String, String)>> {
    let mut of: HashMap<String, (i64, String)> = HashMap::new();
    for d in operators::all(c, DOMAINS)? {
        // The first of a group is its largest.
        of.entry(d.group).or_insert((0, d.name)).0 += d.people;
    }
    let mut all: Vec<(i64, String, String)> = of.into_iter().map(|(group, (people, domain))| (people, group, domain)).collect();
    all.sort_by(|a, b| b.0.cmp(&a.0).then_with(|| a.1.cmp(&b.1)));
    Ok(all.into_iter().take(most).map(|(_, group, domain)| (group, domain)).collect())
}

/// The best mail host of a domain, and where it is.
async fn best(dns: &Dns, domain: &str, port: u16) -> Result<(String, SocketAddr), (State, String)> {
    let untold = |words: &str| (State::CantTell, words.to_owned());
    let mut mx = dns.mx(domain).await.ok_or_else(|| untold("DNS gave no answer."))?;
    mx.sort();
    // A domain without mail hosts takes its mail itself (RFC 5321, section 5.1).
    let host = mx.first().map_or(domain, |m| m.host.as_str()).trim_end_matches('.').to_ascii_lowercase();
    if host.is_empty() {
        return Err((State::Wrong, format!("{domain} says that it takes no mail (RFC 7505): its people can’t be reached.")));
    }
    match dns.addresses_of(&host).await {
        None => Err(untold("DNS gave no answer.")),
        Some(all) => match all.first() {
            Some(ip) => Ok((host, SocketAddr::new(*ip, port))),
            None => Err((State::Wrong, format!("{host} has no address: mail to {domain} can’t be handed over. It is theirs to mend."))),
        },
    }
}

/// Greets a host, and asks for TLS.
async fn greet(host: &str, at: SocketAddr, hello: &ClientId, authority: Option<&[u8]>) -> (State, String) {
    let stream = match reached(host, at, PATIENCE).await {
        Ok(stream) => stream,
        Err(why) => return (State::CantTell, format!("{at}: {why}. Many networks close that port: try from where your mail goes out.")),
    };
    let mut connection = match within(PATIENCE, AsyncSmtpConnection::connect_with_transport(Box::new(stream), hello)).await {
        Ok(connection) => connection,
        Err(reply) if reply.code == 0 => return (State::CantTell, format!("{host} doesn’t answer as a mail host does: {}.", reply.text)),
        Err(reply) => {
            return (State::Wrong, format!("{host} doesn’t let us in: “{}”. Its line says why; see Delivery → Reply lines.", reply.line()));
        }
    };
    if connection.can_starttls() {
        encrypted(connection, host, hello, authority).await
    } else {
        connection.abort().await;
        let words = format!(
            "{host} offers no TLS: mail to it goes in the clear. Where other networks are offered it, something between takes it away."
        );
        (State::Wrong, words)
    }
}

/// Asks for TLS and leaves. A connection whose TLS came to nothing is none any more: nothing may be said on it.
async fn encrypted(mut connection: AsyncSmtpConnection, host: &str, hello: &ClientId, authority: Option<&[u8]>) -> (State, String) {
    let mut tls = TlsParameters::builder(host.to_owned());
    if let Some(Ok(more)) = authority.map(Certificate::from_pem) {
        tls = tls.add_root_certificate(more);
    }
    let tls = match tls.build_rustls() {
        Ok(tls) => tls,
        Err(e) => return (State::CantTell, format!("{host} can’t be asked for TLS: {e}.")),
    };
    match within(PATIENCE, connection.starttls(tls, hello)).await {
        Ok(()) => {
            connection.abort().await;
            (State::Right, format!("{host} lets us in and encrypts, with a certificate of its name."))
        }
        Err(reply) => {
            let words = format!(
                "{host} offers TLS, and it comes to nothing: {}. Where other networks find its certificate good, something between isn’t it.",
                reply.text
            );
            (State::Wrong, words)
        }
    }
}

/// What each of some groups' hosts said. All are asked at once: each is waited for by itself.
pub(super) async fn look(dns: &Dns, groups: Vec<(String, String)>, hosts: &Hosts) -> Vec<Finding> {
    let hello = ClientId::default();
    let asked = groups.into_iter().map(|(group, domain)| {
        let hello = &hello;
        async move {
            let (state, words) = match best(dns, &domain, hosts.port).await {
                Ok((host, at)) => greet(&host, at, hello, hosts.authority.as_deref()).await,
                Err(said) => said,
            };
            Finding { of: group, ..Finding::of_machine("TLS to its mail host", state, words) }
        }
    });
    futures::future::join_all(asked).await
}
