//! Listening: connections that nobody can hold open for nothing.
//!
//! A request has to come within a time, its body in pieces that come within a time, and an answer has to be taken. There are so many
//! connections in all and for one peer; when they are used up, the one that has waited longest without a request makes room, so slow
//! connections keep nobody out. When Rinse ends, requests that are answered are answered, and what stays open after that is closed.

use axum::Router;
use axum::body::Body;
use axum::extract::{ConnectInfo, Request};
use axum::http::HeaderMap;
use http_body_util::BodyExt;
use hyper::body::Incoming;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper_util::rt::{TokioIo, TokioTimer};
use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{Notify, watch};
use tokio_io_timeout::TimeoutStream;
use tower::ServiceExt;

/// What a listener allows.
#[derive(Debug, Clone, Copy)]
pub struct Limits {
    /// Connections in all …
    pub connections: usize,
    /// … and from one peer; a named proxy's are all visitors', so they count in all alone.
    pub per_peer: usize,
    /// A request's head comes within this, also the next on the same connection.
    pub head: Duration,
    /// An answer that nobody takes any of for this long is given up.
    pub write: Duration,
    /// Requests that are being answered when Rinse ends have this long.
    pub ending: Duration,
}

impl Default for Limits {
    fn default() -> Self {
        Self {
            connections: 600,
            per_peer: 300,
            head: Duration::from_secs(15),
            write: Duration::from_secs(30),
            ending: Duration::from_secs(3),
        }
    }
}

/// How to listen.
#[derive(Clone)]
pub struct Listening {
    pub limits: Limits,
    /// The proxy in front: what it says of who asks is believed, and nobody else's word.
    pub proxy: Option<IpAddr>,
    /// Becomes true when Rinse ends.
    pub closing: watch::Receiver<bool>,
}

struct Open {
    peer: IpAddr,
    /// Since when it waits for a request; none: one is being answered.
    idle: Option<Instant>,
    close: Arc<Notify>,
}

#[derive(Default)]
struct Connections {
    open: Mutex<HashMap<u64, Open>>,
    next: AtomicU64,
}

impl Connections {
    fn all(&self) -> MutexGuard<'_, HashMap<u64, Open>> {
        self.open.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Lets a connection in; where there is no room, the longest idle one makes some. None: all are being answered.
    fn admit(self: &Arc<Self>, peer: IpAddr, how: &Listening) -> Option<Place> {
        let mut open = self.all();
        let theirs = |o: &Open| how.proxy != Some(peer) && o.peer == peer;
        let crowded = open.values().filter(|o| theirs(o)).count() >= how.limits.per_peer;
        if crowded || open.len() >= how.limits.connections {
            let waits = open.iter().filter(|(_, o)| !crowded || theirs(o)).filter_map(|(id, o)| Some((o.idle?, *id))).min();
            let (_, id) = waits?;
            if let Some(o) = open.remove(&id) {
                o.close.notify_one();
            }
        }
        let (id, close) = (self.next.fetch_add(1, Ordering::Relaxed), Arc::new(Notify::new()));
        open.insert(id, Open { peer, idle: Some(Instant::now()), close: Arc::clone(&close) });
        Some(Place { all: Arc::clone(self), id, close })
    }

    fn set_idle(&self, id: u64, idle: Option<Instant>) {
        if let Some(o) = self.all().get_mut(&id) {
            o.idle = idle;
        }
    }
}

/// A connection's place among the others: free again when it is gone.
struct Place {
    all: Arc<Connections>,
    id: u64,
    close: Arc<Notify>,
}

impl Drop for Place {
    fn drop(&mut self) {
        self.all.all().remove(&self.id);
    }
}

/// While this is held, a request is being answered, its answer's body included.
struct Answering(Arc<Place>);

impl Answering {
    fn new(place: &Arc<Place>) -> Self {
        place.all.set_idle(place.id, None);
        Self(Arc::clone(place))
    }
}

impl Drop for Answering {
    fn drop(&mut self) {
        self.0.all.set_idle(self.0.id, Some(Instant::now()));
    }
}

