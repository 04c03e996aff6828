//! Every operation answers as the API's description says, whatever it is asked within that description or at its edges: never by
//! failing, never with a body or a kind of body that isn't described.

use crate::inside::Inside;
use axum::body::Body;
use axum::http::Request;
use http_body_util::BodyExt;
use rinse_testkit::draft;
use rstest::rstest;
use serde_json::{Map, Value, json};
use tower::ServiceExt;

/// What moves the clock for months, or waits for hosts that aren't there.
const LEFT_OUT: [&str; 3] = ["/api/clock/advance", "/api/message-test", "/api/webhooks/{id}/test"];
const ROUNDS: u64 = 6;

/// Values by a schema, the same for the same seed (SplitMix64).
struct Makes<'a> {
    schemas: &'a Value,
    seed: u64,
}

impl Makes<'_> {
    fn draw(&mut self, n: usize) -> usize {
        self.seed = self.seed.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let z = (self.seed ^ (self.seed >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        let z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        usize::try_from((z ^ (z >> 31)) % n as u64).unwrap()
    }

    fn one_of<'v>(&mut self, values: &'v [Value]) -> &'v Value {
        &values[self.draw(values.len())]
    }

    fn value(&mut self, schema: &Value, depth: usize) -> Value {
        if let Some(name) = schema["$ref"].as_str().and_then(|r| r.strip_prefix("#/components/schemas/")) {
            let schemas = self.schemas;
            return self.value(&schemas[name], depth);
        }
        if let Some(fixed) = schema.get("const") {
            return fixed.clone();
        }
        if let Some(values) = schema["enum"].as_array() {
            return self.one_of(values).clone();
        }
        if let Some(kinds) = schema["oneOf"].as_array().or(schema["anyOf"].as_array()) {
            // Deep down the simplest kinds, so that trees end.
            let kind = if depth > 5 { &kinds[kinds.len() - 1] } else { self.one_of(kinds) };
            return self.value(&kind.clone(), depth + 1);
        }
        if let Some(parts) = schema["allOf"].as_array() {
            let mut whole = Map::new();
            for part in parts {
                whole.extend(self.value(part, depth + 1).as_object().cloned().unwrap_or_default());
            }
            return Value::Object(whole);
        }
        let kind = match &schema["type"] {
            Value::Array(any) => self.one_of(any).clone(),
            one => one.clone(),
        };
        match kind.as_str() {
            Some("object") => self.object(schema, depth),
            Some("array") => {
                let n = if depth > 5 { 0 } else { self.draw(3) };
                Value::Array((0..n).map(|_| self.value(&schema["items"], depth + 1)).collect())
            }
            Some("integer") => self.one_of(&[json!(1), json!(2), schema["minimum"].clone(), schema["maximum"].clone(), json!(30)]).clone(),
            Some("number") => self.one_of(&[json!(0.05), json!(1), schema["minimum"].clone(), schema["maximum"].clone()]).clone(),
            Some("boolean") => json!(self.draw(2) == 0),
            Some("string") => self
                .one_of(&[
                    json!("Boats"),
                    json!(""),
                    json!("wren@tern.example"),
                    json!("{{ given_name }} 𝄞 ’"),
                    json!("x".repeat(3_000)),
                    json!("\u{0}\r\n"),
                ])
                .clone(),
            _ => Value::Null,
        }
    }

    fn object(&mut self, schema: &Value, depth: usize) -> Value {
        let needed: Vec<&str> = schema["required"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
        let mut made = Map::new();
        for (name, of) in schema["properties"].as_object().into_iter().flatten() {
            if needed.contains(&name.as_str()) || self.draw(3) == 0 {
                made.insert(name.clone(), self.value(of, depth + 1));
            }
        }
        Value::Object(made)
    }
}

