//! The pages' logic without the pages: what they write, order, save and ask again for, by tables of cases. Node works each case out on
//! the file that `web/models.config.js` puts together from the same sources as the pages.

use rstest::rstest;
use serde_json::{Value, json};
use std::path::Path;
use std::process::Command;

/// What a JavaScript expression comes to; `m` holds the models.
fn worked_out(expression: &str) -> Value {
    let models = Path::new(env!("CARGO_MANIFEST_DIR")).join("../web/node_modules/.models/models.js");
    assert!(models.exists(), "web/dist isn't built: run make web/dist/.built");
    let script = format!(
        "import({:?}).then(async (m) => console.log(JSON.stringify(await ({expression})) ?? 'null')).catch((e) => {{ console.error(e); process.exit(1); }})",
        format!("file://{}", models.display())
    );
    let answer = Command::new("node").args(["--input-type=module", "-e", &script]).output().unwrap();
    assert!(answer.status.success(), "{expression}: {}", String::from_utf8_lossy(&answer.stderr));
    serde_json::from_slice(&answer.stdout).unwrap()
}

/// Numbers, rates and instants, as every page writes them: a dash where nothing is known, UTC, 24 hours.
#[rstest]
#[case("m.count(1234567)", json!("1,234,567"))]
#[case("[m.percent(0.12345), m.percent(0.12345, 2), m.percent(null), m.percent(undefined)]", json!(["12.3%", "12.35%", "–", "–"]))]
#[case("[m.points(0.0123), m.points(-0.0123, 2), m.points(0)]", json!(["+1.2", "−1.23", "+0.0"]))]
#[case("[m.bare(0.5), m.bare(null)]", json!(["50.0", "–"]))]
#[case("[m.pValue(0.0423), m.pValue(0.00001234)]", json!(["0.042", "1.2e-5"]))]
#[case("[1, 0, 2000].map((n) => m.plural(n, 'person', 'people'))", json!(["1 person", "0 people", "2,000 people"]))]
#[case("[m.instant(1767225540000), m.date(0), m.instant(null)]", json!(["Wed, 31 Dec 2025, 23:59", "1 Jan 1970", "–"]))]
#[case("[m.money(123456, 'EUR'), m.money(-5, 'EUR')]", json!(["1,234.56 EUR", "-0.05 EUR"]))]
#[case("[m.letter(0), m.letter(5), m.words('no_such_address')]", json!(["A", "F", "no such address"]))]
#[case("[m.clock(0), m.clock(9 * 60 + 5), m.clock(1439)]", json!(["00:00", "09:05", "23:59"]))]
#[case("[m.CELLS.length, m.cellWords(0), m.cellWords(14)]", json!([15, "sparse mail, new", "dense mail, silent"]))]
fn figures_are_written_alike(#[case] expression: &str, #[case] expected: Value) {
    assert_eq!(worked_out(expression), expected, "{expression}");
}

/// Rounds are offered in the order in which mailings come, a window apart; a reading's decisive words stand out.
#[rstest]
#[case("m.inOrder([{ id: 3 }, { id: 5, planned_at: 9 }, { id: 1, planned_at: null }, { id: 4, planned_at: 2 }]).map((x) => x.id)", json!([4, 5, 1, 3]))]
#[case("m.nextRound(m.START, 4, 20000).rounds", json!([{ "mailing": 4, "day": 20_002 }]))]
#[case("m.nextRound({ ...m.START, window_days: 14, rounds: [{ mailing: 1, day: 20005 }] }, 4, 20000).rounds[1]", json!({ "mailing": 4, "day": 20_019 }))]
#[case("m.nextRound({ ...m.START, metric: 'conversion', rounds: [{ mailing: 1, day: 20005 }] }, 4, 20000).rounds[1]", json!({ "mailing": 4, "day": 20_019 }))]
#[case("[m.roundName('Tides', 2), m.roundName('Tides, round 2', 3)]", json!(["Tides, round 2", "Tides, round 3"]))]
#[case("[m.counting({ ...m.START, goal: 1 }, 'reply').goal, m.counting(m.START, 'conversion').goal]", json!([null, null]))]
#[case("m.decisive('The hour matters (p 0.002). 08:00 is the best.')", json!(["The hour ", "matters", " (p 0.002). 08:00 is the best."]))]
#[case("m.decisive(`The hour doesn't matter.`)[1]", json!("doesn't matter"))]
#[case("m.decisive('Something else.')", json!(["", "", "Something else."]))]
#[case("['planned', 'collecting', 'read', 'ended'].map((state) => m.hourStanding({ state, drawn: 2, rounds: 6, verdict: state === 'read' ? 'not_shown' : null }))",
    json!(["hour trial, planned", "hour trial, round 2 of 6", "hour trial, not shown to matter", "hour trial, ended unread"]))]
fn hour_trials_are_planned_and_told(#[case] expression: &str, #[case] expected: Value) {
    assert_eq!(worked_out(expression), expected, "{expression}");
}

