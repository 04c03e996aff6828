//! All routes in one place, with what holds for every one of them.

use crate::contract::{Contract, WHOLE, with_ranges};
use crate::error::ApiError;
use crate::handlers::{
    addresses, base_check, changes, clearance, consent, contacts, course, delivery, domains, doors, evidence, findings, goals, guides,
    history, hour_trials, imports, letterheads, machines, mailings, messages, people, reactions, readings, record_system, rules, scores,
    segments, series, silence, suppression, team, today, trials, upkeep, webhooks,
};
use crate::keeping;
use crate::listen::forwarded_by_any;
use crate::state::App;
use crate::{assets, public};
use axum::Router;
use axum::extract::{DefaultBodyLimit, MatchedPath, Request, State};
use axum::http::{HeaderValue, Method, StatusCode, header};
use axum::middleware::{Next, from_fn, from_fn_with_state};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use std::sync::LazyLock;
use std::time::Duration;
use tower_http::catch_panic::CatchPanicLayer;
use tower_http::compression::CompressionLayer;
use tower_http::set_header::SetResponseHeaderLayer;
use tower_http::timeout::{RequestBodyTimeoutLayer, TimeoutLayer};
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

#[derive(OpenApi)]
#[openapi(
    info(title = "Rinse", description = "Errors are RFC 9457 problem documents. Instants are UTC milliseconds."),
    components(schemas(rinse_store::contacts::Sort, crate::error::Problem))
)]
struct Doc;

