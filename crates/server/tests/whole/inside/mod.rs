//! The real router and engine in process, on a data folder of its own, with the stand-in network.

pub(crate) mod trial;

use axum::Router;
use axum::body::Body;
use axum::http::{Request, StatusCode, header};
use http_body_util::BodyExt;
use rinse_core::Instant;
use rinse_core::token::Signer;
use rinse_server::{App, Config, Mode, router};
use rinse_testkit::{draft, letterhead};
use rusqlite::Connection;
use serde_json::{Value, json};
use tempfile::TempDir;
use tower::ServiceExt;

/// Rinse by the machine's clock, serving: its folder, its routes, and where it is reached.
pub(crate) async fn by_the_machines_clock(mode: Mode) -> (TempDir, Router, String) {
    let folder = tempfile::tempdir().unwrap();
    let config = Config {
        data: folder.path().to_owned(),
        base_url: "http://127.0.0.1:9".into(),
        mode,
        durable: true,
        memory: rinse_server::USUAL_BUDGET,
    };
    let app = App::open(&config).await.unwrap();
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap().to_string();
    let routes = router(app.clone());
    app.start();
    let served = routes.clone();
    tokio::spawn(async move { axum::serve(listener, served).await });
    (folder, routes, address)
}

/// An open by a mail program of somebody's.
pub(crate) fn opened(at: Instant) -> rinse_store::responses::Came {
    rinse_store::responses::Came { link: None, at, agent: "Mozilla/5.0".into(), from: None, head: false }
}

pub(crate) struct Inside {
    pub(crate) app: App,
    folder: TempDir,
    routes: Router,
    pub(crate) signer: Signer,
}

impl Inside {
    /// An empty base and one letterhead.
    pub(crate) async fn new() -> Self {
        Self::holding(rinse_server::USUAL_BUDGET).await
    }

