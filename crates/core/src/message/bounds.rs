//! What somebody writes, before any library sees it: short enough, flat enough, simple enough.
//!
//! Parsers of templates, Markdown and HTML follow what they read as deep as it is nested, and the time some take grows faster than the
//! text. So every text comes through here first; each answer says what is too much, and where.

use super::TemplateError;

/// Bytes of a part.
pub const LONGEST: usize = 500_000;
/// Placeholders and conditions in one part.
const TAGS: usize = 2_000;
/// Characters of one placeholder or condition, and the signs and words in it that nest or chain.
const TAG_LENGTH: usize = 1_000;
const TAG_SIGNS: usize = 60;
/// Conditions inside one another, and alternatives of all of them together.
const CONDITIONS: usize = 20;
const ALTERNATIVES: usize = 100;
/// Elements inside one another.
const ELEMENTS_DEEP: usize = 200;
const ELEMENTS: usize = 30_000;
/// Rules of style, times the elements that they may fit.
const STYLE_WORK: usize = 20_000_000;
/// Marks at the beginning of a line of Markdown that put it inside something.
const MARKS: usize = 40;
/// Brackets of Markdown that are open at the same time.
const BRACKETS: usize = 100;

fn too_much(line: usize, words: impl Into<String>) -> TemplateError {
    TemplateError { line: Some(line), words: words.into() }
}

fn line_at(text: &str, at: usize) -> usize {
    text.as_bytes()[..at.min(text.len())].iter().filter(|b| **b == b'\n').count() + 1
}

/// May a text with placeholders be read?
///
/// # Errors
/// With the line and what is too much there.
pub fn template(text: &str) -> Result<(), TemplateError> {
    if text.len() > LONGEST {
        return Err(too_much(1, format!("This part has {} kB; at most {} kB are read.", text.len() / 1_000, LONGEST / 1_000)));
    }
    let (mut at, mut tags, mut depth, mut alternatives) = (0, 0, 0_usize, 0);
    while let Some((open, close, condition)) = next_tag(&text[at..]).map(|(o, c, k)| (at + o, c, k)) {
        let too_much = |words: String| too_much(line_at(text, open), words);
        // One that never closes is followed to the end of the text.
        let end = closing(&text[open + 2..], close).map_or(text.len(), |n| open + 2 + n);
        let inside = &text[open + 2..end];
        at = (end + close.len()).min(text.len());
        tags += 1;
        if tags > TAGS {
            return Err(too_much(format!("There are more than {TAGS} placeholders and conditions.")));
        }
        if inside.len() > TAG_LENGTH {
            return Err(too_much(format!("A placeholder has more than {TAG_LENGTH} characters.")));
        }
        if close == COMMENT_ENDS {
            continue;
        }
        if inside.contains('*') {
            return Err(too_much("A placeholder multiplies nothing: take the * out.".into()));
        }
        if signs(inside) > TAG_SIGNS {
            return Err(too_much(format!("A placeholder has more than {TAG_SIGNS} signs and words that nest or chain.")));
        }
        if condition {
            let word = inside.trim_start_matches(['-', '+']).split_whitespace().next().unwrap_or_default();
            match word {
                "if" => depth += 1,
                "elif" | "else" => alternatives += 1,
                "endif" => depth = depth.saturating_sub(1),
                other => return Err(too_much(format!("“{other}” can’t be used here: there are if, elif, else and endif."))),
            }
        }
        if depth > CONDITIONS {
            return Err(too_much(format!("More than {CONDITIONS} conditions stand inside one another.")));
        }
        if alternatives > ALTERNATIVES {
            return Err(too_much(format!("There are more than {ALTERNATIVES} alternatives (elif, else).")));
        }
    }
    Ok(())
}

/// Where the next tag opens, how it closes, and whether it is a condition.
fn next_tag(text: &str) -> Option<(usize, &'static str, bool)> {
    let mut from = 0;
    while let Some(at) = text[from..].find('{').map(|n| from + n) {
        match text.as_bytes().get(at + 1) {
            Some(b'{') => return Some((at, "}}", false)),
            Some(b'%') => return Some((at, "%}", true)),
            Some(b'#') => return Some((at, COMMENT_ENDS, false)),
            _ => from = at + 1,
        }
    }
    None
}