/// A page that opens just before a change shows what is there after it: its first answer, asked for before, isn't taken for a newer one.
#[test]
fn a_first_answer_from_before_a_change_is_asked_for_again() {
    let script = "(async () => {
        const asked = [];
        const page = new m.QueryObserver(m.cache, { queryKey: ['hour-trial', 1], queryFn: () => new Promise((come) => asked.push(come)) });
        const seen = [];
        page.subscribe((q) => q.data && seen.push(q.data));
        m.everything();
        while (asked.length < 2) await new Promise((soon) => setTimeout(soon));
        asked[1]('sealed');
        asked[0]('planned');
        while (seen.length < 1) await new Promise((soon) => setTimeout(soon));
        setTimeout(() => process.exit(0));
        return seen;
    })()";
    assert_eq!(worked_out(script), json!(["sealed"]));
}

const COLUMNS: &str = "((c) => [c.text('Name', (r) => r.n), c.number('Sent', (r) => r.s), c.day('Gone', (r) => r.d, 'not yet'), c.acts(() => 'x')])(m.columnsOf())";

/// Heads order rows their own way first, then the other, then not; names go into the address.
#[rstest]
#[case("['item 10', 'item 9', 'Äpfel', 'zebra'].sort(m.compare)", json!(["Äpfel", "item 9", "item 10", "zebra"]))]
#[case("[10, 9, -1].sort(m.compare)", json!([-1, 9, 10]))]
#[case("[null, '', '-', 'sent', '-sent'].map(m.readOrder)", json!([null, null, null, { "key": "sent", "descending": false }, { "key": "sent", "descending": true }]))]
fn rows_are_ordered_as_a_reader_would(#[case] expression: &str, #[case] expected: Value) {
    assert_eq!(worked_out(expression), expected, "{expression}");
}

#[rstest]
fn a_head_goes_round() {
    let [name, sent] = [0, 1].map(|i| worked_out(&format!("((c) => [null, m.nextOrder(null, c)].reduce((a, b) => [b, m.nextOrder(b, c), m.nextOrder(m.nextOrder(b, c), c)]))({COLUMNS}[{i}])")));
    assert_eq!(name, json!(["name", "-name", null]));
    assert_eq!(sent, json!(["-sent", "sent", null]), "numbers: the greatest first");
}

/// RFC 4180, and no cell that a spreadsheet would run; what one can do with a row isn't part of it.
#[rstest]
#[case("[{ n: 'Tern', s: 3, d: 0 }]", "Name,Sent,Gone\r\nTern,3,1 Jan 1970\r\n")]
#[case("[{ n: 'a \"b\", c', s: null, d: null }]", "Name,Sent,Gone\r\n\"a \"\"b\"\", c\",,not yet\r\n")]
#[case(
    "[{ n: '=1+1' }, { n: '-2' }, { n: '@x' }, { n: 'two\\nlines' }]",
    "Name,Sent,Gone\r\n'=1+1,,not yet\r\n'-2,,not yet\r\n'@x,,not yet\r\n\"two\nlines\",,not yet\r\n"
)]
fn a_table_as_csv(#[case] rows: &str, #[case] expected: &str) {
    assert_eq!(worked_out(&format!("m.csv({COLUMNS}, {rows})")), json!(expected));
}

/// A question makes nothing stale, a small change what it reaches, any other everything.
#[rstest]
#[case("GET", "/api/contacts", "[]")]
#[case("POST", "/api/audience", "[]")]
#[case("POST", "/api/segments/explain/7", "[]")]
#[case("POST", "/api/mailings/3/outlook", "[]")]
#[case("POST", "/api/rules/preview", "[]")]
#[case("POST", "/api/message.eml", "[]")]
#[case("POST", "/api/tasks/3", "['tasks', 'today']")]
#[case("POST", "/api/letterheads/1/keys/2/publish", "['keys', 'reach']")]
#[case("POST", "/api/imports/3/check", "['import', 'imports']")]
#[case("PUT", "/api/mailings/3", "m.RESOURCES")]
#[case("DELETE", "/api/contacts/3", "m.RESOURCES")]
#[case("POST", "/api/what-is-not-known-yet", "m.RESOURCES")]
fn what_a_request_makes_stale(#[case] method: &str, #[case] path: &str, #[case] expected: &str) {
    assert_eq!(worked_out(&format!("m.stale('{method}', '{path}')")), worked_out(expected), "{method} {path}");
}

/// The API's own list: what is taken for a question here answers with something, and is none of the changes that answer with nothing.
#[rstest]
fn no_change_is_taken_for_a_question() {
    let api: Value = serde_json::from_str(include_str!("../../../web/openapi.json")).unwrap();
    for (path, ways) in api["paths"].as_object().unwrap() {
        let Some(post) = ways.get("post") else { continue };
        let answers = post["responses"].get("200").is_some();
        let filled = path.replace(['{', '}'], "");
        let asks = worked_out(&format!("m.stale('POST', '{filled}').length === 0"));
        assert!(answers || asks == json!(false), "{path} changes something, and no page would ask again");
    }
}

