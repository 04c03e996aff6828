//! The templates of public pages and of the letter that asks to confirm, read once.

use minijinja::Environment;
use std::sync::OnceLock;

/// The templates; what is put into HTML is escaped.
pub(crate) fn templates() -> &'static Environment<'static> {
    static TEMPLATES: OnceLock<Environment<'static>> = OnceLock::new();
    TEMPLATES.get_or_init(|| {
        let mut env = Environment::new();
        for (name, source) in [
            ("frame.html", include_str!("../templates/frame.html")),
            ("plain.html", include_str!("../templates/plain.html")),
            ("leave.html", include_str!("../templates/leave.html")),
            ("left.html", include_str!("../templates/left.html")),
            ("go_on.html", include_str!("../templates/go_on.html")),
            ("preferences.html", include_str!("../templates/preferences.html")),
            ("signup.html", include_str!("../templates/signup.html")),
            ("confirm.html", include_str!("../templates/confirm.html")),
            ("confirmed.html", include_str!("../templates/confirmed.html")),
            ("invitation.html", include_str!("../templates/invitation.html")),
            ("invitation.txt", include_str!("../templates/invitation.txt")),
        ] {
            if let Err(e) = env.add_template(name, source) {
                tracing::error!("a template can't be read: {e}");
            }
        }
        env
    })
}