fn api() -> OpenApiRouter<App> {
    OpenApiRouter::with_openapi(Doc::openapi())
        .routes(routes!(today::workline))
        .routes(routes!(team::all, team::add))
        .routes(routes!(team::change))
        .routes(routes!(today::clock))
        .routes(routes!(crate::handlers::memory::memory))
        .routes(routes!(today::advance))
        .routes(routes!(today::progress))
        .routes(routes!(today::today))
        .routes(routes!(today::first))
        .routes(routes!(today::decide_doubt))
        .routes(routes!(today::settle))
        .routes(routes!(contacts::page, people::add))
        .routes(routes!(contacts::one, people::change, people::erase))
        .routes(routes!(people::change_phone))
        .routes(routes!(people::merge))
        .routes(routes!(people::events))
        .routes(routes!(contacts::put))
        .routes(routes!(base_check::all))
        .routes(routes!(base_check::rows))
        .routes(routes!(base_check::fix))
        .routes(routes!(base_check::aside))
        .routes(routes!(base_check::save_disposable))
        .routes(routes!(changes::all))
        .routes(routes!(changes::one))
        .routes(routes!(changes::undo))
        .routes(routes!(people::purchases))
        .routes(routes!(segments::all, segments::make))
        .routes(routes!(segments::look))
        .routes(routes!(segments::split))
        .routes(routes!(segments::overlap))
        .routes(routes!(segments::why))
        .routes(routes!(segments::one, segments::change, segments::delete))
        .routes(routes!(segments::freeze))
        .routes(routes!(segments::outside))
        .routes(routes!(guides::cap_guide))
        .routes(routes!(guides::recency, guides::save_costs))
        .routes(routes!(guides::sources))
        .routes(routes!(guides::growth))
        .routes(routes!(segments::vocabulary))
        .routes(routes!(segments::make_field))
        .routes(routes!(segments::words, segments::make_word))
        .routes(routes!(segments::change_word))
        .routes(routes!(segments::delete_word))
        .routes(routes!(segments::word_used_by))
        .routes(routes!(segments::members))
        .routes(routes!(contacts::by_ids))
        .routes(routes!(contacts::lists))
        .routes(routes!(contacts::topics, consent::make_topic))
        .routes(routes!(history::all))
        .routes(routes!(history::one))
        .routes(routes!(history::check))
        .routes(routes!(history::apply))
        .routes(routes!(history::stop))
        .routes(routes!(history::undo))
        .routes(routes!(history::outside))
        .routes(routes!(history::of_mailing))
        .routes(routes!(history::lists))
        .routes(routes!(history::list))
        .routes(routes!(imports::runs))
        .routes(routes!(imports::preview))
        .routes(routes!(imports::shape))
        .routes(routes!(imports::check))
        .routes(routes!(imports::apply))
        .routes(routes!(imports::cancel))
        .routes(routes!(rules::current, rules::save))
        .routes(routes!(rules::versions))
        .routes(routes!(rules::preview))
        .routes(routes!(domains::all))
        .routes(routes!(domains::pause))
        .routes(routes!(domains::resume))
        .routes(routes!(suppression::all, suppression::make))
        .routes(routes!(suppression::near_misses, suppression::decide))
        .routes(routes!(suppression::preview))
        .routes(routes!(suppression::preview_rule))
        .routes(routes!(suppression::without))
        .routes(routes!(suppression::one, suppression::end))
        .routes(routes!(suppression::add))
        .routes(routes!(suppression::take_off))
        .routes(routes!(suppression::looked_over))
        .routes(routes!(addresses::clear))
        .routes(routes!(addresses::list))
        .routes(routes!(addresses::told, addresses::tell))
        .routes(routes!(clearance::ask))
        .routes(routes!(clearance::decisions))
        .routes(routes!(clearance::forecast_of))
        .routes(routes!(clearance::replan))
        .routes(routes!(clearance::sluice))
        .routes(routes!(clearance::hosts))
        .routes(routes!(clearance::step))
        .routes(routes!(consent::view))
        .routes(routes!(consent::sign_up))
        .routes(routes!(consent::faring))
        .routes(routes!(consent::seals))
        .routes(routes!(consent::holdout))
        .routes(routes!(goals::all, goals::save))
        .routes(routes!(goals::delete))
        .routes(routes!(goals::attribution, goals::attribute))
        .routes(routes!(goals::of_mailing))
        .routes(routes!(reactions::all, reactions::save))
        .routes(routes!(reactions::one, reactions::end))
        .routes(routes!(reactions::switch))
        .routes(routes!(reactions::tasks))
        .routes(routes!(reactions::settle))
        .routes(routes!(scores::all, scores::save))
        .routes(routes!(scores::delete))
        .routes(routes!(scores::leaders))
        .routes(routes!(scores::try_out))
        .routes(routes!(scores::give))
        .routes(routes!(scores::of_contact))
        .routes(routes!(series::all, series::make))
        .routes(routes!(series::starters))
        .routes(routes!(series::one, series::save, series::end))
        .routes(routes!(series::effects))
        .routes(routes!(series::start))
        .routes(routes!(series::pause))
        .routes(routes!(series::people, series::put_in))
        .routes(routes!(series::take_out))
        .routes(routes!(series::of_contact))
        .routes(routes!(doors::all, doors::make))
        .routes(routes!(doors::end))
        .routes(routes!(webhooks::all, webhooks::make))
        .routes(routes!(webhooks::end))
        .routes(routes!(webhooks::secret))
        .routes(routes!(webhooks::test))
        .routes(routes!(webhooks::log))
        .routes(routes!(webhooks::again))
        .routes(routes!(mailings::all, mailings::make))
        .routes(routes!(mailings::one, mailings::save))
        .routes(routes!(mailings::links_of))
        .routes(routes!(mailings::rename_link))
        .routes(routes!(mailings::replies))
        .routes(routes!(mailings::copy))
        .routes(routes!(mailings::archive))
        .routes(routes!(mailings::companion))
        .routes(routes!(mailings::labelled))
        .routes(routes!(mailings::put_labels))
        .routes(routes!(mailings::beside))
        .routes(routes!(course::look))
        .routes(routes!(course::plan))
        .routes(routes!(course::pause))
        .routes(routes!(course::resume))
        .routes(routes!(course::cancel))
        .routes(routes!(course::way))
        .routes(routes!(course::calendar))
        .routes(routes!(messages::check))
        .routes(routes!(messages::preview))
        .routes(routes!(messages::try_out))
        .routes(routes!(messages::placeholders))
        .routes(routes!(messages::all_parts, messages::save_part))
        .routes(routes!(messages::delete_part))
        .routes(routes!(messages::all_images))
        .routes(routes!(letterheads::all, letterheads::save))
        .routes(routes!(letterheads::reach))
        .routes(routes!(letterheads::keys, letterheads::make_key))
        .routes(routes!(letterheads::end_key))
        .routes(routes!(letterheads::publish))
        .routes(routes!(trials::all))
        .routes(routes!(trials::outside))
        .routes(routes!(trials::learned))
        .routes(routes!(trials::one))
        .routes(routes!(trials::starting_plan, trials::save_plan))
        .routes(routes!(trials::outlook))
        .routes(routes!(trials::rehearse))
        .routes(routes!(trials::course))
        .routes(routes!(trials::open))
        .routes(routes!(trials::seal, trials::seal_holds))
        .routes(routes!(trials::release))
        .routes(routes!(trials::stretch))
        .routes(routes!(trials::end_enrolment))
        .routes(routes!(hour_trials::all, hour_trials::make))
        .routes(routes!(hour_trials::one, hour_trials::change, hour_trials::remove))
        .routes(routes!(hour_trials::outlook))
        .routes(routes!(hour_trials::rehearse))
        .routes(routes!(hour_trials::seal, hour_trials::seal_holds))
        .routes(routes!(hour_trials::end))
        .routes(routes!(hour_trials::confirming))
        .routes(routes!(hour_trials::confirming_own))
        .routes(routes!(hour_trials::learned))
        .routes(routes!(hour_trials::learned_own))
        .routes(routes!(findings::all))
        .routes(routes!(findings::by::by))
        .routes(routes!(findings::by::one_mailing))
        .routes(routes!(findings::compare::compare))
        .routes(routes!(findings::compare::when_answered))
        .routes(routes!(findings::views::all, findings::views::save))
        .routes(routes!(findings::views::delete))
        .routes(routes!(findings::views::letters_of, findings::views::set_letters))
        .routes(routes!(findings::revenue::brought))
        .routes(routes!(findings::cohorts::told))
        .routes(routes!(findings::done::told))
        .routes(routes!(findings::links::over_mailings))
        .routes(routes!(delivery::front))
        .routes(routes!(delivery::reports::reports_in, delivery::reports::take))
        .routes(routes!(delivery::alerts::all))
        .routes(routes!(delivery::alerts::end))
        .routes(routes!(delivery::alerts::rule, delivery::alerts::set_rule))
        .routes(routes!(delivery::alerts::groups))
        .routes(routes!(delivery::alerts::say))
        .routes(routes!(delivery::alerts::resume))
        .routes(routes!(delivery::warm_up::all, delivery::warm_up::begin))
        .routes(routes!(delivery::warm_up::change))
        .routes(routes!(delivery::warm_up::end))
        .routes(routes!(delivery::names::all))
        .routes(routes!(delivery::panel::all, delivery::panel::add))
        .routes(routes!(delivery::panel::remove))
        .routes(routes!(delivery::names::look))
        .routes(routes!(delivery::names::set_addresses))
        .routes(routes!(delivery::names::add_list))
        .routes(routes!(delivery::names::remove_list))
        .routes(routes!(upkeep::front))
        .routes(routes!(upkeep::people))
        .routes(routes!(upkeep::all_incidents))
        .routes(routes!(upkeep::decide))
        .routes(routes!(upkeep::policy_page, upkeep::propose_policy))
        .routes(routes!(upkeep::all_runs, upkeep::propose))
        .routes(routes!(upkeep::said))
        .routes(routes!(readings::all, readings::put_in_force))
        .routes(routes!(readings::try_on))
        .routes(routes!(readings::end))
        .routes(routes!(upkeep::schedule, upkeep::set_schedule))
        .routes(routes!(upkeep::one_run))
        .routes(routes!(upkeep::members))
        .routes(routes!(upkeep::take_out))
        .routes(routes!(upkeep::drop_run))
        .routes(routes!(upkeep::apply))
        .routes(routes!(upkeep::undo))
        .routes(routes!(machines::page, machines::put_in_force))
        .routes(routes!(machines::come_from))
        .routes(routes!(machines::try_on))
        .routes(routes!(silence::view))
        .routes(routes!(silence::people))
        .routes(routes!(silence::asks))
        .routes(routes!(evidence::view))
        .routes(routes!(evidence::marks))
        .routes(routes!(evidence::add_note))
        .routes(routes!(evidence::remove_note))
        .routes(routes!(record_system::view))
        .routes(routes!(record_system::handed))
        .routes(routes!(record_system::tell))
        .routes(routes!(guides::mail_load))
}

