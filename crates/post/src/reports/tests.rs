use super::*;
use flate2::Compression;
use flate2::write::GzEncoder;
use proptest::prelude::*;
use rstest::rstest;
use std::fmt::Write as _;
use std::io::Write as _;
use zip::write::{SimpleFileOptions, ZipWriter};

fn gz(bytes: &[u8]) -> Vec<u8> {
    let mut out = GzEncoder::new(Vec::new(), Compression::fast());
    out.write_all(bytes).unwrap();
    out.finish().unwrap()
}

fn zipped(files: &[(&str, &[u8])]) -> Vec<u8> {
    let mut out = ZipWriter::new(std::io::Cursor::new(Vec::new()));
    for (name, bytes) in files {
        out.start_file(*name, SimpleFileOptions::default()).unwrap();
        out.write_all(bytes).unwrap();
    }
    out.finish().unwrap().into_inner()
}

const REPORT: &str = r#"<?xml version="1.0" encoding="UTF-8"?>
<feedback xmlns="urn:ietf:params:xml:ns:dmarc-2.0">
  <version>1.0</version>
  <report_metadata><org_name>Gull Post &amp; Co</org_name><email>noreply@gull.example</email><report_id>7</report_id>
    <date_range><begin>1776211200</begin><end>1776297599</end></date_range><error>none</error></report_metadata>
  <policy_published><domain>skerry-light.example</domain><adkim>r</adkim><p>quarantine</p><pct>100</pct></policy_published>
  <record>
    <row><source_ip>192.0.2.7</source_ip><count>12</count>
      <policy_evaluated><disposition>none</disposition><dkim>pass</dkim><spf>fail</spf>
        <reason><type>forwarded</type><comment>a <![CDATA[list & its]]> host</comment></reason></policy_evaluated></row>
    <identifiers><header_from>skerry-light.example</header_from><envelope_to>gull.example</envelope_to></identifiers>
    <auth_results><dkim><domain>skerry-light.example</domain><selector>s1</selector><result>pass</result></dkim>
      <dkim><domain>list.example</domain><result>pass</result></dkim><spf><domain>list.example</domain><scope>mfrom</scope><result>pass</result></spf></auth_results>
  </record>
  <record><row><source_ip>2001:db8::9</source_ip><count>one</count><policy_evaluated><disposition/></policy_evaluated></row></record>
</feedback>"#;

fn one(bytes: &[u8]) -> Dmarc {
    match read(bytes) {
        Ok(Reports::Dmarc(mut d)) if d.len() == 1 => d.remove(0),
        other => panic!("{other:?}"),
    }
}

#[test]
fn a_report_is_read_as_it_was_written() {
    let d = one(REPORT.as_bytes());
    assert_eq!((d.org_name.as_deref(), d.begin.as_ref().and_then(Number::whole)), (Some("Gull Post & Co"), Some(1_776_211_200)));
    assert_eq!((d.policy.p.as_deref(), d.policy.sp, d.policy.pct), (Some("quarantine"), None, Some(Number::Whole(100))));
    let [first, second] = d.records.as_slice() else { panic!("two records") };
    assert_eq!((first.count.as_ref().and_then(Number::whole), first.spf.as_deref()), (Some(12), Some("fail")));
    assert_eq!(first.reasons[0].comment.as_deref(), Some("a list & its host"));
    assert_eq!((first.auth_dkim.len(), first.auth_dkim[1].selector.as_ref(), first.auth_spf[0].result.as_deref()), (2, None, Some("pass")));
    // What isn't a number stays what it is; what is left out is nothing.
    assert_eq!((&second.count, &second.disposition, &second.header_from), (&Some(Number::Words("one".into())), &None, &None));
}

#[test]
fn packed_attached_and_in_other_letters_it_is_the_same() {
    let d = one(REPORT.as_bytes());
    assert_eq!(one(&gz(REPORT.as_bytes())), d);
    assert_eq!(one(&zipped(&[("gull.example!skerry-light.example!1!2.xml", REPORT.as_bytes())])), d);
    let wide: Vec<u8> = [0xff, 0xfe].into_iter().chain(REPORT.encode_utf16().flat_map(u16::to_le_bytes)).collect();
    assert_eq!(one(&wide), d);
    assert_eq!(
        one(format!("\u{feff}  {}", REPORT.replace("<feedback", "<d:feedback").replace("</feedback", "</d:feedback")).as_bytes()),
        d
    );
    let attached = mail_builder::MessageBuilder::new()
        .from("noreply@gull.example")
        .to("dmarc@skerry-light.example")
        .subject("Report domain: skerry-light.example")
        .text_body("See the attachment.")
        .attachment("application/gzip", "report.xml.gz", gz(REPORT.as_bytes()))
        .write_to_vec()
        .unwrap();
    assert_eq!(one(&attached), d);
    let latin: Vec<u8> = REPORT.replace("Gull Post", "Möwenpost").chars().map(|c| u8::try_from(u32::from(c)).unwrap()).collect();
    assert_eq!(one(&latin).org_name.as_deref(), Some("Möwenpost &amp; Co").map(|_| "Möwenpost & Co"));
}

