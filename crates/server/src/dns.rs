//! DNS, as far as somebody may be asked: the stand-in's in the demo, a name server or the machine's own resolver where Rinse was started with
//! `--dns`. Without it no outside host is asked, and what only DNS knows can't be told.

use hickory_resolver::config::{ConnectionConfig, NameServerConfig, ResolverConfig};
use hickory_resolver::net::NetError;
use hickory_resolver::net::runtime::TokioRuntimeProvider;
use hickory_resolver::proto::rr::{Name, RData, RecordType};
use hickory_resolver::{Resolver, TokioResolver};
use mail_auth::spf::verify::SpfParameters;
use mail_auth::{MessageAuthenticator, SpfResult};
use rinse_core::delivery::authentication::Spf;
use rinse_core::delivery::operator::Mx;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;

/// A question is given up after this.
const PATIENCE: Duration = Duration::from_secs(10);

/// Whom to ask.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum AskDns {
    #[default]
    Nobody,
    /// The resolver that this machine uses.
    System,
    At(SocketAddr),
}

impl std::str::FromStr for AskDns {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        if text == "system" {
            return Ok(Self::System);
        }
        text.parse()
            .map(Self::At)
            .or_else(|_| text.parse().map(|ip: IpAddr| Self::At(SocketAddr::new(ip, 53))))
            .map_err(|_| format!("“{text}” is no name server: write “system”, or an address, such as 192.0.2.53 or 192.0.2.53:5353."))
    }
}

/// After so many questions in a row without an answer the next ones aren't asked any more: anybody who asks a hundred would wait for minutes.
const SILENT: u32 = 4;

/// Who is asked; cheap to clone.
#[derive(Clone, Default)]
pub(crate) struct Dns {
    resolver: Option<TokioResolver>,
    /// Questions in a row that weren't answered.
    silent: Arc<AtomicU32>,
}

impl Dns {
    /// # Errors
    /// When the machine's own resolver can't be found out.
    pub(crate) fn of(ask: AskDns) -> anyhow::Result<Self> {
        let mut builder = match ask {
            AskDns::Nobody => return Ok(Self::default()),
            AskDns::System => Resolver::builder_tokio()?,
            AskDns::At(at) => {
                let mut server = NameServerConfig::udp_and_tcp(at.ip());
                let port = |c: &mut ConnectionConfig| c.port = at.port();
                server.connections.iter_mut().for_each(port);
                let config = ResolverConfig::from_parts(None, Vec::new(), vec![server]);
                Resolver::builder_with_config(config, TokioRuntimeProvider::default())
            }
        };
        let options = builder.options_mut();
        (options.timeout, options.attempts) = (Duration::from_secs(3), 2);
        Ok(Self { resolver: Some(builder.build()?), silent: Arc::default() })
    }

    /// Can anybody be asked?
    pub(crate) fn is_asked(&self) -> bool {
        self.resolver.is_some()
    }

    /// The same for a round of questions of its own: a name server that was silent before is asked again.
    pub(crate) fn once_more(&self) -> Self {
        Self { resolver: self.resolver.clone(), silent: Arc::default() }
    }

    fn is_silent(&self) -> bool {
        self.silent.load(Ordering::Relaxed) >= SILENT
    }

    fn answered(&self, answer: bool) {
        if answer {
            self.silent.store(0, Ordering::Relaxed);
        } else {
            self.silent.fetch_add(1, Ordering::Relaxed);
        }
    }

    /// The records of a name; empty where it has none; none where nobody said anything.
    async fn records(&self, name: &str, kind: RecordType) -> Option<Vec<RData>> {
        // Never looked up below a search domain.
        let name = format!("{}.", name.trim_end_matches('.'));
        if self.is_silent() {
            return None;
        }
        let found = match tokio::time::timeout(PATIENCE, self.resolver.as_ref()?.lookup(name, kind)).await {
            Ok(Ok(found)) => Some(found.answers().iter().map(|r| r.data.clone()).collect()),
            Ok(Err(e)) if no_such(&e) => Some(Vec::new()),
            Ok(Err(_)) | Err(_) => None,
        };
        self.answered(found.is_some());
        found
    }

    pub(crate) async fn mx(&self, domain: &str) -> Option<Vec<Mx>> {
        let host = |r: RData| match r {
            RData::MX(mx) => Some(Mx { preference: mx.preference, host: mx.exchange.to_ascii() }),
            _ => None,
        };
        Some(self.records(domain, RecordType::MX).await?.into_iter().filter_map(host).collect())
    }
}

impl Dns {
    pub(crate) async fn texts(&self, name: &str) -> Option<Vec<String>> {
        let text = |r: RData| match r {
            RData::TXT(t) => Some(t.txt_data.iter().map(|part| String::from_utf8_lossy(part)).collect::<String>()),
            _ => None,
        };
        Some(self.records(name, RecordType::TXT).await?.into_iter().filter_map(text).collect())
    }

    pub(crate) async fn v4(&self, name: &str) -> Option<Vec<Ipv4Addr>> {
        let address = |r: RData| if let RData::A(a) = r { Some(a.0) } else { None };
        Some(self.records(name, RecordType::A).await?.into_iter().filter_map(address).collect())
    }

    pub(crate) async fn addresses_of(&self, name: &str) -> Option<Vec<IpAddr>> {
        let v6 = |r: RData| if let RData::AAAA(a) = r { Some(IpAddr::V6(a.0)) } else { None };
        let (four, six) = (self.v4(name).await?, self.records(name, RecordType::AAAA).await?);
        Some(four.into_iter().map(IpAddr::V4).chain(six.into_iter().filter_map(v6)).collect())
    }

    /// The names of an address (PTR); at most ten of them are looked at.
    pub(crate) async fn names_of(&self, ip: IpAddr) -> Option<Vec<String>> {
        let name = |r: RData| if let RData::PTR(p) = r { Some(p.0.to_ascii()) } else { None };
        let asked = Name::from(ip).to_ascii();
        Some(self.records(&asked, RecordType::PTR).await?.into_iter().filter_map(name).take(10).collect())
    }

    /// What the SPF records say of an address that sends for a domain (RFC 7208, section 4).
    pub(crate) async fn spf(&self, ip: IpAddr, hello: &str, domain: &str) -> Spf {
        let Some(resolver) = self.resolver.clone().filter(|_| !self.is_silent()) else { return Spf::TempError };
        let (sender, asks) = (format!("postmaster@{domain}"), MessageAuthenticator(resolver));
        let asked = asks.verify_spf(SpfParameters::verify_mail_from(ip, hello, hello, &sender));
        match tokio::time::timeout(PATIENCE, asked).await.map(|out| out.result()) {
            Ok(SpfResult::Pass) => Spf::Pass,
            Ok(SpfResult::Fail) => Spf::Fail,
            Ok(SpfResult::SoftFail) => Spf::SoftFail,
            Ok(SpfResult::Neutral) => Spf::Neutral,
            Ok(SpfResult::None) => Spf::None,
            Ok(SpfResult::PermError) => Spf::PermError,
            Ok(SpfResult::TempError) | Err(_) => Spf::TempError,
        }
    }
}

/// DNS says that there is nothing of the kind.
fn no_such(e: &NetError) -> bool {
    e.is_no_records_found() || e.is_nx_domain()
}
