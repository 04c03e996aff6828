//! Messages to other systems by HTTP: signed as webhooks are (`rinse_core::webhook`), answered in time or tried again.

use axum::body::{Bytes, HttpBody};
use axum::http::Request;
use axum::http::request::Builder;
use http_body_util::{BodyExt, Full, Limited};
use hyper_util::client::legacy::Client;
use hyper_util::client::legacy::connect::HttpConnector;
use hyper_util::rt::TokioExecutor;
use rinse_core::Instant;
use rinse_core::webhook::sign;
use std::sync::LazyLock;
use std::time::Duration;

/// A receiver answers within this, or the message is tried again.
const PATIENCE: Duration = Duration::from_secs(10);
/// As much of an answer as is read.
const ANSWER: usize = 4_096;

/// It keeps connections to the receivers between messages.
static CLIENT: LazyLock<Client<HttpConnector, Full<Bytes>>> = LazyLock::new(|| Client::builder(TokioExecutor::new()).build_http());

/// A message, as JSON. The receiver knows it by its number: the same one again is the same message.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Message<'a> {
    pub(crate) url: &'a str,
    pub(crate) secret: &'a [u8],
    pub(crate) id: &'a str,
    pub(crate) body: &'a str,
}

impl Message<'_> {
    /// All but its body.
    pub(crate) fn head(&self, now: Instant) -> Builder {
        let second = now.millis().div_euclid(1_000);
        Request::builder()
            .method("POST")
            .uri(self.url)
            .header("content-type", "application/json")
            .header("webhook-id", self.id)
            .header("webhook-timestamp", second.to_string())
            .header("webhook-signature", sign(self.secret, self.id, second, self.body))
    }

    /// The status and the words of the answer. Redirects aren't followed: they would lead to a host that nobody named.
    pub(crate) async fn post(&self, now: Instant) -> Result<(u16, String), String> {
        let request = self.head(now).body(Full::from(self.body.to_owned())).map_err(|e| e.to_string())?;
        let answer = CLIENT.request(request).await.map_err(|e| format!("no answer: {e}"))?;
        Ok(words_of(answer.status().as_u16(), answer.into_body()).await)
    }
}

/// What an answer says, as far as it is read.
pub(crate) async fn words_of<B>(status: u16, body: B) -> (u16, String)
where
    B: HttpBody,
    B::Error: Into<Box<dyn std::error::Error + Send + Sync>>,
{
    let text = Limited::new(body, ANSWER).collect().await.map(|b| b.to_bytes()).unwrap_or_default();
    (status, String::from_utf8_lossy(&text).trim().to_owned())
}

/// An answer, or that there was none in time.
pub(crate) async fn in_time<T>(answer: impl Future<Output = Result<T, String>>) -> Result<T, String> {
    tokio::time::timeout(PATIENCE, answer).await.unwrap_or_else(|_| Err(format!("no answer within {} seconds", PATIENCE.as_secs())))
}
