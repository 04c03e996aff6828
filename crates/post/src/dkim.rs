//! DKIM signatures (RFC 6376; Ed25519 by RFC 8463), covering the List-Unsubscribe headers as RFC 8058 asks.

use mail_auth::common::crypto::{Ed25519Key, RsaKey, Sha256};
use mail_auth::common::headers::HeaderWriter;
use mail_auth::dkim::generate::DkimKeyPair;
use mail_auth::dkim::{DkimSigner, Done};
use rustls_pki_types::{PrivateKeyDer, PrivatePkcs1KeyDer};

/// The headers that every signature covers.
pub const COVERED: [&str; 9] =
    ["From", "To", "Reply-To", "Subject", "Date", "Message-ID", "MIME-Version", "List-Unsubscribe", "List-Unsubscribe-Post"];

/// How a key signs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Algorithm {
    Rsa2048,
    Ed25519,
}

impl Algorithm {
    #[must_use]
    pub fn code(self) -> &'static str {
        match self {
            Self::Rsa2048 => "rsa",
            Self::Ed25519 => "ed25519",
        }
    }

    #[must_use]
    pub fn from_code(code: &str) -> Option<Self> {
        [Self::Rsa2048, Self::Ed25519].into_iter().find(|a| a.code() == code)
    }
}

/// A key that can't be made or used.
#[derive(Debug, thiserror::Error)]
#[error("The DKIM key can't be used: {0}.")]
pub struct KeyError(String);

/// A new key: its private part (DER) and the public part as it stands in DNS (base64).
///
/// # Errors
/// When the library can't make one.
pub fn new_key(algorithm: Algorithm) -> Result<(Vec<u8>, String), KeyError> {
    let failed = |e: mail_auth::Error| KeyError(e.to_string());
    let pair = match algorithm {
        Algorithm::Rsa2048 => DkimKeyPair::generate_rsa(2048).map_err(failed)?,
        Algorithm::Ed25519 => DkimKeyPair::generate_ed25519().map_err(failed)?,
    };
    let public = match algorithm {
        Algorithm::Rsa2048 => base64(&subject_public_key_info(pair.public_key())),
        Algorithm::Ed25519 => pair.encoded_public_key(),
    };
    Ok((pair.private_key().to_vec(), public))
}

/// RFC 6376 errata 3017: hosts expect the key wrapped as RFC 5280 has it, and the library gives the bare one.
fn subject_public_key_info(rsa: &[u8]) -> Vec<u8> {
    let sized = |tag: u8, body: &[u8]| {
        let mut out = vec![tag];
        match body.len() {
            n @ 0..=127 => out.push(u8::try_from(n).unwrap_or(0)),
            n @ 128..=255 => out.extend([0x81, u8::try_from(n).unwrap_or(0)]),
            n => out.extend([0x82, u8::try_from(n >> 8 & 0xff).unwrap_or(0), u8::try_from(n & 0xff).unwrap_or(0)]),
        }
        out.extend_from_slice(body);
        out
    };
    // rsaEncryption, no parameters.
    let algorithm = sized(0x30, &[0x06, 0x09, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x01, 0x01, 0x05, 0x00]);
    let bits: Vec<u8> = std::iter::once(0).chain(rsa.iter().copied()).collect();
    sized(0x30, &[algorithm, sized(0x03, &bits)].concat())
}

fn base64(bytes: &[u8]) -> String {
    use base64::Engine;
    base64::engine::general_purpose::STANDARD.encode(bytes)
}

/// The TXT record that tells the world of a key: what stands in DNS at `selector._domainkey.domain`.
#[must_use]
pub fn record(algorithm: Algorithm, public: &str) -> String {
    format!("v=DKIM1; k={}; p={public}", algorithm.code())
}

/// The name at which a key's record stands.
#[must_use]
pub fn record_name(selector: &str, domain: &str) -> String {
    format!("{selector}._domainkey.{domain}")
}

/// Does a record found in DNS tell of this key? Spaces and the order of tags don't matter.
#[must_use]
pub fn record_fits(found: &str, algorithm: Algorithm, public: &str) -> bool {
    let tag = |name: &str| {
        found
            .split(';')
            .find_map(|t| t.split_once('=').filter(|(n, _)| n.trim() == name))
            .map(|(_, v)| v.split_whitespace().collect::<String>())
    };
    tag("p").as_deref() == Some(public) && tag("k").as_deref().unwrap_or("rsa") == algorithm.code()
}

