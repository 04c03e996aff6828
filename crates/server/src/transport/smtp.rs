//! An SMTP host, over connections that are kept: most of a message's time is spent waiting for answers.

use lettre::address::Envelope;
use lettre::transport::smtp::Error;
use lettre::transport::smtp::client::{AsyncSmtpConnection, TlsParameters};
use lettre::transport::smtp::extension::ClientId;
use rinse_core::bounce::Reply;
use rinse_post::compose::Composed;
use std::future::Future;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};
use tokio::net::{TcpStream, ToSocketAddrs};
use tokio::sync::{Semaphore, SemaphorePermit};

/// The most connections to one host that may be asked for.
pub const MOST_CONNECTIONS: u32 = 50;
/// A host is waited for so long until a connection stands.
const CONNECTS: Duration = Duration::from_secs(60);
/// A host may take so long to answer a whole message (RFC 5321, section 4.5.3.2.6, gives it ten minutes after the final dot).
const ANSWERS: Duration = Duration::from_secs(15 * 60);
/// Anybody who waited longer may have been forgotten by the host, and is asked first.
const FRESH: Duration = Duration::from_secs(5);
/// A connection that nobody needed for so long is closed.
const KEPT: Duration = Duration::from_secs(60);

/// A connection that nobody uses now, and since when.
struct Idle {
    connection: AsyncSmtpConnection,
    since: Instant,
}

/// The right to use a connection.
pub(super) type Turn<'a> = SemaphorePermit<'a>;

/// An SMTP host to hand mail to.
pub struct Smtp {
    host: String,
    port: u16,
    /// STARTTLS is asked for, and nothing goes without.
    tls: Option<TlsParameters>,
    hello: ClientId,
    idle: Mutex<Vec<Idle>>,
    free: Semaphore,
    pub(super) connections: usize,
}

/// A connection to a host that is reached within a time, or why there is none.
pub(crate) async fn reached(host: &str, at: impl ToSocketAddrs, time: Duration) -> Result<TcpStream, String> {
    let stream = match tokio::time::timeout(time, TcpStream::connect(at)).await {
        Ok(Ok(stream)) => stream,
        Ok(Err(e)) => return Err(format!("no connection to {host}: {e}")),
        Err(_) => return Err(format!("no connection to {host} in {} seconds", time.as_secs())),
    };
    // A message ends with a small packet of its own: held back until the one before is acknowledged it takes 40 ms.
    stream.set_nodelay(true).map_err(|e| e.to_string())?;
    Ok(stream)
}

/// What a connection came to within its time.
pub(crate) async fn within<T>(time: Duration, what: impl Future<Output = Result<T, Error>>) -> Result<T, Reply> {
    match tokio::time::timeout(time, what).await {
        Ok(Ok(done)) => Ok(done),
        Ok(Err(e)) => Err(match e.status() {
            Some(code) => {
                let text = std::error::Error::source(&e).map_or_else(|| e.to_string(), ToString::to_string);
                Reply::parse(&format!("{code} {text}"))
            }
            None => no_answer(e.to_string()),
        }),
        Err(_) => Err(no_answer(format!("the host gave no answer in {} seconds", time.as_secs()))),
    }
}

/// No reply at all: the connection failed, so it is tried again later.
fn no_answer(text: String) -> Reply {
    Reply { code: 0, enhanced: None, text }
}

impl Smtp {
    /// A host by name and port; `tls` asks for STARTTLS and refuses to go on without.
    ///
    /// # Errors
    /// When the name can't be used for TLS.
    pub fn new(host: &str, port: u16, tls: bool, connections: u32) -> Result<Self, String> {
        let connections = connections.clamp(1, MOST_CONNECTIONS) as usize;
        let tls = tls.then(|| TlsParameters::new(host.to_owned()).map_err(|e| e.to_string())).transpose()?;
        Ok(Self {
            host: host.to_owned(),
            port,
            tls,
            hello: ClientId::default(),
            idle: Mutex::default(),
            free: Semaphore::new(connections),
            connections,
        })
    }

    fn kept(&self) -> std::sync::MutexGuard<'_, Vec<Idle>> {
        self.idle.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A connection that stands: one that was used before, or another.
    async fn connection(&self) -> Result<AsyncSmtpConnection, Reply> {
        loop {
            let idle = {
                let mut all = self.kept();
                all.retain(|i| i.since.elapsed() < KEPT);
                all.pop()
            };
            match idle {
                None => return self.connect().await,
                Some(i) if i.since.elapsed() < FRESH => return Ok(i.connection),
                Some(mut i) => {
                    if tokio::time::timeout(CONNECTS, i.connection.test_connected()).await.unwrap_or(false) {
                        return Ok(i.connection);
                    }
                }
            }
        }
    }

    async fn connect(&self) -> Result<AsyncSmtpConnection, Reply> {
        let stream = reached(&self.host, (self.host.as_str(), self.port), CONNECTS).await.map_err(no_answer)?;
        let mut connection = within(CONNECTS, AsyncSmtpConnection::connect_with_transport(Box::new(stream), &self.hello)).await?;
        if let Some(tls) = &self.tls {
            if !connection.can_starttls() {
                connection.abort().await;
                return Err(no_answer(format!("{} offers no STARTTLS, and nothing goes without", self.host)));
            }
            within(CONNECTS, connection.starttls(tls.clone(), &self.hello)).await?;
        }
        Ok(connection)
    }

    /// A message's turn: as many go at once as there are connections. None: Rinse is ending.
    pub(super) async fn turn(&self) -> Option<Turn<'_>> {
        self.free.acquire().await.ok()
    }

    /// Hands a message over in its turn.
    pub(super) async fn send(&self, m: &Composed, _turn: Turn<'_>) -> Reply {
        let (Ok(from), Ok(to)) = (m.return_path.parse(), m.to.parse()) else {
            return Reply::parse("550 5.1.3 the address can't be put in an SMTP envelope");
        };
        let Ok(envelope) = Envelope::new(Some(from), vec![to]) else {
            return Reply::parse("550 5.1.3 the envelope is empty");
        };
        let mut connection = match self.connection().await {
            Ok(connection) => connection,
            Err(reply) => return reply,
        };
        let sent = within(ANSWERS, connection.send(&envelope, &m.bytes)).await;
        if sent.is_ok() && !connection.has_broken() {
            self.kept().push(Idle { connection, since: Instant::now() });
        }
        match sent {
            Ok(r) => Reply::parse(&format!("{} {}", r.code(), r.message().collect::<Vec<_>>().join(" "))),
            Err(reply) => reply,
        }
    }
}