/// The door that other senders tell events by stands with the public pages, and belongs to the description all the same.
#[derive(OpenApi)]
#[openapi(paths(public::events::take))]
struct Doors;

fn doc() -> utoipa::openapi::OpenApi {
    api().split_for_parts().1.merge_from(Doors::openapi())
}

/// The API's description, as `rinse openapi` prints it and the front end's types are made from.
#[must_use]
pub fn openapi() -> serde_json::Value {
    let mut doc = serde_json::to_value(doc()).unwrap_or_default();
    // The handlers' short names are no operation ids: those must be unique, and paths are already.
    for path in doc["paths"].as_object_mut().into_iter().flat_map(|p| p.values_mut()) {
        for (method, operation) in path.as_object_mut().into_iter().flatten() {
            let Some(operation) = operation.as_object_mut() else { continue };
            operation.remove("operationId");
            described(method, operation);
        }
    }
    with_ranges(&mut doc);
    doc
}

/// What requests are held to.
static CONTRACT: LazyLock<Contract> = LazyLock::new(|| Contract::of(&openapi()));

/// What holds for every operation: how it says no, who acts, and that a number in its path is one that there can be.
fn described(method: &str, operation: &mut serde_json::Map<String, serde_json::Value>) {
    use serde_json::json;
    let problem = json!({
        "description": "It is refused, or failed: what happened and what to do.",
        "content": { "application/problem+json": { "schema": { "$ref": "#/components/schemas/Problem" } } }
    });
    // Single values are JSON, too; doors say no in plain sentences.
    let answers = operation["responses"].as_object_mut().into_iter().flatten().filter(|(status, _)| status.starts_with('2'));
    for (_, answer) in answers {
        if let Some(content) = answer.get_mut("content").and_then(|c| c.as_object_mut())
            && let Some(plain) = content.remove("text/plain")
        {
            content.insert("application/json".into(), plain);
        }
    }
    operation["responses"]["default"] = problem;
    let parameters = operation.entry("parameters").or_insert_with(|| json!([]));
    let Some(parameters) = parameters.as_array_mut() else { return };
    for p in parameters.iter_mut().filter(|p| p["in"] == "path" && p["schema"]["type"] == "integer") {
        p["schema"]["minimum"] = json!(1);
        p["schema"]["maximum"] = json!(WHOLE);
    }
    if method != "get" {
        parameters.push(json!({
            "name": "x-acting-person", "in": "header", "required": false, "description": "Who makes the change: a number of `/api/people`. Without it nothing is changed.",
            "schema": { "type": "integer", "minimum": 1, "maximum": 1_000_000 }
        }));
    }
}