    /// The same, with so many megabytes that may be held in memory.
    pub(crate) async fn holding(memory: u32) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let mode = Mode::Demo { start: Instant::of(1_776_364_800_000) };
        let app =
            App::open(&Config { data: folder.path().to_owned(), base_url: "http://rinse.example".into(), mode, durable: false, memory })
                .await
                .unwrap();
        let routes = router(app.clone());
        let db = Connection::open(folder.path().join("rinse.db")).unwrap();
        let key: Vec<u8> = db.query_row("SELECT key FROM signing_key", [], |r| r.get(0)).unwrap();
        let inside = Self { app, signer: Signer::new(&key), folder, routes };
        inside.ok("POST", "/api/letterheads", &letterhead()).await;
        inside
    }

    /// One person who got one message (send 1), by the API as a person would do it.
    pub(crate) async fn one_message() -> Self {
        let s = Self::new().await;
        s.import("email\nwren@tern.example\n").await;
        s.ok("POST", "/api/mailings", &draft(1, &["Boats"])).await;
        s.ok("POST", "/api/mailings/1/plan", &json!({ "at": null })).await;
        assert_eq!(s.count("SELECT count(*) FROM send WHERE state = 3"), 1);
        s
    }

    /// Imports a CSV with consent.
    pub(crate) async fn import(&self, csv: &str) {
        let (status, run) = self.api("POST", "/api/imports?name=p.csv", csv).await;
        let run: Value = serde_json::from_str(&run).unwrap();
        assert_eq!(status, StatusCode::OK, "{run}");
        let id = run["id"].as_i64().unwrap();
        let decision = json!({ "mapping": run["mapping"], "header": true, "list": null, "consent": true, "evidence": "paper form" });
        self.ok("POST", &format!("/api/imports/{id}/check"), &decision).await;
        self.ok("POST", &format!("/api/imports/{id}/apply"), &Value::Null).await;
        while self.count(&format!("SELECT count(*) FROM import_run WHERE state = 'applied' AND id = {id}")) == 0 {
            tokio::task::yield_now().await;
        }
    }

    /// Moves the demo clock and waits until it has arrived.
    pub(crate) async fn advance(&self, hours: i64) {
        let to = self.ok("GET", "/api/clock", &Value::Null).await["now"].as_i64().unwrap() + hours * 3_600_000;
        loop {
            // Refused while the last move still ends.
            let (status, words) = self.api("POST", "/api/clock/advance", &json!({ "hours": hours }).to_string()).await;
            match status {
                StatusCode::ACCEPTED => break,
                StatusCode::CONFLICT => tokio::task::yield_now().await,
                _ => panic!("{words}"),
            }
        }
        while self.ok("GET", "/api/clock", &Value::Null).await["now"].as_i64().unwrap() < to {
            tokio::task::yield_now().await;
        }
    }

    pub(crate) fn routes(&self) -> Router {
        self.routes.clone()
    }

    pub(crate) fn folder(&self) -> &std::path::Path {
        self.folder.path()
    }

    pub(crate) fn db(&self) -> Connection {
        let db = Connection::open(self.folder.path().join("rinse.db")).unwrap();
        db.busy_timeout(std::time::Duration::from_secs(20)).unwrap();
        db
    }

    pub(crate) fn count(&self, sql: &str) -> i64 {
        self.db().query_row(sql, [], |r| r.get(0)).unwrap()
    }

    /// Sends a request; the answer's status, body and place.
    pub(crate) async fn ask(&self, request: Request<Body>) -> (StatusCode, String, String) {
        let answer = self.routes.clone().oneshot(request).await.unwrap();
        let place = answer.headers().get(header::LOCATION).map(|v| v.to_str().unwrap().to_owned()).unwrap_or_default();
        let (status, body) = (answer.status(), answer.into_body().collect().await.unwrap().to_bytes());
        (status, String::from_utf8_lossy(&body).into_owned(), place)
    }

    /// Asks the API as the first person, an analyst.
    pub(crate) async fn api(&self, method: &str, path: &str, body: &str) -> (StatusCode, String) {
        self.api_as("1", method, path, body).await
    }

    /// Asks the API as somebody.
    pub(crate) async fn api_as(&self, who: &str, method: &str, path: &str, body: &str) -> (StatusCode, String) {
        let request = Request::builder()
            .method(method)
            .uri(path)
            .header("host", "localhost")
            .header("x-acting-person", who)
            .header("content-type", "application/json");
        let (status, words, _) = self.ask(request.body(Body::from(body.to_owned())).unwrap()).await;
        (status, words)
    }

    /// The bytes of a file the API gives.
    pub(crate) async fn file(&self, path: &str) -> Vec<u8> {
        let request = Request::builder().uri(path).header("host", "localhost").body(Body::empty()).unwrap();
        let answer = self.routes.clone().oneshot(request).await.unwrap();
        assert_eq!(answer.status(), StatusCode::OK, "{path}");
        answer.into_body().collect().await.unwrap().to_bytes().to_vec()
    }

    /// Asks the API for something that must work.
    pub(crate) async fn ok(&self, method: &str, path: &str, body: &Value) -> Value {
        let text = if body.is_null() { String::new() } else { body.to_string() };
        let (status, words) = self.api(method, path, &text).await;
        assert!(status.is_success(), "{method} {path}: {status} {words}");
        serde_json::from_str(&words).unwrap_or(Value::Null)
    }

    /// Knocks at a public door.
    pub(crate) async fn door(&self, method: &str, path: &str, body: &str) -> (StatusCode, String, String) {
        let request = Request::builder().method(method).uri(path).header("user-agent", "Reader/5.1");
        self.ask(request.body(Body::from(body.to_owned())).unwrap()).await
    }

    /// One header of a page's answer.
    pub(crate) async fn header(&self, path: &str, name: &str) -> String {
        let answer = self.routes.clone().oneshot(Request::builder().uri(path).body(Body::empty()).unwrap()).await.unwrap();
        answer.headers().get(name).map(|v| v.to_str().unwrap().to_owned()).unwrap_or_default()
    }

    pub(crate) async fn mail(&self, to: &str, raw: &str) -> StatusCode {
        let made = self.ok("POST", "/api/doors", &json!({ "name": "relay" })).await;
        let path = made["url"].as_str().unwrap().rsplit_once("/in/").unwrap().1;
        let request = Request::builder().method("POST").uri(format!("/in/{path}")).header("x-envelope-to", to);
        self.ask(request.body(Body::from(raw.to_owned())).unwrap()).await.0
    }
}
