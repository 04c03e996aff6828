//! The DNS of the simulated world: a small name server over UDP on loopback, so that anybody who asks uses the real resolver.

use crate::network::{Network, Result};
use hickory_proto::op::{Message, OpCode, ResponseCode};
use hickory_proto::rr::rdata::{A, MX, PTR, TXT};
use hickory_proto::rr::{Name, RData, Record, RecordType};
use serde::Deserialize;
use std::net::{SocketAddr, UdpSocket};
use std::str::FromStr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// A record of the scenario's own.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
pub struct Own {
    pub name: String,
    /// `TXT`, `A`, `PTR` or `MX`; of the last with its preference in front.
    pub kind: String,
    pub value: String,
}

/// How long a record is good for, in seconds: the world may change at any moment of its clock, so nobody keeps an answer.
const TTL: u32 = 0;
/// The longest question that is read.
const LONGEST: usize = 1_232;

/// Serves the world's DNS on a port of its own until the world is gone; where.
///
/// # Errors
/// When no port is to be had.
pub fn serve(network: &Arc<Mutex<Network>>) -> std::io::Result<SocketAddr> {
    let socket = UdpSocket::bind(("127.0.0.1", 0))?;
    let address = socket.local_addr()?;
    socket.set_read_timeout(Some(Duration::from_millis(500)))?;
    let network = Arc::downgrade(network);
    std::thread::Builder::new().name("stand-in-dns".into()).spawn(move || {
        let mut buffer = [0; LONGEST];
        loop {
            let came = socket.recv_from(&mut buffer);
            let Some(network) = network.upgrade() else { return };
            if let Ok((n, from)) = came
                && let Some(reply) = answer(&network.lock().unwrap_or_else(PoisonError::into_inner), &buffer[..n])
            {
                let _ = socket.send_to(&reply, from);
            }
        }
    })?;
    Ok(address)
}

/// What the name server says to a question; nothing to what is none.
fn answer(network: &Network, question: &[u8]) -> Option<Vec<u8>> {
    let asked = Message::from_vec(question).ok()?;
    let query = asked.queries.first()?.clone();
    let mut reply = Message::response(asked.metadata.id, OpCode::Query);
    (reply.metadata.authoritative, reply.metadata.recursion_desired) = (true, asked.metadata.recursion_desired);
    reply.metadata.recursion_available = true;
    let name = query.name().to_string().trim_end_matches('.').to_ascii_lowercase();
    match network.records(&name, query.query_type()) {
        Ok(Some(found)) => {
            reply.add_answers(found.into_iter().map(|data| Record::from_rdata(query.name().clone(), TTL, data)));
        }
        Ok(None) => reply.metadata.response_code = ResponseCode::NXDomain,
        Err(_) => reply.metadata.response_code = ResponseCode::ServFail,
    }
    reply.add_query(query);
    reply.to_vec().ok()
}

fn text(value: &str) -> RData {
    // A string of a record holds 255 bytes (RFC 1035, section 3.3.14).
    let bytes = value.as_bytes();
    RData::TXT(TXT::from_bytes(bytes.chunks(255).collect()))
}

fn data(own: &Own) -> Option<RData> {
    Some(match own.kind.as_str() {
        "TXT" => text(&own.value),
        "A" => RData::A(A::from_str(&own.value).ok()?),
        "PTR" => RData::PTR(PTR(Name::from_str(&own.value).ok()?)),
        "MX" => {
            let (preference, host) = own.value.split_once(' ')?;
            RData::MX(MX::new(preference.parse().ok()?, Name::from_str(host).ok()?))
        }
        _ => return None,
    })
}

impl Network {
    /// The records of a kind that a name has; none: there is no such name.
    fn records(&self, name: &str, kind: RecordType) -> Result<Option<Vec<RData>>> {
        let own: Vec<&Own> = self.scenario.dns.iter().filter(|o| o.name == name).collect();
        let texts = self.txt(name)?;
        let takes_mail = self.scenario.is_mail_domain(name);
        if own.is_empty() && texts.is_empty() && !takes_mail {
            return Ok(None);
        }
        let mut found: Vec<RData> = own.iter().filter(|o| o.kind == kind.to_string()).filter_map(|o| data(o)).collect();
        match kind {
            RecordType::TXT => found.extend(texts.iter().map(|t| text(t))),
            RecordType::MX if takes_mail && found.is_empty() => {
                let null = self.scenario.null_mx.iter().any(|d| d == name);
                let host = if null { Name::root() } else { Name::from_str(&format!("mx.{name}.")).unwrap_or_else(|_| Name::root()) };
                found.push(RData::MX(MX::new(if null { 0 } else { 10 }, host)));
            }
            _ => {}
        }
        Ok(Some(found))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::scenario::Scenario;
    use hickory_proto::op::Query;
    use rinse_core::Instant;

    fn ask(at: SocketAddr, name: &str, kind: RecordType) -> (ResponseCode, Vec<String>) {
        let mut m = Message::query();
        m.add_query(Query::query(Name::from_str(name).unwrap(), kind));
        let socket = UdpSocket::bind(("127.0.0.1", 0)).unwrap();
        socket.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
        socket.send_to(&m.to_vec().unwrap(), at).unwrap();
        let mut buffer = [0; 4_096];
        let n = socket.recv(&mut buffer).unwrap();
        let reply = Message::from_vec(&buffer[..n]).unwrap();
        (reply.metadata.response_code, reply.answers.iter().map(|r| r.data.to_string()).collect())
    }

    #[test]
    fn the_world_answers_by_udp() {
        let folder = tempfile::tempdir().unwrap();
        let network = Network::open(folder.path(), Scenario::skerry_light(), Instant::of(0), false).unwrap();
        let long = "k".repeat(600);
        network.publish("Day1._domainkey.skerry-light.example", &long).unwrap();
        let network = Arc::new(Mutex::new(network));
        let at = serve(&network).unwrap();
        assert_eq!(ask(at, "gull.example.", RecordType::MX), (ResponseCode::NoError, vec!["10 mx.gull.example.".into()]));
        assert_eq!(ask(at, "SEALED-bay.example.", RecordType::MX), (ResponseCode::NoError, vec!["0 .".into()]));
        assert_eq!(ask(at, "washed-out.example.", RecordType::MX), (ResponseCode::NXDomain, vec![]));
        let (_, texts) = ask(at, "day1._domainkey.skerry-light.example.", RecordType::TXT);
        assert_eq!(texts.iter().map(|t| t.replace(['"', ' '], "")).collect::<String>(), long);
        let (_, hosts) = ask(at, "25.2.0.192.in-addr.arpa.", RecordType::PTR);
        assert_eq!(hosts, ["out1.skerry-light.example."]);
        assert_eq!(ask(at, "out1.skerry-light.example.", RecordType::A).1, ["192.0.2.25"]);
        // What is no question gets no answer, and the next one does.
        UdpSocket::bind(("127.0.0.1", 0)).unwrap().send_to(b"\0\xffnonsense", at).unwrap();
        assert_eq!(ask(at, "gull.example.", RecordType::A), (ResponseCode::NoError, vec![]));
    }
}