/// No request to the API is answered later than this …
const API_PATIENCE: Duration = Duration::from_secs(120);
/// … and none to a public page.
const PUBLIC_PATIENCE: Duration = Duration::from_secs(20);
/// A body comes in pieces that are no further apart.
const BODY_PATIENCE: Duration = Duration::from_secs(20);

/// The whole application on one listener.
pub fn router(app: App) -> Router {
    dressed(own(app.clone()).merge(doors(app)).fallback(assets::serve))
}

/// The application's own pages and API, for this machine alone: the public pages are elsewhere.
pub fn own_router(app: App) -> Router {
    dressed(own(app).fallback(assets::serve))
}

/// The public pages, for everybody.
pub fn public_router(app: App) -> Router {
    dressed(doors(app).fallback(async || StatusCode::NOT_FOUND))
}

fn doors(app: App) -> Router {
    public::router(app).layer(TimeoutLayer::with_status_code(StatusCode::SERVICE_UNAVAILABLE, PUBLIC_PATIENCE))
}

fn own(app: App) -> Router {
    app.engine.set_doors(public::within(app.clone()));
    let (api, _) = api().split_for_parts();
    api.route("/api/imports", axum::routing::post(imports::upload))
        .route("/api/history", axum::routing::post(history::upload))
        .route("/api/history/{id}/refused.csv", get(history::refused))
        .route("/api/imports/{id}/refused.csv", get(imports::refused))
        .route("/api/imports/{id}/findings.csv", get(imports::findings))
        .route("/api/message.eml", axum::routing::post(messages::eml))
        .route("/api/images", axum::routing::post(messages::upload_image))
        .route("/api/mailings/{id}/drawn", get(messages::drawn))
        .route("/api/calendar.ics", get(course::ics))
        .route("/api/base-check/{finding}/people.csv", get(base_check::csv))
        .route("/api/mailings/{id}/sluice/{step}/people.csv", get(clearance::step_csv))
        .route("/api/findings/{mailing}/{figure}", get(findings::rows_csv))
        .route("/api/reactions/{id}/people.csv", get(reactions::csv))
        .route("/api/series/{id}/people.csv", get(series::csv))
        .route("/api/contacts/people.csv", get(contacts::csv))
        .route("/api/contacts/{id}/record.json", get(people::record))
        .route("/api/segments/{id}/people.csv", get(segments::people_csv))
        .route("/api/findings/by.csv", get(findings::by::by_csv))
        .route("/api/findings/page.pdf", get(findings::by::pdf))
        .route("/api/upkeep/people.csv", get(upkeep::people_csv))
        .route("/api/upkeep/evidence.zip", get(evidence::pack))
        .route("/api/upkeep/evidence.pdf", get(evidence::pdf))
        .route("/api/upkeep/silent/people.csv", get(silence::people_csv))
        .route("/api/upkeep/record-system/lines.csv", get(record_system::lines_csv))
        .route("/api/upkeep/runs/{id}/people.csv", get(upkeep::members_csv))
        .route("/api/workline/{figure}", get(findings::workline_csv))
        .route("/api/trials/{id}/record.zip", get(trials::record))
        .route("/api/hour-trials/{id}/record.zip", get(hour_trials::record))
        .route("/api/progress/stream", get(today::follow))
        .route(crate::engine::RECORDS, get(public::records))
        .layer(DefaultBodyLimit::max(64_000_000))
        .layer(from_fn(|template: MatchedPath, request: Request, next: Next| CONTRACT.hold(template, request, next)))
        .layer(from_fn_with_state(app.clone(), keeping::keep))
        .layer(from_fn_with_state(app.clone(), guard))
        // Around the guard, so that only who waits is told: a change goes on without them.
        .layer(TimeoutLayer::with_status_code(StatusCode::SERVICE_UNAVAILABLE, API_PATIENCE))
        .with_state(app)
}

