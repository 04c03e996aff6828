//! The tools for scripts, from outside: files and addresses that parsers are known to stumble over.

use rstest::rstest;
use serde_json::{Value, json};
use std::io::Write;
use std::process::{Command, Output, Stdio};

fn run(args: &[&str], input: &[u8]) -> Output {
    let mut child = Command::new(env!("CARGO_BIN_EXE_rinse"))
        .args(args)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    child.stdin.take().unwrap().write_all(input).unwrap();
    child.wait_with_output().unwrap()
}

fn peek(bytes: &[u8]) -> Result<Value, String> {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("t.csv");
    std::fs::write(&path, bytes).unwrap();
    let out = run(&["peek", "--cells", path.to_str().unwrap()], b"");
    if out.status.success() { Ok(serde_json::from_slice(&out.stdout).unwrap()) } else { Err(String::from_utf8(out.stderr).unwrap()) }
}

fn utf16(text: &str, little: bool) -> Vec<u8> {
    format!("\u{feff}{text}").encode_utf16().flat_map(|u| if little { u.to_le_bytes() } else { u.to_be_bytes() }).collect()
}

#[rstest]
#[case::plain(b"a,b\n1,2\n", ",", json!([["a", "b"], ["1", "2"]]))]
#[case::crlf_and_no_end(b"a,b\r\n1,2", ",", json!([["a", "b"], ["1", "2"]]))]
#[case::old_line_ends(b"a,b\r1,2\r", ",", json!([["a", "b"], ["1", "2"]]))]
#[case::comma_in_quotes(b"name,town\n\"Skerry, Port\",x\n", ",", json!([["name", "town"], ["Skerry, Port", "x"]]))]
#[case::doubled_quotes(b"a,b\n1,\"ha \"\"ha\"\" ha\"\n", ",", json!([["a", "b"], ["1", "ha \"ha\" ha"]]))]
#[case::newline_in_quotes(b"a,b\n\"one\r\ntwo\",3\n", ",", json!([["a", "b"], ["one\r\ntwo", "3"]]))]
#[case::json_in_a_cell(b"k,v\n1,\"{\"\"t\"\": [1, 2]}\"\n", ",", json!([["k", "v"], ["1", "{\"t\": [1, 2]}"]]))]
#[case::empty_cells(b"a,b,c\n1,\"\",\n,,\n", ",", json!([["a", "b", "c"], ["1", "", ""], ["", "", ""]]))]
#[case::blank_lines(b"a,b\n\n1,2\n\n\n", ",", json!([["a", "b"], ["1", "2"]]))]
#[case::spaces_are_kept(b"a , b\n 1, 2 \n", ",", json!([["a ", " b"], [" 1", " 2 "]]))]
#[case::uneven_rows(b"a,b\n1\n1,2,3\n", ",", json!([["a", "b"], ["1"], ["1", "2", "3"]]))]
#[case::semicolons_and_decimal_commas(b"a;b\n1,5;2\n2,5;3\n", ";", json!([["a", "b"], ["1,5", "2"], ["2,5", "3"]]))]
#[case::tabs(b"a\tb\n\"x\ty\"\t2\n", "\t", json!([["a", "b"], ["x\ty", "2"]]))]
#[case::bars(b"a|b\n1|2\n", "|", json!([["a", "b"], ["1", "2"]]))]
#[case::one_column(b"mail\nx@tern.example\n", ",", json!([["mail"], ["x@tern.example"]]))]
#[case::quote_inside_a_bare_cell(b"a,b\n5\" pipe,2\n", ",", json!([["a", "b"], ["5\" pipe", "2"]]))]
#[case::byte_order_mark(b"\xEF\xBB\xBFa,b\n1,2\n", ",", json!([["a", "b"], ["1", "2"]]))]
#[case::latin_1(b"n,t\nM\xFCller,K\xF6ln\n", ",", json!([["n", "t"], ["Müller", "Köln"]]))]
#[case::right_to_left("n,t\nשלום,مرحبا\n".as_bytes(), ",", json!([["n", "t"], ["שלום", "مرحبا"]]))]
#[case::utf_16_little(&utf16("n;t\nØ;名前\n", true), ";", json!([["n", "t"], ["Ø", "名前"]]))]
#[case::utf_16_big(&utf16("n;t\nØ;名前\n", false), ";", json!([["n", "t"], ["Ø", "名前"]]))]
#[case::duplicate_headers(b"a,a\n1,2\n", ",", json!([["a", "a"], ["1", "2"]]))]
fn peek_reads_every_cell(#[case] bytes: &[u8], #[case] delimiter: &str, #[case] cells: Value) {
    let line = peek(bytes).unwrap();
    assert_eq!((&line["cells"], &line["delimiter"]), (&cells, &json!(delimiter)), "{line}");
    assert_eq!(line["records"].as_u64().unwrap() as usize, cells.as_array().unwrap().len());
}

