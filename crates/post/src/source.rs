//! From what was written to what is sent: Markdown made HTML, styles put on the elements they belong to, the text part
//! derived from the HTML where none was written. Placeholders pass through all of it as they are.

use aho_corasick::AhoCorasick;
use css_inline::CSSInliner;
use html2text::render::TextDecorator;
use rinse_core::message::{TemplateError, bounds};

/// How the body was written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Format {
    #[default]
    Html,
    Markdown,
}

/// A message as it was written.
#[derive(Debug, Clone, Copy)]
pub struct Source<'a> {
    pub format: Format,
    pub body: &'a str,
    /// Empty: it is made from the body.
    pub text: &'a str,
    pub preheader: &'a str,
    /// Colours of the letterhead for Markdown: ground, ink, accent.
    pub colours: [&'a str; 3],
}

/// A message as it is sent, but for the values of its placeholders.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Built {
    pub html: String,
    pub text: String,
    pub derived: bool,
}

/// Builds a message from its source.
///
/// # Errors
/// When the HTML can't be read.
pub fn build(source: &Source<'_>) -> Result<Built, TemplateError> {
    let unreadable = |words: String| TemplateError { line: None, words };
    for text in [source.body, source.text, source.preheader] {
        bounds::template(text)?;
    }
    let body = match source.format {
        Format::Html => source.body.to_owned(),
        Format::Markdown => {
            bounds::markdown(source.body)?;
            from_markdown(source.body, source.colours)
        }
    };
    bounds::html(&body)?;
    let derived = source.text.trim().is_empty() && !source.body.trim().is_empty();
    let text = if derived {
        derive(&body).map_err(|e| unreadable(format!("No text part can be made from the HTML: {e}.")))?
    } else {
        source.text.to_owned()
    };
    let mut html = body;
    if html.to_ascii_lowercase().contains("<style") {
        let kept = Kept::out_of(&html);
        // What can't be put on an element (as @media) stays where it is.
        let inliner = CSSInliner::options().keep_at_rules(true).load_remote_stylesheets(false).build();
        let inlined =
            inliner.inline(&kept.html).map_err(|e| unreadable(format!("The styles can't be read: {e}. Look at the style element.")))?;
        html = kept.back_into(&inlined);
    }
    Ok(Built { html: with_preheader(&html, source.preheader.trim()), text, derived })
}

/// Markdown as a whole page in the letterhead's colours.
fn from_markdown(body: &str, [ground, ink, accent]: [&str; 3]) -> String {
    use pulldown_cmark::{Options, Parser, html};
    let kept = Kept::out_of_words(body);
    let mut out = String::with_capacity(body.len() * 2);
    html::push_html(&mut out, Parser::new_ext(&kept.html, Options::ENABLE_TABLES | Options::ENABLE_STRIKETHROUGH));
    let out = kept.back_into(&out);
    format!(
        "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<meta name=\"viewport\" content=\"width=device-width\">\n<style>\nbody {{ margin: 0; padding: 24px; background: {ground}; color: {ink}; font-family: sans-serif; line-height: 1.5; }}\n.letter {{ max-width: 600px; margin: 0 auto; }}\na {{ color: {accent}; }}\nimg {{ max-width: 100%; }}\n</style>\n</head>\n<body>\n<div class=\"letter\">\n{out}</div>\n</body>\n</html>\n"
    )
}