enum Key {
    Rsa(Box<DkimSigner<RsaKey<Sha256>, Done>>),
    Ed25519(Box<DkimSigner<Ed25519Key, Done>>),
}

/// Signs messages with one key of one domain.
pub struct KeySigner(Key);

impl KeySigner {
    /// # Errors
    /// When the key can't be read.
    pub fn new(algorithm: Algorithm, private: &[u8], domain: &str, selector: &str) -> Result<Self, KeyError> {
        let failed = |e: mail_auth::Error| KeyError(e.to_string());
        Ok(Self(match algorithm {
            Algorithm::Rsa2048 => {
                let key = RsaKey::<Sha256>::from_key_der(PrivateKeyDer::Pkcs1(PrivatePkcs1KeyDer::from(private))).map_err(failed)?;
                Key::Rsa(Box::new(DkimSigner::from_key(key).domain(domain).selector(selector).headers(COVERED)))
            }
            Algorithm::Ed25519 => {
                let key = Ed25519Key::from_pkcs8_maybe_unchecked_der(private).map_err(failed)?;
                Key::Ed25519(Box::new(DkimSigner::from_key(key).domain(domain).selector(selector).headers(COVERED)))
            }
        }))
    }

    /// The message with its signature before it.
    ///
    /// # Errors
    /// When the library can't sign it.
    pub fn sign(&self, message: Vec<u8>) -> Result<Vec<u8>, KeyError> {
        let signature = match &self.0 {
            Key::Rsa(signer) => signer.sign(&message),
            Key::Ed25519(signer) => signer.sign(&message),
        };
        let mut out = signature.map_err(|e| KeyError(e.to_string()))?.to_header().into_bytes();
        out.extend_from_slice(&message);
        Ok(out)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use mail_auth::AuthenticatedMessage;
    use mail_auth::common::crypto::HashAlgorithm;
    use mail_auth::common::parse::TxtRecordParser;
    use mail_auth::common::verify::DomainKey;
    use rstest::rstest;

    const MESSAGE: &str = "From: Skerry Light <l@skerry-light.example>\r\nTo: wren@tern.example\r\nSubject: Boats\r\nList-Unsubscribe: <https://skerry-light.example/u/x>\r\nList-Unsubscribe-Post: List-Unsubscribe=One-Click\r\n\r\nBoats.\r\n";

    /// Checks a signed message as a host would, with the key as it stands in DNS.
    fn holds(signed: &[u8], record: &str) -> bool {
        let message = AuthenticatedMessage::parse(signed).unwrap();
        let found = &message.dkim_headers[0];
        let signature = &found.header;
        let key = DomainKey::parse(record.as_bytes()).unwrap().p;
        let body = message.body_hashes.iter().any(|(_, hash, _, digest)| *hash == HashAlgorithm::Sha256 && *digest == signature.bh);
        // The signature covers its own header with an empty b (RFC 6376 section 3.7).
        let value = String::from_utf8(found.value.to_vec()).unwrap();
        let tags: Vec<&str> =
            value.split(';').map(|t| if t.trim_start().starts_with("b=") { &t[..=t.find('=').unwrap()] } else { t }).collect();
        let value = tags.join(";").trim_end().to_owned();
        let mut headers = message.signed_headers(&signature.h, found.name, value.as_bytes());
        body && key.verify(&mut headers, &signature.b, signature.ch, signature.a).is_ok()
    }

    #[rstest]
    #[case(Algorithm::Ed25519)]
    #[case(Algorithm::Rsa2048)]
    fn a_host_that_knows_the_record_finds_the_message_as_it_was_signed(#[case] algorithm: Algorithm) {
        let (private, public) = new_key(algorithm).unwrap();
        let record = record(algorithm, &public);
        assert!(record_fits(&record, algorithm, &public) && !record_fits(&record.replace("p=", "p=A"), algorithm, &public));
        let signed = KeySigner::new(algorithm, &private, "skerry-light.example", "rinse1").unwrap().sign(MESSAGE.into()).unwrap();
        assert!(holds(&signed, &record));
        let text = String::from_utf8(signed).unwrap();
        for (was, is) in [("/u/x", "/u/y"), ("Boats.\r\n", "Boots.\r\n"), ("One-Click", "Two-Clicks"), ("Subject: Boats", "Subject: Boots")]
        {
            assert!(text.contains(was) && !holds(text.replace(was, is).as_bytes(), &record), "{was} is covered");
        }
    }
}
