//! A text message as it is written, and as one person gets it.

use crate::message::{CONTACT_PLACEHOLDERS, TemplateError, bounds, engine};
use minijinja::{Environment, Value};
use std::collections::BTreeMap;

/// The placeholders that the letterhead and the send fill; they are always there.
pub const SEND_PLACEHOLDERS: [&str; 2] = ["sender_name", "preferences_url"];

/// Every placeholder that there is for a text message, those of custom fields last.
pub fn placeholders<'a>(own: impl Iterator<Item = &'a str>) -> impl Iterator<Item = &'a str> {
    CONTACT_PLACEHOLDERS.into_iter().chain(SEND_PLACEHOLDERS).chain(own)
}

/// A message that was read, ready for many people.
pub struct Template {
    env: Environment<'static>,
}

const NAME: &str = "text.txt";

impl Template {
    /// # Errors
    /// When its placeholders can't be read, with the line.
    pub fn new(body: &str) -> Result<Self, TemplateError> {
        bounds::template(body)?;
        let mut env = engine(false);
        env.add_template_owned(NAME, body.replace("\r\n", "\n")).map_err(|e| wrong(&e))?;
        Ok(Self { env })
    }

    /// The message for one person; a value that is empty takes its placeholder's default.
    ///
    /// # Errors
    /// When a placeholder can't be filled.
    pub fn fill<'a>(&self, values: impl IntoIterator<Item = (&'a str, &'a str)>) -> Result<String, TemplateError> {
        let values: BTreeMap<&str, Value> =
            values.into_iter().filter(|(_, v)| !v.is_empty()).map(|(name, v)| (name, Value::from(v))).collect();
        let text = self.env.get_template(NAME).and_then(|t| t.render(values)).map_err(|e| wrong(&e))?;
        Ok(text.trim().to_owned())
    }
}

fn wrong(e: &minijinja::Error) -> TemplateError {
    TemplateError { line: e.line(), words: format!("The placeholders can't be read ({}).", e.kind()) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_is_filled_for_each_and_nothing_is_escaped() {
        let t = Template::new("Ahoy {{ given_name|default(\"friend\") }}, boats & gulls at 9.\r\n{{ sender_name }}\n").unwrap();
        assert_eq!(
            t.fill([("given_name", "Ása"), ("sender_name", "Skerry Light")]).unwrap(),
            "Ahoy Ása, boats & gulls at 9.\nSkerry Light"
        );
        assert!(t.fill([("given_name", "")]).unwrap().starts_with("Ahoy friend,"));
        assert_eq!(Template::new("one\n{{ given_name").map(|_| ()).unwrap_err().line, Some(2));
    }
}