/// The preheader stands first in the body, where inboxes look for it, and is not shown in the message.
fn with_preheader(html: &str, preheader: &str) -> String {
    if preheader.is_empty() {
        return html.to_owned();
    }
    let kept = Kept::out_of_words(preheader);
    let words = kept.back_into(&kept.html.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;"));
    // The room after it keeps inboxes from going on with the message's first words.
    let line = format!(
        "<div style=\"display:none;max-height:0;overflow:hidden;font-size:1px;color:transparent\">{words}{}</div>",
        "&#8199;&#65279;".repeat(40)
    );
    let lower = html.to_ascii_lowercase();
    match lower.find("<body").and_then(|at| lower[at..].find('>').map(|end| at + end + 1)) {
        Some(at) => format!("{}{line}{}", &html[..at], &html[at..]),
        None => format!("{line}{html}"),
    }
}

/// The text part of HTML: links followed by their addresses, images by their words.
///
/// # Errors
/// When the HTML can't be read.
pub fn derive(html: &str) -> Result<String, html2text::Error> {
    let kept = Kept::out_of_words(html);
    // No line is broken: a placeholder's value may be of any length, and readers wrap.
    let text = html2text::config::with_decorator(Plain::default())
        .no_table_borders()
        .allow_width_overflow()
        .no_link_wrapping()
        .string_from_read(kept.html.as_bytes(), 100_000)?;
    let lines: Vec<&str> = text.lines().map(str::trim_end).collect();
    Ok(format!("{}\n", kept.back_into(lines.join("\n").trim())))
}

/// Placeholders taken out of a text and kept, while something that doesn't know them works on it.
struct Kept {
    html: String,
    taken: Vec<(String, String)>,
}

impl Kept {
    /// Out of HTML: a comment where an element could stand, since words would be moved out of a table; a word in a tag,
    /// a style or a title.
    fn out_of(html: &str) -> Self {
        let mut place = Place::default();
        Self::taken(html, move |before, n| {
            place.go_on(before);
            if place.in_words() { format!("<!--kept{n}here-->") } else { format!("kept{n}here") }
        })
    }

    fn out_of_words(text: &str) -> Self {
        Self::taken(text, |_, n| format!("kept{n}here"))
    }

    /// `stand_in` is told what stands between the placeholder before and this one.
    fn taken(text: &str, mut stand_in: impl FnMut(&str, usize) -> String) -> Self {
        // A number that the text itself can't hold beside the word.
        let mut salt = 7;
        while text.contains(&format!("kept{salt}")) {
            salt += 1;
        }
        let (mut html, mut taken, mut rest) = (String::with_capacity(text.len()), Vec::new(), text);
        while let Some((at, close)) = next_placeholder(rest) {
            let Some(end) = rest[at..].find(close).map(|e| at + e + close.len()) else { break };
            html.push_str(&rest[..at]);
            let stand_in = stand_in(&rest[..at], salt * 100_000 + taken.len());
            html.push_str(&stand_in);
            taken.push((stand_in, rest[at..end].to_owned()));
            rest = &rest[end..];
        }
        html.push_str(rest);
        Self { html, taken }
    }

    fn back_into(&self, worked: &str) -> String {
        let (stand_ins, were): (Vec<&str>, Vec<&str>) = self.taken.iter().map(|(s, w)| (s.as_str(), w.as_str())).unzip();
        // A few thousand short words always make one.
        AhoCorasick::new(stand_ins).map_or_else(|_| worked.to_owned(), |all| all.replace_all(worked, &were))
    }
}

/// Where in HTML something stands.
#[derive(Default)]
struct Place {
    in_tag: bool,
    /// In an element whose content is no HTML, or in the tag that begins one.
    raw: Option<&'static str>,
}

impl Place {
    const RAW: [&'static str; 4] = ["style", "title", "script", "textarea"];

    fn in_words(&self) -> bool {
        !self.in_tag && self.raw.is_none()
    }

    fn go_on(&mut self, html: &str) {
        let mut rest = html;
        loop {
            if self.in_tag {
                let Some(at) = rest.find('>') else { return };
                (self.in_tag, rest) = (false, &rest[at + 1..]);
            } else {
                let Some(at) = rest.find('<') else { return };
                rest = &rest[at + 1..];
                let begins = |name: &str| rest.get(..name.len()).is_some_and(|r| r.eq_ignore_ascii_case(name));
                match self.raw {
                    Some(raw) => {
                        if !begins(&format!("/{raw}")) {
                            continue;
                        }
                        self.raw = None;
                    }
                    None => self.raw = Self::RAW.into_iter().find(|name| begins(name)),
                }
                self.in_tag = true;
            }
        }
    }
}

fn next_placeholder(text: &str) -> Option<(usize, &'static str)> {
    [("{{", "}}"), ("{%", "%}"), ("{#", "#}")]
        .into_iter()
        .filter_map(|(open, close)| text.find(open).map(|at| (at, close)))
        .min_by_key(|(at, _)| *at)
}

/// How the text part shows what text can't: nothing but links and images.
#[derive(Clone, Debug, Default)]
struct Plain {
    link: String,
}

impl TextDecorator for Plain {
    type Annotation = ();

    fn decorate_link_start(&mut self, url: &str) -> (String, ()) {
        self.link = url.to_owned();
        (String::new(), ())
    }
    fn decorate_link_end(&mut self) -> String {
        let link = std::mem::take(&mut self.link);
        if link.is_empty() || link.starts_with('#') { String::new() } else { format!(": {link} ") }
    }
    fn decorate_em_start(&self) -> (String, ()) {
        Default::default()
    }
    fn decorate_em_end(&self) -> String {
        String::new()
    }
    fn decorate_strong_start(&self) -> (String, ()) {
        Default::default()
    }
    fn decorate_strong_end(&self) -> String {
        String::new()
    }
    fn decorate_strikeout_start(&self) -> (String, ()) {
        Default::default()
    }
    fn decorate_strikeout_end(&self) -> String {
        String::new()
    }
    fn decorate_code_start(&self) -> (String, ()) {
        Default::default()
    }
    fn decorate_code_end(&self) -> String {
        String::new()
    }
    fn decorate_preformat_first(&self) {}
    fn decorate_preformat_cont(&self) {}
    fn decorate_image(&mut self, _src: &str, title: &str) -> (String, ()) {
        (if title.is_empty() { String::new() } else { format!("[{title}]") }, ())
    }
    fn header_prefix(&self, _level: usize) -> String {
        String::new()
    }
    fn quote_prefix(&self) -> String {
        "> ".into()
    }
    fn unordered_item_prefix(&self) -> String {
        "- ".into()
    }
    fn ordered_item_prefix(&self, i: i64) -> String {
        format!("{i}. ")
    }
    fn make_subblock_decorator(&self) -> Self {
        self.clone()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn html(body: &str) -> Built {
        build(&Source { format: Format::Html, body, text: "", preheader: "", colours: ["#fff", "#000", "#00f"] }).unwrap()
    }

    #[test]
    fn styles_go_to_their_elements_and_placeholders_stay() {
        let source = "<html><head><style>p { color: red } @media (max-width: 400px) { p { color: blue } }</style></head><body>\n<table>{% if given_name %}<tr><td><p>Dear {{ given_name|default(\"a > b\") }}</p></td></tr>{% endif %}</table><a href=\"{{ unsubscribe_url }}\">Stop</a></body></html>";
        let b = html(source);
        assert!(b.html.contains("style=\"color: red;\"") || b.html.contains("style=\"color: red\""), "{}", b.html);
        assert!(b.html.contains("@media"), "{}", b.html);
        assert!(b.html.contains("{{ given_name|default(\"a > b\") }}"), "{}", b.html);
        assert!(b.html.contains("<a href=\"{{ unsubscribe_url }}\">"), "{}", b.html);
        let table = b.html.find("<table").unwrap();
        assert!(b.html.find("{% if").unwrap() > table && b.html.find("{% endif").unwrap() < b.html.find("</table").unwrap());
    }

    #[test]
    fn the_text_part_says_what_the_html_says() {
        let b = html(
            "<h1>Boat days</h1><p>Dear {{ given_name|default(\"friend\") }},</p><ul><li>Tern</li></ul><p><a href=\"https://skerry-light.example/b\">Book a boat</a><img src=\"x.png\" alt=\"A lamp\"></p><a href=\"{{ unsubscribe_url }}\">Stop</a>",
        );
        assert!(b.derived);
        for part in [
            "Dear {{ given_name|default(\"friend\") }},",
            "- Tern",
            "Book a boat: https://skerry-light.example/b",
            "[A lamp]",
            "Stop: {{ unsubscribe_url }}",
        ] {
            assert!(b.text.contains(part), "{part} is not in {}", b.text);
        }
    }

    #[test]
    fn markdown_becomes_a_letter_in_the_letterheads_colours() {
        let source = Source {
            format: Format::Markdown,
            body: "# Boat *days*\n\nDear {{ given_name|default(\"friend\") }}, [book](https://skerry-light.example/b).\n\n[Stop]({{ unsubscribe_url }})",
            text: "",
            preheader: "Five places < six, {{ given_name }}",
            colours: ["#fbfcfd", "#17212b", "#2c3a8f"],
        };
        let b = build(&source).unwrap();
        for part in [
            "<em>days</em>",
            "{{ given_name|default(\"friend\") }}",
            "#2c3a8f",
            "href=\"{{ unsubscribe_url }}\"",
            "Five places &lt; six, {{ given_name }}",
        ] {
            assert!(b.html.contains(part), "{part} is not in {}", b.html);
        }
        assert!(b.text.contains("book: https://skerry-light.example/b"), "{}", b.text);
    }

    proptest! {
        /// Any HTML in, the same words out, in the same order, styles or none.
        #[test]
        fn building_keeps_what_can_be_read(words in prop::collection::vec(prop_oneof![
            "[a-z]{1,8}", Just("<b>".to_owned()), Just("</b>".to_owned()), Just("<p class=\"x\">".to_owned()), Just("</p>".to_owned()),
            Just("{{ given_name }}".to_owned()), Just("<br>".to_owned()), Just("{% if country %}".to_owned()), Just("{% endif %}".to_owned()),
        ], 0..20)) {
            let source = words.join(" ");
            let plain = |html: &str| -> Vec<String> {
                let mut out = String::new();
                let mut tag = false;
                let body = html.split_once("<body>").map_or(html, |(_, b)| b);
                for c in body.chars() {
                    match c { '<' => { tag = true; out.push(' '); } '>' => tag = false, c if !tag => out.push(c), _ => {} }
                }
                out.split_whitespace().map(str::to_owned).collect()
            };
            let styled = format!("<html><head><style>.x {{ color: red }}</style></head><body>{source}</body></html>");
            let built = html(&styled);
            prop_assert_eq!(plain(&built.html), plain(&source));
            prop_assert_eq!(html(&source).html, source);
        }
    }
}
