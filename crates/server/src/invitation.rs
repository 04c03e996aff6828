//! The letter that asks somebody who signed up to confirm.

use crate::templates::templates;
use minijinja::{Value, context};
use rinse_core::id::SendId;
use rinse_core::token::{Kind, Signer};
use rinse_post::compose::{self, Composed, Note, Sender};
use rinse_post::dkim::KeySigner;
use rinse_store::letterheads::Letterhead;
use rinse_store::signups::Invitation;

/// The message that asks to confirm: it holds no advertising.
pub(crate) fn letter(
    (l, keys): (&Letterhead, &[KeySigner]),
    i: &Invitation,
    signer: &Signer,
    base_url: &str,
    at_seconds: i64,
) -> Result<Composed, String> {
    let link =
        Value::from_safe_string(format!("{}/i/{}", base_url.trim_end_matches('/'), signer.link(Kind::Confirm, SendId(i.sign_up), 0)));
    let values =
        context! { given_name => i.given_name.as_deref(), name => l.name.as_str(), link, postal_address => l.postal_address.as_str() };
    let render = |name: &str| templates().get_template(name).and_then(|t| t.render(&values)).map_err(|e| e.to_string());
    let (text, html) = (render("invitation.txt")?, render("invitation.html")?);
    let sender = Sender {
        name: l.from_name.clone(),
        address: l.from_address.clone(),
        postal_address: l.postal_address.clone(),
        ..Sender::default()
    };
    let token = signer.mailbox(Kind::Confirm, SendId(i.sign_up));
    let subject = format!("Please confirm your sign-up with {}", l.name);
    let number = format!("invitation-{}", i.sign_up);
    let note = Note { to: &i.address, subject: &subject, text: &text, html: &html, number: &number, token: &token, attached: None };
    compose::note(&sender, &note, keys, at_seconds).map_err(|e| e.to_string())
}