/// A request of an operation; None when something in its address can't be written there.
fn request(makes: &mut Makes<'_>, path: &str, method: &str, operation: &Value) -> Option<Request<Body>> {
    let (mut path, mut query) = (path.to_owned(), Vec::new());
    for p in operation["parameters"].as_array().into_iter().flatten() {
        let name = p["name"].as_str()?;
        let given = match makes.value(&p["schema"], 0) {
            Value::String(s) => s,
            Value::Null => continue,
            other => other.to_string(),
        };
        let given: String = url::form_urlencoded::byte_serialize(given.as_bytes()).collect();
        match p["in"].as_str()? {
            "path" => path = path.replace(&format!("{{{name}}}"), if given.is_empty() { "1" } else { &given }),
            "query" => query.push(format!("{name}={given}")),
            _ => {}
        }
    }
    let body = match operation["requestBody"]["content"].as_object().and_then(|c| c.iter().next()) {
        Some((kind, of)) if kind == "application/json" => (kind.as_str(), makes.value(&of["schema"], 0).to_string()),
        Some((kind, _)) => (kind.as_str(), "email\nwren@tern.example\n".to_owned()),
        None => ("application/json", String::new()),
    };
    Request::builder()
        .method(method.to_uppercase().as_str())
        .uri(format!("{path}?{}", query.join("&")))
        .header("host", "127.0.0.1")
        .header("x-acting-person", "3")
        .header("content-type", body.0)
        .body(Body::from(body.1))
        .ok()
}

/// What is wrong with an answer.
async fn fault(answer: axum::response::Response, operation: &Value, schemas: &Value) -> Option<String> {
    let status = answer.status();
    let kind = answer.headers().get("content-type").map(|t| t.to_str().unwrap().split(';').next().unwrap().to_owned()).unwrap_or_default();
    let body = answer.into_body().collect().await.unwrap().to_bytes();
    let words = String::from_utf8_lossy(&body[..body.len().min(400)]).into_owned();
    let responses = &operation["responses"];
    let described = responses.get(status.as_str()).unwrap_or(if status.is_success() { &Value::Null } else { &responses["default"] });
    if status.is_server_error() || described.is_null() {
        return Some(format!("{status} {words}"));
    }
    let Some(content) = described["content"].as_object() else {
        return (!body.is_empty()).then(|| format!("{status} has a body: {words}"));
    };
    let Some(of) = content.get(&kind) else { return Some(format!("{status} as {kind}: {words}")) };
    if !kind.ends_with("json") {
        return None;
    }
    let schema = json!({ "allOf": [of["schema"]], "components": { "schemas": schemas } });
    let validator = jsonschema::draft202012::new(&schema).unwrap();
    let given: Value = serde_json::from_slice(&body).unwrap();
    validator.iter_errors(&given).next().map(|e| format!("{status} {}: {e}", e.instance_path()))
}

/// `part`: of the operations, so that they run beside each other.
#[rstest]
#[tokio::test(flavor = "multi_thread")]
async fn operations_answer_as_they_are_described(#[values(0, 1, 2, 3)] part: usize) {
    let description = rinse_server::openapi();
    let schemas = &description["components"]["schemas"];
    let s = Inside::one_message().await;
    s.ok("POST", "/api/mailings", &draft(1, &["Boats", "Gulls"])).await;
    for word in ["list", "tag", "label"] {
        s.ok("POST", "/api/words", &json!({ "word": word, "name": "Boats" })).await;
    }
    s.ok("POST", "/api/segments", &json!({ "name": "Boats", "tree": { "kind": "list", "list": 1 } })).await;
    let operations: Vec<(&String, &String, &Value)> = description["paths"]
        .as_object()
        .unwrap()
        .iter()
        .filter(|(path, _)| !LEFT_OUT.contains(&path.as_str()))
        .flat_map(|(path, methods)| methods.as_object().unwrap().iter().map(move |(method, o)| (path, method, o)))
        .collect();
    assert!(operations.len() > 150, "{}", operations.len());
    let (mut wrong, mut done) = (Vec::new(), 0);
    for (i, (path, method, operation)) in operations.into_iter().enumerate().filter(|(i, _)| i % 4 == part) {
        for round in 0..ROUNDS {
            let mut makes = Makes { schemas, seed: i as u64 * 1_000 + round };
            let Some(request) = request(&mut makes, path, method, operation) else { continue };
            let asked = format!("{method} {}", request.uri());
            let answer = s.routes().oneshot(request).await.unwrap();
            done += usize::from(answer.status().is_success());
            if let Some(fault) = fault(answer, operation, schemas).await {
                wrong.push(format!("{asked}: {fault}"));
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    assert!(done > 60, "only {done} of {} were such that something was done", 45 * ROUNDS);
}