#[test]
fn peek_tells_the_rest_when_one_file_is_none() {
    let folder = tempfile::tempdir().unwrap();
    let (good, bad) = (folder.path().join("good.csv"), folder.path().join("bad.csv"));
    let wide: String = (0..40).map(|i| format!("c{i},")).collect::<String>() + "mail\n";
    std::fs::write(&good, wide.clone() + &"x,".repeat(40) + "w@tern.example\n").unwrap();
    std::fs::write(&bad, b"PK\x03\x04\0\0").unwrap();
    let out = run(&["peek", bad.to_str().unwrap(), good.to_str().unwrap(), "missing.csv"], b"");
    assert_eq!(out.status.code(), Some(1));
    let line: Value = serde_json::from_slice(&out.stdout).unwrap();
    assert_eq!((&line["records"], &line["header"], &line["cells"]), (&json!(2), &json!(true), &Value::Null));
    let words = String::from_utf8(out.stderr).unwrap();
    assert!(words.contains("Save it as CSV") && words.contains("missing.csv"), "{words}");
    assert!(peek(b"").unwrap_err().contains("The file is empty"));
    assert!(peek(b"\n\n").unwrap_err().contains("The file is empty"));
}

/// A message of each kind, and what is said of it.
#[rstest]
#[case("From: MAILER-DAEMON@fulmar.example\nSubject: failure notice\n\n<wren@fulmar.example>:\n552 5.2.2 mailbox full\n", "delivery_status", json!([{ "address": "wren@fulmar.example", "status": "5.2.2", "class": "temporary", "reason": "mailbox full" }]))]
#[case("From: a@fulmar.example\nMIME-Version: 1.0\nContent-Type: multipart/report; report-type=delivery-status; boundary=b\n\n--b\nContent-Type: message/delivery-status\n\nFinal-Recipient: rfc822; new@fulmar.example\nOriginal-Recipient: rfc822; <wren@fulmar.example>\nAction: failed\nStatus: 5.0.0\nDiagnostic-Code: smtp; host mx2 said: 550 5.1.1 unknown\n\nFinal-Recipient: rfc822; tern@fulmar.example\nAction: delayed\nStatus: 4.4.1\n\nFinal-Recipient: rfc822; gull@fulmar.example\nAction: relayed\n--b--\n", "delivery_status", json!([
    { "address": "wren@fulmar.example", "status": "5.1.1", "class": "permanent", "reason": "no such address" },
    { "address": "tern@fulmar.example", "status": "4.4.1", "class": "temporary", "reason": "the host goes on trying" },
    { "address": "gull@fulmar.example", "status": null, "class": "delivered", "reason": "relayed" },
]))]
#[case("From: wren@fulmar.example\nSubject: Out of office: Tide notes\n\nBack on Monday.\n", "auto_reply", json!([]))]
#[case("From: wren@fulmar.example\nIn-Reply-To: <a@b.example>\nSubject: Re: Tide notes\n\nYes.\n", "reply", json!([]))]
#[case("From: wren@fulmar.example\nSubject: Boats\n\nWhen?\n", "other", json!([]))]
fn classify_says_what_came_in(#[case] raw: &str, #[case] kind: &str, #[case] recipients: Value) {
    let out = run(&["classify", "-"], raw.as_bytes());
    let line: Value = serde_json::from_slice(&out.stdout).unwrap();
    assert_eq!(line, json!({ "file": "-", "kind": kind, "recipients": recipients }));
    assert!(out.status.success());
}

