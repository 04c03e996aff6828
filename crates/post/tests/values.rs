//! Whatever is in a contact's fields, a message stays one message: nothing of it becomes a header, a
//! tag or a part.

use mail_parser::MessageParser;
use proptest::prelude::*;
use rinse_core::message::prepare;
use rinse_core::token::Signer;
use rinse_post::compose::{Composer, Sender, To};

fn composer() -> Composer {
    let html = "<html><body><p>Dear {{ given_name|default(\"friend\") }} {{ family_name|default(\"\") }}</p><a href=\"https://skerry-light.example/a\">a</a>{{ postal_address }} <a href=\"{{ unsubscribe_url }}\">Stop</a></body></html>";
    let text = "Dear {{ given_name|default(\"friend\") }} {{ family_name|default(\"\") }} {{ unsubscribe_url }}";
    let sender = Sender {
        name: "Skerry Light".into(),
        address: "l@skerry-light.example".into(),
        postal_address: "1 Quay & Co <harbour>".into(),
        ..Sender::default()
    };
    Composer::new(
        1,
        &prepare(html, text).unwrap(),
        &["For {{ given_name|default(\"you\") }}".into()],
        sender,
        "http://127.0.0.1",
        Signer::new(b"k"),
    )
    .unwrap()
}

proptest! {
    #[test]
    fn fields_stay_text(given in "[ -~\r\n\u{e9}\u{202e}\u{540d}<>&\"'{}%]{0,60}", family in "\\PC{0,40}", send in 1i64..i64::MAX / 2) {
        let to = To { address: "wren@tern.example", given_name: Some(&given), family_name: Some(&family), country: None, own: &[] };
        let m = composer().compose(send, 0, to, 1_700_000_000).unwrap();
        let plain = composer().compose(send, 0, To { given_name: Some("Wren"), family_name: Some("Marram"), ..to }, 1_700_000_000).unwrap();
        let (parsed, usual) = (MessageParser::default().parse(&m.bytes).unwrap(), MessageParser::default().parse(&plain.bytes).unwrap());
        let names = |p: &mail_parser::Message<'_>| p.headers().iter().map(|h| h.name().to_owned()).collect::<Vec<_>>();
        prop_assert_eq!(names(&parsed), names(&usual), "no header comes from a field");
        prop_assert_eq!(parsed.parts.len(), usual.parts.len(), "no part either");
        prop_assert_eq!(parsed.to().unwrap().first().unwrap().address(), Some("wren@tern.example"));
        let (html, text) = (parsed.body_html(0).unwrap(), parsed.body_text(0).unwrap());
        let tags = |h: &str| h.matches('<').count();
        prop_assert_eq!(tags(&html), tags(&usual.body_html(0).unwrap()), "no tag: {}", html);
        prop_assert!(html.contains("1 Quay &amp; Co &lt;harbour&gt;"));
        // What a person wrote stands there as they wrote it; white space may be folded, as mail does.
        let squeezed = |t: &str| t.split_whitespace().collect::<String>();
        if !given.trim().is_empty() {
            prop_assert!(squeezed(&text).contains(&squeezed(&given)), "{:?} is not in {:?}", given, text);
        }
        prop_assert!(m.bytes.split(|b| *b == b'\n').all(|l| l.len() <= 999), "lines keep to RFC 5322's limit");
    }
}