/// Only what the editor saves; what a draft of an earlier version lacks is as in a new one.
#[rstest]
fn a_draft_is_what_the_editor_saves() {
    assert_eq!(
        worked_out("Object.keys(m.draftOf({ ...m.emptyDraft, id: 4, state: 'draft' })).sort()"),
        worked_out("Object.keys(m.emptyDraft).sort()")
    );
    assert_eq!(
        worked_out("m.draftOf({ name: 'Tides', subjects: ['High water'], also: null })"),
        worked_out("({ ...m.emptyDraft, name: 'Tides', subjects: ['High water'] })")
    );
}

const VOCABULARY: &str = "({ fields: ['text', 'number', 'date', 'yes_no', 'choice'].map((kind, i) => ({ id: i + 1, name: kind, kind })), lists: [{ id: 1 }], tags: [{ id: 2 }], topics: [{ id: 3 }], series: [{ id: 4 }], segments: [{ id: 5 }], events: ['boarded'], goals: [{ id: 6 }], scores: [{ id: 7 }], products: ['Ferry'], places: [{ name: 'Tern', latitude: 60, longitude: -1 }] })";

/// The menu and the conditions agree: what an entry begins as is found again under that entry.
#[rstest]
fn every_condition_of_the_menu_is_found_again() {
    let strays = worked_out(&format!(
        "((v) => m.menu(v).flatMap(([, of]) => of).filter((c) => m.keyOf(c.start(v)) !== c.key).map((c) => c.key))({VOCABULARY})"
    ));
    assert_eq!(strays, json!([]));
    let twice = worked_out(&format!(
        "((keys) => keys.filter((k, i) => keys.indexOf(k) !== i))(m.menu({VOCABULARY}).flatMap(([, of]) => of.map((c) => c.key)))"
    ));
    assert_eq!(twice, json!([]));
}

#[rstest]
#[case("[m.rooted({ kind: 'list', list: 1 }), m.rooted({ kind: 'any', of: [] })]", json!([{ "kind": "all", "of": [{ "kind": "list", "list": 1 }] }, { "kind": "any", "of": [] }]))]
#[case("[{ kind: 'marketing' }, { kind: 'series' }, { kind: 'topic', id: 12 }, { kind: 'letterhead', id: 3 }].filter((s) => JSON.stringify(m.scopeOf(m.scopeKey(s))) !== JSON.stringify(s))", json!([]))]
#[case("m.WINDOWS.map((w) => m.lengthOf(m.windowOf(w.kind, 9)))", json!([9, 9, 1, 1]))]
#[case("['7', '7.9', '-3', 'x', ''].map(m.whole)", json!([7, 7, 0, 0, 0]))]
fn forms_say_back_what_they_were_told(#[case] expression: &str, #[case] expected: Value) {
    assert_eq!(worked_out(expression), expected, "{expression}");
}

/// What a column of a file can be: the custom fields there are, the one it would make (the guessed kind first), and the one it was mapped to.
#[rstest]
#[case("['', 'address', '{\"name\":\"tier\",\"kind\":\"choice\"}', 'score:visits'].filter((k) => c.keyOf(c.fieldOf(k)) !== k)", json!([]))]
#[case("c.choices([{ name: 'Tier', kind: 'choice' }], ' Pier ', 'date', null).map((x) => x.label + ' ' + x.kind)",
    json!(["Tier choice", "new field “pier” date", "new field “pier” text", "new field “pier” number", "new field “pier” yes_no", "new field “pier” choice"]))]
#[case("c.choices([{ name: 'Tier', kind: 'choice' }], 'TIER', 'text', null).length", json!(1))]
#[case("c.choices([], 'a', 'text', { own: { name: 'b', kind: 'date' } }).map((x) => x.label).at(-1)", json!("b"))]
#[case("[c.scoreKey(' Visits ', null), c.scoreKey('Visits', { score: { name: 'calls' } })]", json!(["score:visits", "score:calls"]))]
fn what_a_column_can_be(#[case] expression: &str, #[case] expected: Value) {
    assert_eq!(worked_out(&format!("((c) => {expression})(m.columnField)")), expected, "{expression}");
}

/// Shares in points, revenue in money a person; a sign always stands.
#[rstest]
#[case("human_opens", json!(["points", "+2.5", "2.5", 100]))]
#[case("revenue", json!(["EUR a person", "+0.03", "0.03", 1]))]
fn a_trials_unit(#[case] metric: &str, #[case] expected: Value) {
    let unit = worked_out(&format!(
        "((u) => [u.name, u.signed(0.025), u.bare(0.025), u.scale])(m.unitOf({{ metric: '{metric}', goal: {{ goal: {{ currency: 'EUR' }} }} }}))"
    ));
    assert_eq!(unit, expected);
}