#[test]
fn classify_tells_the_rest_when_one_file_is_none() {
    let folder = tempfile::tempdir().unwrap();
    let (good, deep) = (folder.path().join("good.eml"), folder.path().join("deep.eml"));
    std::fs::write(&good, "Subject: Boats\n\nWhen?\n").unwrap();
    std::fs::write(&deep, "Content-Type: message/rfc822\n\n".repeat(20_000)).unwrap();
    let out = run(&["classify", deep.to_str().unwrap(), "missing.eml", good.to_str().unwrap()], b"");
    let words = String::from_utf8(out.stderr).unwrap();
    assert!(out.status.code() == Some(1) && words.contains("nested without end") && words.contains("missing.eml"), "{words}");
    assert_eq!(serde_json::from_slice::<Value>(&out.stdout).unwrap()["kind"], "other");
}

fn ask(address: &str) -> Value {
    let out = run(&["address"], format!("{}\n", json!({ "id": 7, "address": address })).as_bytes());
    let answer: Value = serde_json::from_slice(&out.stdout).unwrap();
    assert_eq!(answer["id"], 7);
    answer
}

/// RFC 5321 section 4.1.2 and RFC 6531 section 3.3: what is a mailbox.
#[rstest]
#[case("simple@tern.example", "simple@tern.example")]
#[case("Case@Tern.EXAMPLE", "Case@tern.example")]
#[case("!#$%&'*+-/=?^_`{|}~@tern.example", "!#$%&'*+-/=?^_`{|}~@tern.example")]
#[case("a.b.c+tag@tern.example", "a.b.c+tag@tern.example")]
#[case("\"quoted local\"@tern.example", "\"quoted local\"@tern.example")]
#[case("\"a@b\"@tern.example", "\"a@b\"@tern.example")]
#[case("\"\\\"\\\\\"@tern.example", "\"\\\"\\\\\"@tern.example")]
#[case("\"\"@tern.example", "\"\"@tern.example")]
#[case("x@host", "x@host")]
#[case("x@1.2.3.example", "x@1.2.3.example")]
#[case("x@[192.0.2.17]", "x@[192.0.2.17]")]
#[case("x@[IPv6:2001:db8::1]", "x@[ipv6:2001:db8::1]")]
#[case("葉士豪@臺網中心.example", "葉士豪@xn--fiqq24b10vi0d.example")]
#[case("ελλ@παράδειγμα.example", "ελλ@xn--hxajbheg2az3al.example")]
fn mailboxes(#[case] address: &str, #[case] normal: &str) {
    let a = ask(address);
    assert_eq!((&a["valid"], a["normalised"].as_str().map(str::to_lowercase)), (&json!(true), Some(normal.to_lowercase())), "{a}");
    assert_eq!(ask(a["normalised"].as_str().unwrap())["normalised"], a["normalised"], "normal stays normal");
}

#[rstest]
#[case("", "no address")]
#[case("nobody", "no @")]
#[case("@tern.example", "before the @")]
#[case(" x@tern.example", "' '")]
#[case("x@tern.example ", "domain")]
#[case("x y@tern.example", "' '")]
#[case("x(comment)@tern.example", "'('")]
#[case("x@tern.example(comment)", "domain")]
#[case("Wren <x@tern.example>", "' '")]
#[case("x,y@tern.example", "','")]
#[case("a@b@tern.example", "'@'")]
#[case(".x@tern.example", "dot")]
#[case("x.@tern.example", "dot")]
#[case("x..y@tern.example", "dot")]
#[case("\"x@tern.example", "quotes")]
#[case("\"x\"y@tern.example", "quotes")]
#[case("\"x\\\"@tern.example", "quotes")]
#[case("x\"y@tern.example", "'\"'")]
#[case("x@", "domain")]
#[case("x@.tern.example", "domain")]
#[case("x@tern.example.", "domain")]
#[case("x@tern..example", "domain")]
#[case("x@-tern.example", "domain")]
#[case("x@tern-.example", "domain")]
#[case("x@te_rn.example", "domain")]
#[case("x@[192.0.2.256]", "domain")]
#[case("x@[192.0.2]", "domain")]
#[case("x@[IPv6:2001:db8]", "domain")]
#[case("x@[192.0.2.1", "domain")]
#[case("x\r\n@tern.example", "before the @")]
#[case("x\u{0}@tern.example", "before the @")]
fn no_mailboxes(#[case] address: &str, #[case] reason: &str) {
    let a = ask(address);
    assert!(a["valid"] == json!(false) && a["normalised"].is_null() && a["reason"].as_str().unwrap().contains(reason), "{a}");
}