/// Serves until Rinse ends.
pub async fn serve(listener: TcpListener, app: Router, mut how: Listening) {
    let connections = Arc::new(Connections::default());
    loop {
        let accepted = tokio::select! {
            accepted = listener.accept() => accepted,
            () = closed(&mut how.closing) => break,
        };
        let (stream, peer) = match accepted {
            Ok(accepted) => accepted,
            Err(e) => {
                tracing::warn!("a connection could not be accepted: {e}");
                tokio::time::sleep(Duration::from_millis(50)).await;
                continue;
            }
        };
        let Some(place) = connections.admit(peer.ip(), &how) else { continue };
        tokio::spawn(connection(stream, peer, app.clone(), place, how.clone()));
    }
    drop(listener);
    // Those that are being answered end by themselves, in time.
    let until = tokio::time::Instant::now() + how.limits.ending;
    while tokio::time::Instant::now() < until && !connections.all().is_empty() {
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
}

async fn connection(stream: TcpStream, peer: SocketAddr, app: Router, place: Place, how: Listening) {
    let _ = stream.set_nodelay(true);
    let mut stream = TimeoutStream::new(stream);
    stream.set_write_timeout(Some(how.limits.write));
    let place = Arc::new(place);
    let (of, proxy) = (Arc::clone(&place), how.proxy);
    let service = service_fn(move |request: hyper::Request<Incoming>| {
        let (app, answering) = (app.clone(), Answering::new(&of));
        async move {
            let Ok(answer) = app.oneshot(from(request, peer, proxy)).await;
            // The place counts as taken until the last of the answer has gone.
            Ok::<_, std::convert::Infallible>(answer.map(|body| {
                Body::new(body.map_frame(move |frame| {
                    let _ = &answering;
                    frame
                }))
            }))
        }
    });
    let mut builder = http1::Builder::new();
    builder.timer(TokioTimer::new()).header_read_timeout(how.limits.head).max_buf_size(64 << 10);
    let served = builder.serve_connection(TokioIo::new(Box::pin(stream)), service);
    tokio::pin!(served);
    let mut closing = how.closing.clone();
    tokio::select! {
        done = served.as_mut() => {
            if let Err(e) = done {
                tracing::debug!("a connection ended: {e}");
            }
        }
        () = place.close.notified() => {}
        () = closed(&mut closing) => {
            served.as_mut().graceful_shutdown();
            let _ = tokio::time::timeout(how.limits.ending, served).await;
        }
    }
}

/// Waits until Rinse ends.
async fn closed(closing: &mut watch::Receiver<bool>) {
    let _ = closing.wait_for(|closing| *closing).await;
}

/// A request with whose it is: the peer's own, or as the named proxy says.
fn from(request: hyper::Request<Incoming>, peer: SocketAddr, proxy: Option<IpAddr>) -> Request {
    let mut request = request.map(Body::new);
    let mut from = peer;
    if proxy == Some(peer.ip()) {
        from.set_ip(forwarded(request.headers()).unwrap_or(peer.ip()));
    }
    request.extensions_mut().insert(ConnectInfo(from));
    request
}

/// Whom a proxy forwards: the last that it names, since those before it may be anybody's invention.
fn forwarded(headers: &HeaderMap) -> Option<IpAddr> {
    let last = headers.get_all("x-forwarded-for").iter().next_back().and_then(|v| v.to_str().ok());
    last?.rsplit(',').next()?.trim().trim_matches(['[', ']']).parse().ok()
}

/// Did a request come by way of some proxy?
pub(crate) fn forwarded_by_any(headers: &HeaderMap) -> bool {
    ["x-forwarded-for", "x-forwarded-host", "x-real-ip", "forwarded", "via"].iter().any(|name| headers.contains_key(*name))
}

/// An answer that ends when Rinse does.
pub(crate) fn ends_with<S>(stream: S, mut closing: watch::Receiver<bool>) -> impl futures::Stream<Item = S::Item>
where
    S: futures::Stream,
{
    futures::StreamExt::take_until(stream, async move { closed(&mut closing).await })
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::net::Ipv4Addr;

    fn how(limits: Limits) -> Listening {
        Listening { limits, proxy: Some(IpAddr::V4(Ipv4Addr::new(10, 0, 0, 9))), closing: watch::channel(false).1 }
    }

    fn ip(last: u8) -> IpAddr {
        IpAddr::V4(Ipv4Addr::new(10, 0, 0, last))
    }

    /// Anybody who waits longest without a request makes room, of the crowding peer where one crowds; nobody who is being answered does.
    #[test]
    fn the_longest_idle_connection_makes_room() {
        let all = Arc::new(Connections::default());
        let how = how(Limits { connections: 5, per_peer: 2, ..Limits::default() });
        let (a, b) = (Arc::new(all.admit(ip(1), &how).unwrap()), all.admit(ip(1), &how).unwrap());
        let answered = Answering::new(&a);
        let c = all.admit(ip(1), &how).unwrap();
        assert!(all.all().contains_key(&a.id) && !all.all().contains_key(&b.id), "b waited for a request");
        let answers_c = Answering::new(&Arc::new(c));
        assert!(all.admit(ip(1), &how).is_none(), "both are being answered");
        // The proxy's are not one peer's.
        let proxied: Vec<_> = (0..3).map(|_| all.admit(ip(9), &how).unwrap()).collect();
        let other = all.admit(ip(2), &how).unwrap();
        assert!(!all.all().contains_key(&proxied[0].id) && all.all().contains_key(&other.id));
        assert_eq!(all.all().len(), 5);
        drop((answered, answers_c, a, b, proxied, other));
        assert!(all.all().is_empty());
    }

    #[test]
    fn the_last_that_a_proxy_names_is_believed() {
        let mut headers = HeaderMap::new();
        assert_eq!(forwarded(&headers), None);
        headers.append("x-forwarded-for", "192.0.2.1, 192.0.2.7".parse().unwrap());
        assert_eq!(forwarded(&headers), Some(IpAddr::V4(Ipv4Addr::new(192, 0, 2, 7))));
        headers.append("x-forwarded-for", "[2001:db8::1]".parse().unwrap());
        assert_eq!(forwarded(&headers), "2001:db8::1".parse().ok());
        headers.append("x-forwarded-for", "nobody".parse().unwrap());
        assert_eq!(forwarded(&headers), None);
    }
}