/// What holds for every answer.
fn dressed(routes: Router) -> Router {
    let policy = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'";
    let set = |name, value: &'static str| SetResponseHeaderLayer::if_not_present(name, HeaderValue::from_static(value));
    routes
        .layer(set(header::CONTENT_SECURITY_POLICY, policy))
        .layer(set(header::X_CONTENT_TYPE_OPTIONS, "nosniff"))
        .layer(set(header::REFERRER_POLICY, "no-referrer"))
        // What is said of people is kept by no browser and no proxy; the front end's own files say otherwise themselves.
        .layer(set(header::CACHE_CONTROL, "no-store"))
        .layer(RequestBodyTimeoutLayer::new(BODY_PATIENCE))
        .layer(CompressionLayer::new())
        .layer(CatchPanicLayer::new())
}

/// The API answers only on this machine's own names (a foreign page can't rebind its name to us),
/// and changes only come with the acting person's header, which a foreign page can't send.
async fn guard(State(app): State<App>, request: Request, next: Next) -> Response {
    if request.headers().get_all(header::HOST).iter().count() > 1 {
        return ApiError::Malformed("It names two hosts.".into()).into_response();
    }
    if forwarded_by_any(request.headers()) {
        return (StatusCode::FORBIDDEN, "This came by way of a proxy, and Rinse’s own pages are for this machine alone. Let the proxy lead to the address given as --public-listen.").into_response();
    }
    let host = request.headers().get(header::HOST).and_then(|h| h.to_str().ok()).unwrap_or_default();
    let name = host.rsplit_once(':').filter(|(_, port)| port.bytes().all(|b| b.is_ascii_digit())).map_or(host, |(n, _)| n);
    if !matches!(name, "127.0.0.1" | "localhost" | "[::1]") {
        return (StatusCode::FORBIDDEN, "Open Rinse by the address it prints when it starts.").into_response();
    }
    let changes = !matches!(*request.method(), Method::GET | Method::HEAD);
    if changes && !request.headers().contains_key("x-acting-person") {
        return ApiError::NobodyActing.into_response();
    }
    let work = next.run(request);
    let answer = if changes { app.threads.change(work).await } else { app.threads.ask(work).await };
    match answer {
        Ok(answer) => as_problem(answer).await,
        Err(e) => ApiError::Unfinished(e).into_response(),
    }
}

/// The framework's own refusals (a body that is no JSON, say) come as plain words: they become
/// problem documents like ours.
async fn as_problem(answer: Response) -> Response {
    let plain = answer.headers().get(header::CONTENT_TYPE).is_some_and(|t| t.as_bytes().starts_with(b"text/plain"));
    if !answer.status().is_client_error() || !plain {
        return answer;
    }
    let status = answer.status();
    let words = axum::body::to_bytes(answer.into_body(), 10_000).await.unwrap_or_default();
    ApiError::Unreadable(status, String::from_utf8_lossy(&words).into_owned()).into_response()
}