#[test]
fn lengths_are_those_of_the_rfc() {
    let (local, label) = ("l".repeat(64), "d".repeat(63));
    assert_eq!(ask(&format!("{local}@{label}.example"))["valid"], json!(true));
    assert!(ask(&format!("{local}l@tern.example"))["reason"].as_str().unwrap().contains("64 bytes"));
    assert_eq!(ask(&format!("x@{label}d.example"))["valid"], json!(false));
    let long = format!("x@{label}.{label}.{label}.{label}.example");
    assert_eq!(ask(&long)["valid"], json!(false), "an address of {} characters", long.len());
    // A line that is no JSON is answered, too, and the next goes on.
    let out = run(&["address"], b"what?\n{\"id\":\"b\",\"address\":\"x@tern.example\"}\n");
    let lines: Vec<Value> = String::from_utf8(out.stdout).unwrap().lines().map(|l| serde_json::from_str(l).unwrap()).collect();
    assert!(
        lines[0]["valid"] == json!(false)
            && lines[1] == json!({ "id": "b", "valid": true, "normalised": "x@tern.example", "reason": null })
    );
}

#[test]
fn verdict_reads_another_senders_table_and_calls_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("results.csv");
    std::fs::write(&path, "Version;Sent;Clicks\nA;10 000;500\nB;10 000;650\n").unwrap();
    let out = run(&["verdict", path.to_str().unwrap()], b"");
    let r: Value = serde_json::from_slice(&out.stdout).unwrap();
    assert_eq!((out.status.code(), &r["sealed"]), (Some(0), &json!(false)));
    // The same numbers by the statistics' own door.
    let line = json!({ "id": 1, "fn": "two_proportions", "args": { "a": { "successes": 500, "trials": 10_000 }, "b": { "successes": 650, "trials": 10_000 }, "level": 0.95 } });
    let own: Value = serde_json::from_slice(&run(&["calc"], format!("{line}\n").as_bytes()).stdout).unwrap();
    for key in ["difference", "lower", "upper", "p_value"] {
        assert_eq!(r["metrics"][0]["pairs"][0][key], own["ok"][key], "{key}");
    }
    std::fs::write(&path, "Version;Sent;Clicks\nA;100;5%\nB;100;7%\n").unwrap();
    let out = run(&["verdict", path.to_str().unwrap()], b"");
    assert!(out.status.code() == Some(2) && String::from_utf8_lossy(&out.stderr).contains("counts, not rates"));
}

const WHOLE: &str = "From: Skerry Light <l@skerry-light.example>\r\nTo: wren@tern.example\r\nSubject: Boat days\r\nDate: Thu, 16 Apr 2026 18:40:00 +0000\r\nMessage-ID: <1@skerry-light.example>\r\nList-Unsubscribe: <https://skerry-light.example/u/x>\r\nList-Unsubscribe-Post: List-Unsubscribe=One-Click\r\nMIME-Version: 1.0\r\nContent-Type: multipart/alternative; boundary=b\r\n\r\n--b\r\nContent-Type: text/plain\r\n\r\nBoats. Stop: https://skerry-light.example/u/x\r\n--b\r\nContent-Type: text/html\r\n\r\n<p>Boats <a href=\"https://skerry-light.example/u/x\">Stop</a></p>\r\n--b--\r\n";

#[rstest]
#[case::whole(WHOLE.to_owned(), 0, "")]
#[case::no_one_click(WHOLE.replace("List-Unsubscribe-Post", "X-Other"), 1, "List-Unsubscribe-Post")]
#[case::left_placeholder(WHOLE.replace("<p>Boats", "<p>Dear {{ given_name }}"), 1, "placeholder")]
#[case::bare_link(WHOLE.replace("<p>Boats", "<p><a href='boats'>b</a>"), 1, "boats")]
fn check_says_what_a_message_lacks(#[case] message: String, #[case] code: i32, #[case] words: &str) {
    let out = run(&["check", "-"], message.as_bytes());
    let answer: Value = serde_json::from_slice(&out.stdout).unwrap();
    assert_eq!(out.status.code(), Some(code), "{answer}");
    assert_eq!(answer["errors"] == 0, code == 0, "{answer}");
    assert!(answer.to_string().contains(words), "{answer}");
}

