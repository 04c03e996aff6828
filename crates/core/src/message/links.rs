//! Links become countable: each place a link stands in is a link of its own, under a readable name.

use super::TemplateError;
use lol_html::{RewriteStrSettings, element, rewrite_str, text};
use serde::{Deserialize, Serialize};
use std::cell::RefCell;
use std::rc::Rc;

/// A link of the message, counted under a readable name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, utoipa::ToSchema, Deserialize)]
pub struct Link {
    pub url: String,
    pub name: String,
}

/// A message whose links have become placeholders (`link_0`, `link_1`, …).
#[derive(Debug, Clone)]
pub struct Prepared {
    pub html: String,
    pub text: String,
    pub links: Vec<Link>,
}

/// Does it lead to the web, by its whole address?
#[must_use]
pub fn is_web_link(href: &str) -> bool {
    href.starts_with("https://") || href.starts_with("http://")
}

/// Replaces every web link of both parts by a placeholder and lists them by position.
///
/// # Errors
/// When the HTML can't be read.
pub fn prepare(html: &str, text: &str) -> Result<Prepared, TemplateError> {
    let links: Rc<RefCell<Vec<Link>>> = Rc::default();
    let open: Rc<RefCell<Option<usize>>> = Rc::default();
    let (seen, current) = (Rc::clone(&links), Rc::clone(&open));
    let (named, inside) = (Rc::clone(&links), Rc::clone(&open));
    let html = rewrite_str(
        html,
        RewriteStrSettings::new()
            .append_element_content_handler(element!("a[href]", move |el| {
                let href = el.get_attribute("href").unwrap_or_default();
                // As browsers read it (URL Standard, section 4.4): without line breaks and tabs, wherever they stand.
                let href = href.trim().replace(['\r', '\n', '\t'], "").replace("&amp;", "&");
                *current.borrow_mut() = None;
                if is_web_link(&href) && !href.contains("{{") {
                    let mut all = seen.borrow_mut();
                    let n = all.len();
                    *current.borrow_mut() = Some(n);
                    all.push(Link { url: href, name: String::new() });
                    el.set_attribute("href", &format!("{{{{ link_{n} }}}}"))?;
                }
                Ok(())
            }))
            .append_element_content_handler(text!("a[href]", move |chunk| {
                if let Some(n) = *inside.borrow() {
                    named.borrow_mut()[n].name.push_str(chunk.as_str());
                }
                Ok(())
            })),
    )
    .map_err(|e| TemplateError { line: None, words: format!("The HTML can't be read: {e}.") })?;
    let mut links = links.take();
    let mut plain = String::new();
    let mut rest = text;
    while let Some(at) = [rest.find("https://"), rest.find("http://")].into_iter().flatten().min() {
        let end = rest[at..].find(|c: char| c.is_whitespace() || "<>\")]}".contains(c)).map_or(rest.len(), |e| at + e);
        let url = rest[at..end].trim_end_matches(['.', ',', ';', ':', '!', '?']);
        plain.push_str(&rest[..at]);
        if url.contains("{{") {
            plain.push_str(url);
        } else {
            let n = links.iter().position(|l| l.url == url).unwrap_or(links.len());
            if n == links.len() {
                links.push(Link { url: url.to_owned(), name: String::new() });
            }
            plain.push_str(&format!("{{{{ link_{n} }}}}"));
        }
        rest = &rest[at + url.len()..];
    }
    plain.push_str(rest);
    for link in &mut links {
        link.name = link.name.split_whitespace().collect::<Vec<_>>().join(" ").chars().take(80).collect();
        if link.name.is_empty() {
            link.name = link.url.chars().take(80).collect();
        }
    }
    let pixel = "<img src=\"{{ open_url }}\" width=\"1\" height=\"1\" alt=\"\">";
    let html = match html.to_ascii_lowercase().rfind("</body>") {
        Some(at) => format!("{}{pixel}{}", &html[..at], &html[at..]),
        None => format!("{html}{pixel}"),
    };
    Ok(Prepared { html, text: plain, links })
}

/// The HTML with a mark for each link in place of its address: the counts can be drawn on the message. `mark` gets
/// a link's position, as [`prepare`] counts them, and returns what is put behind it.
///
/// # Errors
/// When the HTML can't be read.
pub fn placed(html: &str, mark: impl Fn(usize) -> String) -> Result<String, TemplateError> {
    let n = RefCell::new(0);
    rewrite_str(
        html,
        RewriteStrSettings::new().append_element_content_handler(element!("a[href]", |el| {
            let href = el.get_attribute("href").unwrap_or_default();
            let href = href.trim();
            if is_web_link(href) && !href.contains("{{") {
                el.after(&mark(*n.borrow()), lol_html::html_content::ContentType::Html);
                *n.borrow_mut() += 1;
            }
            // A drawn message leads nowhere.
            el.remove_attribute("href");
            Ok(())
        })),
    )
    .map_err(|e| TemplateError { line: None, words: format!("The HTML can't be read: {e}.") })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn links_are_counted_once_per_place_and_named() {
        let html = "<p>Hello</p>\n<a href=\"https://skerry-light.example/boats?a=1&amp;b=2\">Book <b>a boat</b></a> <a href=\"{{ unsubscribe_url }}\">Leave</a>";
        let p = prepare(html, "Hello, book: https://skerry-light.example/boats?a=1&b=2.").unwrap();
        assert_eq!(p.links, [Link { url: "https://skerry-light.example/boats?a=1&b=2".into(), name: "Book a boat".into() }]);
        assert!(p.html.contains("{{ link_0 }}") && p.text.contains("{{ link_0 }}.") && p.html.contains("{{ unsubscribe_url }}"));
    }

    proptest! {
        /// Whatever stands around them, making links countable changes nothing outside the links. (A tag
        /// left open is no text: the link after it would be a part of it.)
        #[test]
        fn preparing_keeps_visible_text(words in prop::collection::vec(prop_oneof![
            "[a-z >&;é]{0,12}", "[a-z]{0,3} < [a-z]{0,3}", "<(b|i|td)>[a-z ]{0,6}", "</(b|p)>", Just("<br/>".to_owned()), Just("<!-- a -->".to_owned()),
        ], 0..8)) {
            let html = words.join("<a href=\"https://tern.example/x\">link</a>");
            let p = prepare(&html, "t").unwrap();
            let back = p.html.replace("<img src=\"{{ open_url }}\" width=\"1\" height=\"1\" alt=\"\">", "");
            let mut restored = back;
            for n in (0..p.links.len()).rev() {
                restored = restored.replace(&format!("{{{{ link_{n} }}}}"), "https://tern.example/x");
            }
            prop_assert_eq!(restored, html);
        }
    }
}
