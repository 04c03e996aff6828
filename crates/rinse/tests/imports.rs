//! Imports through the API: the files people really have, and what must never happen.

use rinse_testkit::{Process, people_csv};
use rstest::rstest;
use serde_json::{Value, json};
use std::path::Path;

fn rinse() -> (tempfile::TempDir, Process) {
    let folder = tempfile::tempdir().unwrap();
    let process = Process::demo(Path::new(env!("CARGO_BIN_EXE_rinse")), folder.path());
    (folder, process)
}

#[rstest]
#[case(b"", "empty")]
#[case(b"\x89PNG\r\n\x1a\n\0\0\0\x0dIHDR", "binary")]
#[case(b"name,town\nWren,Port Skerry\n", "No column holds mail addresses")]
fn files_that_are_no_table_are_refused_whole(#[case] file: &[u8], #[case] want: &str) {
    let (_folder, rinse) = rinse();
    let (status, answer) = rinse.http("POST", "/api/imports?name=x.csv", file);
    let answer = String::from_utf8_lossy(&answer).into_owned();
    assert!(status == 409 && answer.contains(want), "{status} {answer}");
    assert_eq!(rinse.json("GET", "/api/imports", &Value::Null), json!([]), "nothing half done");
}

fn stage(rinse: &Process, file: &[u8]) -> Value {
    let (status, body) = rinse.http("POST", "/api/imports?name=x.csv", file);
    assert_eq!(status, 200, "{}", String::from_utf8_lossy(&body));
    serde_json::from_slice(&body).unwrap()
}

#[rstest]
#[case("mail;Name\nrenée@tern.example;Renée\n".as_bytes().to_vec(), "utf8")]
#[case(b"mail;Name\nwren@tern.example;Ren\xe9e\n".to_vec(), "windows1252")]
#[case([0xFF, 0xFE].into_iter().chain("mail;Name\nwren@tern.example;Renée\n".encode_utf16().flat_map(u16::to_le_bytes)).collect(), "utf16_le")]
fn encodings_are_found_out(#[case] file: Vec<u8>, #[case] encoding: &str) {
    let (_folder, rinse) = rinse();
    let run = stage(&rinse, &file);
    assert_eq!((run["encoding"].as_str(), run["delimiter"].as_str()), (Some(encoding), Some(";")));
    let preview = rinse.json("GET", &format!("/api/imports/{}", run["id"]), &Value::Null);
    assert_eq!(preview["rows"][0][1], "Renée");
}

#[test]
fn broken_rows_come_back_with_reasons_and_formulas_come_back_as_text() {
    let (_folder, rinse) = rinse();
    let file = "email,name\nwren@tern.example,Wren\nno address,=HYPERLINK(\"x\")\nwren@tern.example,Twice\na@tern.example,too,many\n";
    let run = stage(&rinse, file.as_bytes());
    let decision = json!({ "mapping": ["address", "given_name"], "header": true, "list": null, "consent": false, "evidence": "" });
    let checked = rinse.json("POST", &format!("/api/imports/{}/check", run["id"]), &decision);
    assert_eq!((checked["new"].as_i64(), checked["refused"].as_i64()), (Some(1), Some(3)));
    let (_, refused) = rinse.http("GET", &format!("/api/imports/{}/refused.csv", run["id"]), b"");
    let refused = String::from_utf8(refused).unwrap();
    assert!(
        refused.contains("there is no @")
            && refused.contains("earlier row")
            && refused.contains("3 fields")
            && refused.contains("'=HYPERLINK"),
        "{refused}"
    );
}

#[test]
fn the_same_file_twice_changes_nothing_and_consent_needs_evidence() {
    let (_folder, rinse) = rinse();
    rinse.import(&people_csv(300));
    let before = rinse.json("GET", "/api/contacts/7", &Value::Null);
    rinse.import(&people_csv(300));
    let runs = rinse.json("GET", "/api/imports", &Value::Null);
    assert_eq!((runs[0]["new"].as_i64(), runs[0]["unchanged"].as_i64()), (Some(0), Some(300)));
    assert_eq!(rinse.json("GET", "/api/contacts/7", &Value::Null), before, "not even the ledger grew");
    let run = stage(&rinse, people_csv(3).as_bytes());
    let claim = json!({ "mapping": run["mapping"], "header": true, "list": null, "consent": true, "evidence": "" });
    let (status, answer) = rinse.http("POST", &format!("/api/imports/{}/check", run["id"]), claim.to_string().as_bytes());
    assert!(status == 409 && String::from_utf8_lossy(&answer).contains("evidence"));
}

/// Files that are odd and not wrong, and rows that are: what lands is what was written.
#[rstest]
#[case::internationalised("email,name\nketil@bücher.example,Ketil\n", 1, "ketil@xn--bcher-kva.example")]
#[case::local_part_in_its_script("email,name\n葉@tern.example,葉\n", 1, "葉@tern.example")]
#[case::right_to_left("email,name\nrina@tern.example,\u{202b}רינה\n", 1, "rina@tern.example")]
#[case::newline_in_a_name("email,name\nw@tern.example,\"Wren\nMarram\"\n", 1, "w@tern.example")]
#[case::duplicate_headers("email,name,name\nw@tern.example,Wren,Marram\n", 1, "w@tern.example")]
#[case::case_is_the_same_person("email,name\nW@tern.example,Wren\nw@TERN.example,Wren\n", 1, "W@tern.example")]
#[case::display_names_are_no_address("email,name\nWren <w@tern.example>,Wren\nw@tern.example,Wren\n", 1, "w@tern.example")]
#[case::blank_lines("email,name\n\n\nw@tern.example,Wren\n\n", 1, "w@tern.example")]
fn odd_files_land_as_they_were_meant(#[case] file: &str, #[case] new: i64, #[case] address: &str) {
    let (_folder, rinse) = rinse();
    rinse.import(file);
    assert_eq!(rinse.json("GET", "/api/imports/1", &Value::Null)["run"]["new"], new);
    assert_eq!(rinse.json("GET", "/api/contacts/1", &Value::Null)["address"], address);
}

#[test]
fn too_long_and_too_wide_are_told_by_line() {
    let (_folder, rinse) = rinse();
    let long = format!("{}@{}.example", "l".repeat(60), "d.".repeat(120));
    assert!(long.len() > 300);
    let header: String = (0..40).map(|i| format!("column {i},")).collect();
    let cells: String = (0..40).map(|i| format!("{i},")).collect();
    let run = stage(&rinse, format!("{header}email\n{cells}wren@tern.example\n{cells}{long}\n{cells}\n").as_bytes());
    assert_eq!(run["mapping"][40], "address", "it is found among 41 columns");
    let decision = json!({ "mapping": run["mapping"], "header": true, "list": null, "tag": null, "consent": false, "evidence": "" });
    let checked = rinse.json("POST", "/api/imports/1/check", &decision);
    assert_eq!((checked["new"].as_i64(), checked["refused"].as_i64()), (Some(1), Some(2)));
    let (_, refused) = rinse.http("GET", "/api/imports/1/refused.csv", b"");
    let lines: Vec<String> = String::from_utf8(refused).unwrap().lines().skip(1).map(str::to_owned).collect();
    assert!(lines[0].ends_with(",the domain is not a valid one,3") && lines[1].ends_with(",no address given,4"), "{lines:?}");
}