#[test]
fn an_assignment_is_computed_again_and_a_touched_one_is_told() {
    let folder = tempfile::tempdir().unwrap();
    let rinse = rinse_testkit::Process::demo(std::path::Path::new(env!("CARGO_BIN_EXE_rinse")), folder.path());
    rinse.import(&rinse_testkit::people_csv(800));
    rinse.json("POST", "/api/letterheads", &rinse_testkit::letterhead());
    rinse.json("POST", "/api/mailings", &rinse_testkit::draft(1, &["Boats", "Boats at low tide", "Boats at dawn"]));
    let plan = json!({ "question": "Which boats?", "metric": "human_click", "effect": 0.3, "alpha": 0.05, "power": 0.8, "pilot_share": 0.5,
        "window_hours": 24, "on_no_call": 0, "leaving_margin": 0.02, "complaint_margin": 0.01 });
    rinse.json("PUT", "/api/mailings/1/trial", &plan);
    rinse.json("POST", "/api/trials/1/seal", &json!({}));
    rinse.kill();
    let data = folder.path().to_str().unwrap();
    let again = run(&["assign", "--trial", "1", "--data", data], b"");
    let csv = String::from_utf8(again.stdout).unwrap();
    assert!(again.status.success() && csv.lines().count() == 400 && csv.contains(",C"), "399 people of three arms and a header");
    let db = rusqlite::Connection::open(folder.path().join("rinse.db")).unwrap();
    db.execute("UPDATE roster SET stratum = stratum + 1 WHERE contact_id = (SELECT max(contact_id) FROM roster)", []).unwrap();
    drop(db);
    let touched = run(&["assign", "--trial", "1", "--data", data], b"");
    assert!(!touched.status.success() && !String::from_utf8(touched.stderr).unwrap().is_empty());
    assert!(!run(&["assign", "--trial", "7", "--data", data], b"").status.success(), "there is no such trial");
}

#[test]
fn a_draw_of_hours_is_computed_again_and_a_touched_one_is_told() {
    let folder = tempfile::tempdir().unwrap();
    let rinse = rinse_testkit::Process::demo(std::path::Path::new(env!("CARGO_BIN_EXE_rinse")), folder.path());
    let people: Vec<String> = (0..120).map(|i| format!("wren{i}@tern.example,Europe/Paris")).collect();
    rinse.import(&format!("email,time zone\n{}\n", people.join("\n")));
    rinse.json("POST", "/api/letterheads", &rinse_testkit::letterhead());
    let day = rinse.now() / 86_400_000;
    let rounds: Vec<Value> = (1..3).map(|n| json!({ "mailing": n, "day": day + 2 + 7 * (n - 1) })).collect();
    (0..2).for_each(|_| drop(rinse.json("POST", "/api/mailings", &rinse_testkit::draft(1, &["Boats"]))));
    let plan = json!({ "question": "Does the hour matter?", "metric": "human_click", "hours": [8, 20], "rounds": rounds, "usual_hour": 8, "effect": 0.5,
        "alpha": 0.05, "power": 0.8, "window_days": 7, "fail_loss": 0.2 });
    rinse.json("POST", "/api/hour-trials", &plan);
    rinse.json("POST", "/api/hour-trials/1/seal", &json!({ "why_small": "A try with a handful" }));
    rinse.json("POST", "/api/mailings/1/plan", &json!({ "at": null }));
    let data = folder.path().to_str().unwrap();
    assert!(!run(&["assign", "--hour-trial", "1", "--data", data], b"").status.success(), "no round is drawn yet");
    rinse.advance(24);
    rinse.kill();
    let again = run(&["assign", "--hour-trial", "1", "--data", data], b"");
    let csv = String::from_utf8(again.stdout).unwrap();
    assert!(again.status.success() && csv.lines().count() == 121 && csv.matches(",20\n").count() == 60, "{csv}");
    let db = rusqlite::Connection::open(folder.path().join("rinse.db")).unwrap();
    db.execute("UPDATE hour_roster SET hour = 28 - hour WHERE contact_id = (SELECT max(contact_id) FROM hour_roster)", []).unwrap();
    drop(db);
    assert_eq!(run(&["assign", "--hour-trial", "1", "--data", data], b"").status.code(), Some(1));
    assert!(
        !run(&["assign", "--data", data], b"").status.success()
            && !run(&["assign", "--hour-trial", "7", "--data", data], b"").status.success()
    );
}
