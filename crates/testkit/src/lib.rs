//! For tests only: a running Rinse of its own for each test, a bare HTTP client, an SMTP receiver, and files
//! of invented people.

mod receiver;

pub use receiver::{Halt, Received, Step, smtp_receiver, smtp_receiver_that_halts};

use serde_json::Value;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::path::Path;
use std::process::{Child, Command, Stdio};

/// A Rinse process on a free port; it ends with the value.
pub struct Process {
    child: Child,
    /// `127.0.0.1:PORT`.
    pub address: String,
    /// Where the public pages are, when they have a listener of their own.
    pub public: Option<String>,
}

impl Process {
    /// Starts the binary on a data folder, with the stand-in network.
    ///
    /// # Panics
    /// When it doesn't print its address.
    #[must_use]
    pub fn demo(binary: &Path, data: &Path) -> Self {
        Self::start(binary, data, &["demo"])
    }

    /// The same, with more arguments.
    ///
    /// # Panics
    /// When it doesn't print its address.
    #[must_use]
    pub fn demo_with(binary: &Path, data: &Path, more: &[&str]) -> Self {
        Self::start(binary, data, &[&["demo"], more].concat())
    }

    /// Starts the binary on a data folder by the machine's clock, with an SMTP host on loopback.
    ///
    /// # Panics
    /// When it doesn't print its address.
    #[must_use]
    pub fn serve(binary: &Path, data: &Path, smtp_port: u16) -> Self {
        Self::start(binary, data, &["serve", "--smtp-port", &smtp_port.to_string()])
    }

    /// The same, with a gateway for text messages instead, and the secret that is shared with it.
    ///
    /// # Panics
    /// When it doesn't print its address.
    #[must_use]
    pub fn serve_texts(binary: &Path, data: &Path, url: &str, secret: &str) -> Self {
        Self::start_with(binary, data, &["serve", "--smtp-port", "1", "--text-gateway", url], &[("RINSE_TEXT_SECRET", secret)])
    }

    fn start(binary: &Path, data: &Path, args: &[&str]) -> Self {
        Self::start_with(binary, data, args, &[])
    }

    fn start_with(binary: &Path, data: &Path, args: &[&str], env: &[(&str, &str)]) -> Self {
        let mut child = Command::new(binary)
            .args(args)
            .args(["--listen", "127.0.0.1:0", "--data"])
            .arg(data)
            .env("RUST_LOG", "warn")
            .envs(env.iter().copied())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap_or_else(|e| panic!("{} does not start: {e}", binary.display()));
        let mut said = BufReader::new(child.stdout.take().expect("stdout is piped"));
        let mut address = || {
            let mut line = String::new();
            let _ = said.read_line(&mut line);
            line.trim().rsplit_once("http://").unwrap_or_else(|| panic!("no address in {line:?}")).1.to_owned()
        };
        let own = address();
        let public = args.contains(&"--public-listen").then(address);
        Self { child, address: own, public }
    }

    /// The number of the process.
    #[must_use]
    pub fn id(&self) -> u32 {
        self.child.id()
    }

    /// Asks the process to end, as a system that shuts down does.
    pub fn terminate(&self) {
        let _ = Command::new("kill").args(["-TERM", &self.child.id().to_string()]).status();
    }

    /// Waits until the process has ended by itself; how it did.
    ///
    /// # Panics
    /// When it doesn't.
    #[must_use]
    pub fn ended(mut self) -> std::process::ExitStatus {
        let mut status = None;
        wait_until("the process ends", || {
            status = self.child.try_wait().expect("the process is ours");
            status.is_some()
        });
        status.expect("it has ended")
    }

    /// Kills the process at once, as a power cut would.
    pub fn kill(mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }

    /// Sends a request as the first person; returns the status and the body.
    ///
    /// # Panics
    /// When nothing answers.
    #[must_use]
    pub fn http(&self, method: &str, path: &str, body: &[u8]) -> (u16, Vec<u8>) {
        http(&self.address, method, path, body).expect("Rinse answers")
    }

    /// Sends JSON and reads JSON.
    ///
    /// # Panics
    /// When the answer is an error.
    pub fn json(&self, method: &str, path: &str, body: &Value) -> Value {
        let text = if body.is_null() { String::new() } else { body.to_string() };
        let (status, answer) = self.http(method, path, text.as_bytes());
        assert!(status < 300, "{method} {path}: {status} {}", String::from_utf8_lossy(&answer));
        serde_json::from_slice(&answer).unwrap_or(Value::Null)
    }
}

