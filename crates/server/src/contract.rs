//! What the API's description says of a request's numbers and lists holds before a handler sees them.
//!
//! Ranges stand with the types (`#[schema(minimum, maximum)]`); a number without one of its own gets that of its format here, so that
//! no sum of days or cents can leave its type. The description is made once, and requests are held to that very text (JSON Schema
//! 2020-12, as OpenAPI 3.1 uses it). Only ranges and lengths are judged here: what a body should be made of is said better by its type.

use crate::error::ApiError;
use axum::body::{Body, to_bytes};
use axum::extract::{MatchedPath, Request};
use axum::http::{HeaderMap, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use jsonschema::error::ValidationErrorKind as Kind;
use jsonschema::{ValidationError, Validator};
use serde_json::{Map, Value, json};
use std::collections::{BTreeSet, HashMap};
use std::sync::OnceLock;

/// A JSON document that somebody sends, a pasted list of a million addresses included; more comes as files.
const LONGEST: usize = 32_000_000;
/// As far as JSON's numbers are whole (RFC 8259, section 6).
pub(crate) const WHOLE: i64 = 9_007_199_254_740_991;
/// Far beyond any money, distance or count.
const FRACTIONS: f64 = 1e15;

/// Gives every number without a range that of its format.
pub(crate) fn with_ranges(part: &mut Value) {
    match part {
        Value::Object(o) => {
            range(o);
            o.values_mut().for_each(with_ranges);
        }
        Value::Array(items) => items.iter_mut().for_each(with_ranges),
        _ => {}
    }
}

fn range(schema: &mut Map<String, Value>) {
    let is = |name: &str| match schema.get("type") {
        Some(Value::String(t)) => t == name,
        Some(Value::Array(any)) => any.iter().any(|t| t == name),
        _ => false,
    };
    let (least, most) = match (is("integer"), is("number"), schema.get("format").and_then(Value::as_str)) {
        (true, _, Some("int32")) => (json!(i32::MIN), json!(i32::MAX)),
        (true, ..) => (json!(-WHOLE), json!(WHOLE)),
        (_, true, _) => (json!(-FRACTIONS), json!(FRACTIONS)),
        _ => return,
    };
    schema.entry("minimum").or_insert(least);
    schema.entry("maximum").or_insert(most);
}

/// What one operation is sent.
struct Operation {
    /// Numbers in the path and the query: the name, the first and the last.
    numbers: Vec<(String, f64, f64)>,
    /// The schema of its JSON body, and what checks it once somebody has sent one.
    body: Option<(Value, OnceLock<Option<Validator>>)>,
}

/// The description, ready to hold requests to: each path with its methods.
pub(crate) struct Contract(HashMap<String, HashMap<String, Operation>>);

impl Contract {
    pub(crate) fn of(description: &Value) -> Self {
        let schemas = &description["components"]["schemas"];
        let methods = |all: &Value| {
            all.as_object().into_iter().flatten().map(|(method, o)| (method.to_uppercase(), Operation::of(o, schemas))).collect()
        };
        Self(description["paths"].as_object().into_iter().flatten().map(|(path, all)| (path.clone(), methods(all))).collect())
    }

    fn operation(&self, method: &str, path: &str) -> Option<&Operation> {
        self.0.get(path)?.get(method)
    }

    /// Answers a request that breaks the description; hands on any other.
    pub(crate) async fn hold(&self, template: MatchedPath, request: Request, next: Next) -> Response {
        let Some(operation) = self.operation(request.method().as_str(), template.as_str()) else { return next.run(request).await };
        let uri = request.uri();
        if let Some(words) = operation.in_address(template.as_str(), uri.path(), uri.query().unwrap_or_default()) {
            return ApiError::Malformed(words).into_response();
        }
        if operation.body.is_none() || !is_json(request.headers()) {
            return next.run(request).await;
        }
        let (parts, body) = request.into_parts();
        let body = match to_bytes(body, LONGEST).await {
            Ok(body) => body,
            Err(e) => {
                let words = format!(
                    "It couldn’t be taken whole ({e}). Send at most {} MB as JSON, and longer lists as files.",
                    LONGEST / 1_000_000
                );
                return ApiError::Unreadable(StatusCode::PAYLOAD_TOO_LARGE, words).into_response();
            }
        };
        match operation.in_body(&body) {
            Some(words) => ApiError::Malformed(words).into_response(),
            None => next.run(Request::from_parts(parts, Body::from(body))).await,
        }
    }
}

impl Operation {
    fn of(operation: &Value, schemas: &Value) -> Self {
        let numbers = operation["parameters"].as_array().into_iter().flatten().filter_map(number).collect();
        let schema = operation["requestBody"]["content"]["application/json"].get("schema");
        Self { numbers, body: schema.map(|s| (alone(s, schemas), OnceLock::new())) }
    }

    /// A number of the path or the query outside its range.
    fn in_address(&self, template: &str, path: &str, query: &str) -> Option<String> {
        let named = template.split('/').zip(path.split('/')).filter_map(|(t, p)| {
            let name = t.strip_prefix('{')?.strip_suffix('}')?;
            Some((name.to_owned(), p.to_owned()))
        });
        let asked = url::form_urlencoded::parse(query.as_bytes()).into_owned();
        named.chain(asked).find_map(|(name, value)| {
            let (_, least, most) = self.numbers.iter().find(|(n, ..)| *n == name)?;
            let given: f64 = value.parse().ok()?;
            (!(*least..=*most).contains(&given)).then(|| format!("“{name}” is {value}; it may be from {least} to {most}."))
        })
    }

    /// A number or a list of the body outside its range.
    fn in_body(&self, body: &[u8]) -> Option<String> {
        let (schema, validator) = self.body.as_ref()?;
        let validator = validator.get_or_init(|| jsonschema::draft202012::options().build(schema).ok()).as_ref()?;
        let given: Value = serde_json::from_slice(body).ok()?;
        validator.iter_errors(&given).find_map(|e| outside(&e))
    }
}

/// A parameter that is a number: its name and range.
fn number(parameter: &Value) -> Option<(String, f64, f64)> {
    let schema = &parameter["schema"];
    Some((parameter["name"].as_str()?.to_owned(), schema["minimum"].as_f64()?, schema["maximum"].as_f64()?))
}

/// A schema with those it refers to, and no others.
fn alone(schema: &Value, all: &Value) -> Value {
    let (mut needed, mut found) = (BTreeSet::new(), vec![schema]);
    while let Some(part) = found.pop() {
        match part {
            Value::Object(o) => {
                let named = o.get("$ref").and_then(Value::as_str).and_then(|r| r.strip_prefix("#/components/schemas/"));
                if let Some(name) = named.filter(|name| needed.insert((*name).to_owned())) {
                    found.push(&all[name]);
                }
                found.extend(o.values());
            }
            Value::Array(items) => found.extend(items),
            _ => {}
        }
    }
    let schemas: Map<String, Value> = needed.into_iter().map(|name| (name.clone(), all[&name].clone())).collect();
    json!({ "allOf": [schema], "components": { "schemas": schemas } })
}

/// The sentence about a value outside its range; none when what is wrong is something else.
fn outside(error: &ValidationError<'_>) -> Option<String> {
    match error.kind() {
        Kind::Minimum { limit } => Some(said(error, &format!("is {}; the least is {limit}", error.instance()))),
        Kind::Maximum { limit } => Some(said(error, &format!("is {}; the most is {limit}", error.instance()))),
        Kind::MaxItems { limit } => Some(said(error, &format!("is a list of more than {limit}, which is the most"))),
        Kind::MaxLength { limit } => Some(said(error, &format!("is longer than {limit} characters, which is the most"))),
        // The kind that was meant is the one that has nothing else against it.
        Kind::OneOfNotValid { context } | Kind::AnyOf { context } => {
            context.iter().find_map(|branch| branch.iter().map(outside).collect::<Option<Vec<_>>>()?.into_iter().next())
        }
        _ => None,
    }
}

fn said(error: &ValidationError<'_>, what: &str) -> String {
    let place = error.instance_path().to_string();
    format!("“{}” {what}.", if place.is_empty() { "the whole" } else { place.trim_start_matches('/') })
}

fn is_json(headers: &HeaderMap) -> bool {
    headers.get(header::CONTENT_TYPE).and_then(|t| t.to_str().ok()).is_some_and(|t| t.starts_with("application/json"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn contract() -> Contract {
        let mut description = json!({
            "paths": { "/api/x/{id}": { "post": {
                "parameters": [
                    { "name": "id", "in": "path", "schema": { "type": "integer", "format": "int64", "minimum": 1 } },
                    { "name": "page", "in": "query", "schema": { "type": "integer", "format": "int32", "minimum": 0 } }
                ],
                "requestBody": { "content": { "application/json": { "schema": { "$ref": "#/components/schemas/X" } } } }
            } } },
            "components": { "schemas": {
                "X": { "type": "object", "properties": {
                    "days": { "type": ["integer", "null"], "format": "int64", "maximum": 28 },
                    "ids": { "type": "array", "items": { "type": "integer", "format": "int64" }, "maxItems": 2 },
                    "tree": { "$ref": "#/components/schemas/Tree" }
                } },
                "Tree": { "oneOf": [
                    { "type": "object", "required": ["kind", "of"], "properties": {
                        "kind": { "const": "all" }, "of": { "type": "array", "items": { "$ref": "#/components/schemas/Tree" } } } },
                    { "type": "object", "required": ["kind", "share"], "properties": {
                        "kind": { "const": "share" }, "share": { "type": "number", "format": "double", "minimum": 0, "maximum": 100 } } }
                ] }
            } }
        });
        with_ranges(&mut description);
        Contract::of(&description)
    }

    #[rstest]
    #[case::within(r#"{"days":28,"ids":[1,2],"tree":{"kind":"all","of":[{"kind":"share","share":5}]}}"#, None)]
    #[case::nothing(r#"{"days":null}"#, None)]
    #[case::own(r#"{"days":29}"#, Some("“days” is 29; the most is 28."))]
    #[case::of_the_format(r#"{"ids":[9223372036854775807]}"#, Some("“ids/0” is 9223372036854775807; the most is 9007199254740991."))]
    #[case::list(r#"{"ids":[1,2,3]}"#, Some("“ids” is a list of more than 2, which is the most."))]
    #[case::in_a_tree(r#"{"tree":{"kind":"all","of":[{"kind":"share","share":500}]}}"#, Some("“tree/of/0/share” is 500; the most is 100."))]
    // Its type says these better.
    #[case::another_kind(r#"{"tree":{"kind":"any"}}"#, None)]
    #[case::words(r#"{"days":"many"}"#, None)]
    #[case::no_json("{", None)]
    fn bodies(#[case] body: &str, #[case] wanted: Option<&str>) {
        let contract = contract();
        let operation = contract.operation("POST", "/api/x/{id}").unwrap();
        assert_eq!(operation.in_body(body.as_bytes()).as_deref(), wanted);
    }

    #[rstest]
    #[case::within("/api/x/7", "page=3&page_of=-1", None)]
    #[case::path("/api/x/0", "", Some("“id” is 0; it may be from 1 to 9007199254740991."))]
    #[case::query("/api/x/7", "page=4294967295", Some("“page” is 4294967295; it may be from 0 to 2147483647."))]
    #[case::words("/api/x/seven", "page=", None)]
    fn addresses(#[case] path: &str, #[case] query: &str, #[case] wanted: Option<&str>) {
        let contract = contract();
        let operation = contract.operation("POST", "/api/x/{id}").unwrap();
        assert_eq!(operation.in_address("/api/x/{id}", path, query).as_deref(), wanted);
    }
}