const COMMENT_ENDS: &str = "#}";

/// The characters of an expression that stand in no quoted words, with their places; of those only the quote that opens them.
fn unquoted(expression: &str) -> impl Iterator<Item = (usize, char)> {
    let (mut quote, mut escaped) = (None, false);
    expression.char_indices().filter(move |(_, c)| match quote {
        Some(_) if escaped => {
            escaped = false;
            false
        }
        Some(q) => {
            escaped = *c == '\\';
            if *c == q {
                quote = None;
            }
            false
        }
        None => {
            quote = Some(*c).filter(|c| matches!(c, '"' | '\''));
            true
        }
    })
}

/// Where a tag closes: the engine doesn't look for that within quoted words, but in comments it does.
fn closing(rest: &str, close: &str) -> Option<usize> {
    if close == COMMENT_ENDS {
        return rest.find(close);
    }
    unquoted(rest).map(|(at, _)| at).find(|at| rest[*at..].starts_with(close))
}

/// Signs and words outside of quoted words that put an expression inside another or behind it.
fn signs(inside: &str) -> usize {
    let (mut n, mut word) = (0, String::new());
    for c in unquoted(inside).map(|(_, c)| c).chain([' ']) {
        if c.is_alphanumeric() || c == '_' {
            word.push(c);
            continue;
        }
        n += usize::from("|([{-+/~%.<>=!:,".contains(c));
        n += usize::from(matches!(word.as_str(), "not" | "and" | "or" | "in" | "is" | "if" | "else"));
        word.clear();
    }
    n
}

/// Elements that have no end, or end by themselves where the next begins.
const ENDS_ITSELF: [&str; 28] = [
    "area", "base", "br", "col", "embed", "hr", "img", "input", "link", "meta", "source", "track", "wbr", "p", "li", "dt", "dd", "tr",
    "td", "th", "thead", "tbody", "tfoot", "colgroup", "option", "optgroup", "html", "body",
];

/// May HTML be read?
///
/// # Errors
/// With the line and what is too much there.
pub fn html(text: &str) -> Result<(), TemplateError> {
    if text.len() > 2 * LONGEST {
        return Err(too_much(1, format!("The HTML has {} kB; at most {} kB are read.", text.len() / 1_000, 2 * LONGEST / 1_000)));
    }
    let bytes = text.as_bytes();
    let (mut at, mut elements) = (0, 0);
    // The names of those that are open. What closes another than the last is taken for nothing, as it may be by those who read the HTML;
    // and what stands in comments counts, since what ends a comment is a matter of who reads it, too.
    let mut open: Vec<String> = Vec::new();
    while let Some(begins) = memchr(bytes, at, b'<') {
        let closes = bytes.get(begins + 1) == Some(&b'/');
        let from = begins + 1 + usize::from(closes);
        let to = from + bytes[from.min(bytes.len())..].iter().take(40).take_while(|b| b.is_ascii_alphanumeric()).count();
        at = begins + 1;
        if to == from {
            continue;
        }
        let name = text[from..to].to_ascii_lowercase();
        at = memchr(bytes, to, b'>').unwrap_or(text.len());
        if closes {
            if open.last() == Some(&name) {
                open.pop();
            }
            continue;
        }
        elements += 1;
        if elements > ELEMENTS {
            return Err(too_much(line_at(text, begins), format!("There are more than {ELEMENTS} elements.")));
        }
        if !ENDS_ITSELF.contains(&name.as_str()) {
            open.push(name);
        }
        if let Some(name) = open.last().filter(|_| open.len() > ELEMENTS_DEEP) {
            let words = format!("More than {ELEMENTS_DEEP} elements stand inside one another: end those that are open (here “{name}”).");
            return Err(too_much(line_at(text, begins), words));
        }
    }
    let rules = bytes.iter().filter(|b| **b == b'{').count();
    if text.to_ascii_lowercase().contains("<style") && rules.saturating_mul(elements) > STYLE_WORK {
        return Err(too_much(
            1,
            format!("{rules} rules of style for {elements} elements are too many: leave out those that nothing uses."),
        ));
    }
    Ok(())
}

fn memchr(bytes: &[u8], from: usize, b: u8) -> Option<usize> {
    bytes.get(from..)?.iter().position(|x| *x == b).map(|n| from + n)
}

