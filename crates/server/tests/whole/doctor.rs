//! `rinse doctor` greets the mail hosts of the largest groups, over real connections to hosts of each kind.

use crate::inside::Inside;
use rinse_core::Instant;
use rinse_core::delivery::authentication::State;
use rinse_server::AskDns;
use rinse_server::doctor::{Finding, Hosts, examine};
use rinse_standins::dns::{self, Own};
use rinse_standins::network::Network;
use rinse_standins::scenario::Scenario;
use std::sync::{Arc, Mutex};
use tokio::io::{AsyncBufReadExt, AsyncRead, AsyncWrite, AsyncWriteExt, BufStream};
use tokio::net::TcpListener;
use tokio_rustls::TlsAcceptor;
use tokio_rustls::rustls::ServerConfig;
use tokio_rustls::rustls::pki_types::{PrivateKeyDer, PrivatePkcs8KeyDer};

/// How a host meets us.
#[derive(Clone)]
enum Meets {
    Encrypted(TlsAcceptor),
    InTheClear,
    Refuses,
    /// Takes the connection and says nothing that a mail host says.
    Strangely,
}

fn certified(name: &str) -> (TlsAcceptor, String) {
    let made = rcgen::generate_simple_self_signed(vec![name.to_owned()]).unwrap();
    let key = PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(made.signing_key.serialize_der()));
    let ring = Arc::new(tokio_rustls::rustls::crypto::ring::default_provider());
    let config = ServerConfig::builder_with_provider(ring).with_safe_default_protocol_versions().unwrap();
    let config = config.with_no_client_auth().with_single_cert(vec![made.cert.der().clone()], key).unwrap();
    (TlsAcceptor::from(Arc::new(config)), made.cert.pem())
}

/// Answers until somebody leaves, or asks for TLS.
async fn talk(stream: &mut BufStream<impl AsyncRead + AsyncWrite + Unpin>, offers: bool) -> std::io::Result<bool> {
    let mut line = String::new();
    while stream.read_line(&mut line).await? > 0 {
        let said = line.to_uppercase();
        line.clear();
        let answer: &[u8] = match said.get(..4) {
            Some("EHLO") if offers => b"250-mx.example\r\n250 STARTTLS\r\n",
            Some("STAR") => b"220 go on\r\n",
            Some("QUIT") => b"221 bye\r\n",
            _ => b"250 mx.example\r\n",
        };
        stream.write_all(answer).await?;
        stream.flush().await?;
        if said.starts_with("STAR") {
            return Ok(true);
        }
    }
    Ok(false)
}

async fn serve(listener: TcpListener, meets: Meets) {
    while let Ok((stream, _)) = listener.accept().await {
        let mut stream = BufStream::new(stream);
        let greeting: &[u8] = match meets {
            Meets::Refuses => b"554 5.7.1 192.0.2.25 is on our list\r\n",
            Meets::Strangely => b"HTTP/1.1 400 Bad Request\r\n\r\n",
            _ => b"220 mx.example\r\n",
        };
        let _ = stream.write_all(greeting).await;
        let _ = stream.flush().await;
        if let Meets::Refuses | Meets::Strangely = meets {
            continue;
        }
        let Ok(true) = talk(&mut stream, matches!(meets, Meets::Encrypted(_))).await else { continue };
        if let Meets::Encrypted(tls) = &meets
            && let Ok(inner) = tls.accept(stream.into_inner()).await
        {
            let _ = talk(&mut BufStream::new(inner), false).await;
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn mail_hosts_are_greeted_and_each_says_how_it_meets_us() {
    let s = Inside::new().await;
    let (good, authority) = certified("mx.tern.example");
    let (foreign, _) = certified("mx.somebody-else.example");
    let hosts = [
        ("tern", Meets::Encrypted(good)),
        ("gull", Meets::InTheClear),
        ("petrel", Meets::Refuses),
        ("fulmar", Meets::Encrypted(foreign)),
        ("harbour", Meets::Strangely),
    ];
    // As many people as the place in the list is from its end, so that this is the order of the groups.
    let people = |(n, name): (usize, &str)| (0..9 - n).map(|p| format!("p{p}@{name}.example\n")).collect::<String>();
    let names = hosts.iter().map(|h| h.0).chain(["skua", "nowhere"]);
    s.import(&format!("email\n{}", names.enumerate().map(people).collect::<String>())).await;

    // One port on addresses of this machine's own.
    let first = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = first.local_addr().unwrap().port();
    let mut listeners = vec![first];
    for n in 2..=hosts.len() {
        listeners.push(TcpListener::bind(format!("127.0.0.{n}:{port}")).await.unwrap());
    }
    let mut scenario = Scenario::skerry_light();
    for (n, ((name, meets), listener)) in hosts.into_iter().zip(listeners).enumerate() {
        scenario.dns.push(Own { name: format!("{name}.example"), kind: "MX".into(), value: format!("10 mx.{name}.example.") });
        scenario.dns.push(Own { name: format!("mx.{name}.example"), kind: "A".into(), value: format!("127.0.0.{}", n + 1) });
        tokio::spawn(serve(listener, meets));
    }
    scenario.dns.push(Own { name: "skua.example".into(), kind: "MX".into(), value: "0 .".into() });
    let folder = tempfile::tempdir().unwrap();
    let world = Network::open(folder.path(), scenario, Instant::of(1_776_364_800_000), false).unwrap();
    let world = Arc::new(Mutex::new(world));
    let ask = AskDns::At(dns::serve(&world).unwrap());

    let look = async |hosts: Hosts, ask: AskDns| -> Vec<(String, State, String)> {
        let all: Vec<Finding> = examine(s.folder(), "https://post.skerry-light.example", ask, &hosts).await.unwrap();
        all.into_iter().filter(|f| f.check.starts_with("TLS")).map(|f| (f.of, f.state, f.words)).collect()
    };
    let here = Hosts { port, authority: Some(authority.into_bytes()), ..Hosts::of(7) };
    let found = look(here.clone(), ask).await;
    let states: Vec<(&str, State)> = found.iter().map(|(of, state, _)| (of.as_str(), *state)).collect();
    assert_eq!(
        states,
        [
            ("tern.example", State::Right),
            ("gull.example", State::Wrong),
            ("petrel.example", State::Wrong),
            ("fulmar.example", State::Wrong),
            ("harbour.example", State::CantTell),
            ("skua.example", State::Wrong),
            ("nowhere.example", State::Wrong),
        ],
        "{found:?}"
    );
    let words = |n: usize| found[n].2.as_str();
    assert!(words(1).contains("in the clear"));
    assert!(words(2).contains("554 5.7.1 192.0.2.25 is on our list"), "what it said stands there: {}", words(2));
    assert!(words(3).contains("certificate"), "{}", words(3));
    assert!(words(5).contains("RFC 7505") && words(6).contains("no address"));
    // Without a certificate authority that vouches for it the best of them is no better than a foreign one.
    let strict = look(Hosts { authority: None, groups: 1, ..here.clone() }, ask).await;
    assert_eq!(strict.iter().map(|f| f.1).collect::<Vec<_>>(), [State::Wrong]);
    // Nobody is asked where nobody said whom to ask; none where none are wanted.
    let untold = look(here, AskDns::Nobody).await;
    assert_eq!((untold.len(), untold[0].1), (1, State::CantTell));
    assert!(look(Hosts::of(0), ask).await.is_empty());
}