impl Drop for Process {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// One HTTP/1.1 request on a connection of its own.
///
/// # Errors
/// When the connection fails.
pub fn http(address: &str, method: &str, path: &str, body: &[u8]) -> std::io::Result<(u16, Vec<u8>)> {
    let mut stream = TcpStream::connect(address)?;
    write!(
        stream,
        "{method} {path} HTTP/1.1\r\nHost: {address}\r\nX-Acting-Person: 1\r\nContent-Type: application/json\r\nContent-Length: {}\r\nConnection: close\r\n\r\n",
        body.len()
    )?;
    stream.write_all(body)?;
    let mut answer = Vec::new();
    stream.read_to_end(&mut answer)?;
    let split = answer.windows(4).position(|w| w == b"\r\n\r\n").unwrap_or(answer.len());
    let head = String::from_utf8_lossy(&answer[..split]).to_lowercase();
    let status = head.split(' ').nth(1).and_then(|s| s.parse().ok()).unwrap_or(0);
    let body = answer.get(split + 4..).unwrap_or_default();
    Ok((status, if head.contains("transfer-encoding: chunked") { unchunk(body) } else { body.to_vec() }))
}

fn unchunk(mut body: &[u8]) -> Vec<u8> {
    let mut out = Vec::new();
    while let Some(end) = body.windows(2).position(|w| w == b"\r\n") {
        let size = usize::from_str_radix(String::from_utf8_lossy(&body[..end]).trim(), 16).unwrap_or(0);
        if size == 0 || body.len() < end + 2 + size {
            break;
        }
        out.extend(&body[end + 2..end + 2 + size]);
        body = body.get(end + 4 + size..).unwrap_or_default();
    }
    out
}

/// Invented people as a CSV with a header; every twentieth address is one its host doesn't know.
#[must_use]
pub fn people_csv(n: usize) -> String {
    let mut out = String::from("email,first name,last name,country\n");
    for i in 0..n {
        let local = if i % 20 == 19 { format!("gone.wren{i}") } else { format!("wren{i}") };
        out.push_str(&format!("{local}@{},Wren{i},Marram,GB\n", ["tern.example", "bittern.example", "avocet.example"][i % 3]));
    }
    out
}

/// A mailing's draft as the API takes it; two subjects make it a trial's.
#[must_use]
pub fn draft(letterhead: i64, subjects: &[&str]) -> Value {
    serde_json::json!({
        "name": "Boat days", "topic_id": null, "letterhead_id": letterhead, "list_id": null, "over_cap": "hold", "subjects": subjects,
        "html": "<p>Dear {{ given_name|default(\"friend\") }}, <a href=\"https://skerry-light.example/boats\">book a boat</a></p><p>{{ postal_address }} <a href=\"{{ unsubscribe_url }}\">Stop</a></p>",
        "text": "Dear {{ given_name|default(\"friend\") }}, https://skerry-light.example/boats\n{{ postal_address }}\n{{ unsubscribe_url }}",
    })
}

/// A letterhead as the API takes it.
#[must_use]
pub fn letterhead() -> Value {
    serde_json::json!({
        "id": 0, "name": "Skerry Light", "from_name": "Skerry Light", "from_address": "letters@skerry-light.example",
        "postal_address": "1 Harbour Steps, Port Skerry", "ground": "#ffffff", "ink": "#17212b", "accent": "#2c3a8f",
    })
}

impl Process {
    /// What time it is there.
    ///
    /// # Panics
    /// When it doesn't answer.
    #[must_use]
    pub fn now(&self) -> i64 {
        self.json("GET", "/api/clock", &Value::Null)["now"].as_i64().expect("an instant")
    }

    /// Moves the demo clock and waits until it has arrived; refused while the last move still ends.
    ///
    /// # Panics
    /// When it never does.
    pub fn advance(&self, hours: i64) {
        let to = self.now() + hours * 3_600_000;
        let body = serde_json::json!({ "hours": hours }).to_string();
        wait_until("the clock moves", || self.http("POST", "/api/clock/advance", body.as_bytes()).0 == 202);
        wait_until("the clock has moved", || self.now() >= to);
    }

    /// Imports a CSV with consent, to text messages too where it has numbers, through the same steps as a person.
    ///
    /// # Panics
    /// When a step is refused.
    pub fn import(&self, csv: &str) {
        let (status, body) = self.http("POST", "/api/imports?name=people.csv", csv.as_bytes());
        let run: Value = serde_json::from_slice(&body).expect("a run");
        assert_eq!(status, 200, "{run}");
        let id = run["id"].as_i64().expect("an id");
        let texts = run["mapping"].as_array().is_some_and(|m| m.iter().any(|column| column == "phone"));
        let decision = serde_json::json!({ "mapping": run["mapping"], "header": run["header"], "list": null, "consent": true, "texts": texts, "evidence": "paper form, clause 4" });
        self.json("POST", &format!("/api/imports/{id}/check"), &decision);
        self.json("POST", &format!("/api/imports/{id}/apply"), &Value::Null);
        wait_until("the import is applied", || self.json("GET", &format!("/api/imports/{id}"), &Value::Null)["run"]["state"] == "applied");
    }
}

/// Waits for a condition, for at most two minutes.
///
/// # Panics
/// When it never holds.
pub fn wait_until(what: &str, mut holds: impl FnMut() -> bool) {
    for _ in 0..2400 {
        if holds() {
            return;
        }
        std::thread::sleep(std::time::Duration::from_millis(50));
    }
    panic!("it never came to be that {what}");
}