/// May Markdown be read?
///
/// # Errors
/// With the line and what is too much there.
pub fn markdown(text: &str) -> Result<(), TemplateError> {
    if text.len() > LONGEST {
        return Err(too_much(1, format!("The text has {} kB; at most {} kB are read.", text.len() / 1_000, LONGEST / 1_000)));
    }
    let mut open = 0_usize;
    for (n, line) in text.lines().enumerate() {
        let mut marks = 0;
        for c in line.chars() {
            match c {
                '>' | '-' | '+' | '*' => marks += 1,
                ' ' | '\t' | '.' | ')' => {}
                c if c.is_ascii_digit() => {}
                _ => break,
            }
        }
        let rule = line.trim().chars().all(|c| c == '-' || c == '*' || c == ' ');
        if marks > MARKS && !rule {
            return Err(too_much(n + 1, format!("This line stands inside more than {MARKS} quotes and lists.")));
        }
        if line.trim().is_empty() {
            open = 0;
        }
        for c in line.chars() {
            match c {
                '[' | '(' => open += 1,
                ']' | ')' => open = open.saturating_sub(1),
                _ => {}
            }
        }
        if open > BRACKETS {
            return Err(too_much(n + 1, format!("More than {BRACKETS} brackets are open here.")));
        }
    }
    html(text)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn ordinary_texts_pass_and_each_bound_says_what_is_too_much() {
        let letter = "<html><body><style>p { color: red }</style><table><tr><td><p>Dear {{ given_name|default(\"friend\") }}, a < b * c<p>{% if variant == \"B\" %}x{% elif country %}y{% else %}z{% endif %}</table>";
        assert_eq!(
            (template(letter), html(letter), markdown("> # Tide *notes* [a](b)\n- one\n  - two\n\n----------\n")),
            (Ok(()), Ok(()), Ok(()))
        );
        let says = |r: Result<(), TemplateError>, line: usize, words: &str| {
            let e = r.unwrap_err();
            assert!(e.line == Some(line) && e.words.contains(words), "{e:?}");
        };
        says(template(&"x".repeat(500_001)), 1, "500 kB");
        says(template(&format!("a\n{{% if a %}}{}", "{% elif 0 %}".repeat(3_000))), 2, "alternatives");
        says(template(&"{% if a %}\n".repeat(30)), 21, "conditions stand inside");
        says(template(&format!("{{{{ {}a }}}}", "not ".repeat(200))), 1, "nest or chain");
        says(template(&format!("{{{{ a{} }}}}", "|upper".repeat(100))), 1, "nest or chain");
        says(template("{{ \"x\" * 1000000000 }}"), 1, "multiplies");
        says(template("{% set a = a ~ a %}"), 1, "can’t be used");
        // What never closes, or seems to close in quoted words, is followed as the engine follows it.
        says(template(&format!("\n{{{{ {}", "not ".repeat(200))), 2, "nest or chain");
        says(template(&format!("{{{{ \"}}}}\" {}", "(".repeat(200))), 1, "nest or chain");
        says(template(&format!("{{{{ \"\\\"}}}}\" {} }}}}", "not ".repeat(200))), 1, "nest or chain");
        says(html(&"<!--><div>".repeat(300)), 1, "inside one another");
        says(html(&"<div></x>".repeat(300)), 1, "inside one another");
        says(html(&"<b><div></b>".repeat(300)), 1, "inside one another");
        says(html(&"<div>\n".repeat(3_000)), 201, "inside one another");
        says(html(&format!("<style>{}</style>{}", "a{b:c}".repeat(4_000), "<i></i>".repeat(20_000))), 1, "rules of style");
        says(markdown(&"> ".repeat(4_000)), 1, "quotes and lists");
        says(markdown(&"[".repeat(4_000)), 1, "brackets");
    }

    proptest! {
        /// Whatever is written, it is judged at once and without an end.
        #[test]
        fn no_text_breaks_it(text in "\\PC{0,400}", piece in prop::sample::select(vec!["{{", "{%", "}}", "%}", "<", "</", "<!--", "-->", "<style", "{#", "“", "not "]), times in 0usize..2_000) {
            let all = format!("{text}{}{text}", piece.repeat(times));
            let _ = (template(&all), html(&all), markdown(&all));
        }
    }
}