#[test]
fn a_tls_report_is_its_own_object() {
    let json = br#"{"organization-name":"Gull Post","date-range":{"start-datetime":"2026-04-15T00:00:00Z"},"policies":[{"policy":{"policy-type":"sts"}}]}"#;
    for bytes in [json.to_vec(), gz(json)] {
        let Ok(Reports::Tls(t)) = read(&bytes) else { panic!("a TLS report") };
        assert_eq!(t, [serde_json::from_slice::<Value>(json).unwrap()]);
    }
}

/// A gigabyte of nothing, packed, and packed again.
fn bomb() -> Vec<u8> {
    let mut out = GzEncoder::new(Vec::new(), Compression::fast());
    let megabyte = vec![b' '; 1 << 20];
    (0..200).for_each(|_| out.write_all(&megabyte).unwrap());
    out.finish().unwrap()
}

#[rstest]
#[case::nothing(b"".to_vec(), "empty")]
#[case::words(b"Dear people,".to_vec(), "no report")]
#[case::a_page(b"<html><body>404</body></html>".to_vec(), "another kind")]
#[case::half(REPORT.split_once("<record>").unwrap().0.as_bytes().to_vec(), "ends in the middle")]
#[case::half_a_word(REPORT.as_bytes()[..600].to_vec(), "XML can't be read")]
#[case::half_packed(gz(REPORT.as_bytes())[..200].to_vec(), "archive can't be read")]
#[case::not_closed(b"<feedback><record></feedback>".to_vec(), "XML can't be read")]
#[case::two(format!("{REPORT}{}", &REPORT[39..]).into_bytes(), "another kind")]
#[case::json(b"{\"a\": 1}".to_vec(), "without policies")]
#[case::deep(format!("<feedback>{}", "<a>".repeat(1_000)).into_bytes(), "too deep")]
#[case::grows(b"<!DOCTYPE f [<!ENTITY a \"aa\"><!ENTITY b \"&a;&a;\">]><feedback><report_metadata><org_name>&b;</org_name></report_metadata></feedback>".to_vec(), "document type")]
#[case::looks_outside(b"<feedback><report_metadata><org_name>&file;</org_name></report_metadata></feedback>".to_vec(), "an entity &file;")]
#[case::a_path(zipped(&[("../../etc/report.xml", REPORT.as_bytes())]), "a path")]
#[case::a_folder(zipped(&[("reports/one.xml", REPORT.as_bytes())]), "a path")]
#[case::an_archive_inside(zipped(&[("one.xml.gz", &gz(REPORT.as_bytes()))]), "another archive")]
#[case::packed_twice(gz(&gz(REPORT.as_bytes())), "another archive")]
#[case::a_bomb(bomb(), "unpacks to over")]
#[case::an_empty_archive(zipped(&[]), "empty archive")]
#[case::a_mail(b"From: a@gull.example\r\nSubject: hi\r\n\r\nno report\r\n".to_vec(), "no report")]
fn what_is_no_report_says_why(#[case] bytes: Vec<u8>, #[case] why: &str) {
    let e = read(&bytes).unwrap_err().to_string();
    assert!(e.contains(why), "{e}");
}

fn word() -> impl Strategy<Value = String> {
    "[ -~äß€&&[^\\]]]{1,12}".prop_map(|s: String| s.trim().to_owned()).prop_filter("something", |s| !s.is_empty())
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;")
}

proptest! {
    /// Whatever stands in a report is read as it stands, whatever else lies around it.
    #[test]
    fn what_is_written_is_read(org in prop::option::of(word()), rows in prop::collection::vec((prop::option::of(word()), 0i64..1_000_000, prop::option::of(word())), 0..20), noise in word()) {
        let tag = |name: &str, value: &Option<String>| value.as_ref().map_or_else(String::new, |v| format!("<{name}>{}</{name}>", escaped(v)));
        let mut xml = format!("<feedback><unknown><org_name>{}</org_name></unknown><report_metadata>{}</report_metadata>", escaped(&noise), tag("org_name", &org));
        for (ip, count, from) in &rows {
            write!(xml, "<record>\n<row>{}<count> {count} </count></row><identifiers>{}</identifiers></record>", tag("source_ip", ip), tag("header_from", from)).unwrap();
        }
        xml.push_str("</feedback>");
        let d = one(xml.as_bytes());
        prop_assert_eq!(&d.org_name, &org);
        prop_assert_eq!(d.records.len(), rows.len());
        for (r, (ip, count, from)) in d.records.iter().zip(&rows) {
            prop_assert_eq!((&r.source_ip, &r.count, &r.header_from), (ip, &Some(Number::Whole(*count)), from));
        }
    }

    /// Whatever comes, there is an answer, and no more of it than what came.
    #[test]
    fn nothing_breaks_it(cut in 0usize..1_600, at in 0usize..1_600, byte: u8, packed: bool) {
        let mut bytes = REPORT.as_bytes().to_vec();
        let at = at % bytes.len();
        bytes[at] = byte;
        bytes.truncate(bytes.len() - cut % bytes.len());
        let _ = read(&if packed { gz(&bytes) } else { bytes });
    }

    #[test]
    fn noise_is_no_report(bytes in prop::collection::vec(any::<u8>(), 0..400)) {
        let _ = read(&bytes);
    }
}
