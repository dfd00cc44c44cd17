//! Opening what a provider encrypted for us (XML Encryption 1.1; saml-core-2.0-os 6).
//!
//! Only authenticated encryption is opened (AES-GCM, 5.2.4), with a key that came by RSA-OAEP (5.5.2): with the older ones a
//! stranger learns the text by asking often enough. A failure says nothing of where it happened. What is opened is a document
//! of its own, read within the same bounds as everything else.

use aws_lc_rs::aead::{AES_128_GCM, AES_192_GCM, AES_256_GCM, Aad, Algorithm, LessSafeKey, Nonce, UnboundKey};
use aws_lc_rs::rsa::{
    OAEP_SHA1_MGF1SHA1, OAEP_SHA256_MGF1SHA256, OAEP_SHA384_MGF1SHA384, OAEP_SHA512_MGF1SHA512, OaepAlgorithm,
    OaepPrivateDecryptingKey, PrivateDecryptingKey,
};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use uppsala::NodeId;

use super::DSIG;
use super::xml::{BadXml, Xml};

const XENC: &str = "http://www.w3.org/2001/04/xmlenc#";
const XENC11: &str = "http://www.w3.org/2009/xmlenc11#";
/// The most keys that one thing is encrypted under: a provider may encrypt for two of ours while one takes over.
const KEYS_MAX: usize = 4;
const IV: usize = 12;

/// Why something encrypted is not opened.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NotOpened {
    #[error("it is encrypted with {0}, which is not accepted")]
    Algorithm(String),
    /// No key, another key, or altered: whoever sent it must not learn which.
    #[error("what is encrypted cannot be opened")]
    Closed,
    #[error("{0}")]
    Xml(#[from] BadXml),
}

/// Our private keys: the one in use, and those it takes over from.
#[derive(Default)]
pub struct Opener(Vec<OaepPrivateDecryptingKey>);

impl std::fmt::Debug for Opener {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Opener({} keys)", self.0.len())
    }
}

impl Opener {
    /// From RSA private keys in PKCS #8; what is none is left out.
    pub fn new<'a>(keys: impl IntoIterator<Item = &'a [u8]>) -> Opener {
        let read = |der| OaepPrivateDecryptingKey::new(PrivateDecryptingKey::from_pkcs8(der).ok()?).ok();
        Opener(keys.into_iter().filter_map(read).collect())
    }

    /// Opens what an EncryptedAssertion, EncryptedID or EncryptedAttribute holds.
    ///
    /// # Errors
    /// See [`NotOpened`].
    pub(super) fn open(&self, xml: &Xml<'_>, holder: NodeId) -> Result<String, NotOpened> {
        let data = xml.need(holder, XENC, "EncryptedData")?;
        let used = algorithm_of(xml, data)?;
        let cipher = cipher_named(&used).ok_or(NotOpened::Algorithm(used))?;
        let mut keys = xml.children(holder, XENC, "EncryptedKey");
        if let Some(info) = xml.child(data, DSIG, "KeyInfo")? {
            keys.extend(xml.children(info, XENC, "EncryptedKey"));
        }
        if keys.len() > KEYS_MAX {
            return Err(BadXml::Several("EncryptedKey").into());
        }
        let text = value(xml, data)?;
        for key in keys {
            let oaep = transport(xml, key)?;
            let wrapped = value(xml, key)?;
            for ours in &self.0 {
                if let Some(plain) = unwrap(ours, oaep, &wrapped).and_then(|k| decrypt(cipher, &k, &text)) {
                    let text = String::from_utf8(plain).map_err(|_| NotOpened::Closed)?;
                    return Ok(in_place(without_declaration(&text), &xml.in_scope(holder)));
                }
            }
        }
        Err(NotOpened::Closed)
    }
}

/// What was encrypted may begin as a document of its own does: a mark of its byte order and an XML declaration say nothing in its place.
fn without_declaration(text: &str) -> &str {
    let text = text.trim_start_matches('\u{feff}').trim_start();
    match text.strip_prefix("<?xml ") {
        Some(rest) => rest.split_once("?>").map_or(text, |(_, rest)| rest.trim_start()),
        None => text,
    }
}

fn algorithm_of(xml: &Xml<'_>, node: NodeId) -> Result<String, NotOpened> {
    let method = xml.need(node, XENC, "EncryptionMethod")?;
    Ok(xml.attribute(method, "Algorithm").unwrap_or_default().chars().take(100).collect())
}

fn cipher_named(name: &str) -> Option<&'static Algorithm> {
    match name.strip_prefix(XENC11)? {
        "aes128-gcm" => Some(&AES_128_GCM),
        "aes192-gcm" => Some(&AES_192_GCM),
        "aes256-gcm" => Some(&AES_256_GCM),
        _ => None,
    }
}

/// The bytes that stand in a CipherValue; a reference to somewhere else is never followed.
fn value(xml: &Xml<'_>, node: NodeId) -> Result<Vec<u8>, NotOpened> {
    let data = xml.need(node, XENC, "CipherData")?;
    let text = xml.text(xml.need(data, XENC, "CipherValue")?, "CipherValue")?;
    let plain: String = text.chars().filter(|c| !c.is_ascii_whitespace()).collect();
    STANDARD.decode(plain).map_err(|_| NotOpened::Closed)
}

/// How a key was wrapped: RSA-OAEP, with the same hash for its digest and its mask (5.5.2), without parameters.
fn transport(xml: &Xml<'_>, key: NodeId) -> Result<&'static OaepAlgorithm, NotOpened> {
    let used = algorithm_of(xml, key)?;
    let method = xml.need(key, XENC, "EncryptionMethod")?;
    if xml.child(method, XENC, "OAEPparams")?.is_some() {
        return Err(NotOpened::Algorithm("RSA-OAEP with parameters".to_owned()));
    }
    let named = |node: Option<NodeId>| node.map(|n| xml.attribute(n, "Algorithm").unwrap_or_default().to_owned());
    let digest = named(xml.child(method, DSIG, "DigestMethod")?);
    let mask = named(xml.child(method, XENC11, "MGF")?);
    let bits = |of: &Option<String>| match of.as_deref().map(|a| a.rsplit('#').next().unwrap_or_default()) {
        None | Some("sha1" | "mgf1sha1") => Some(1),
        Some("sha256" | "mgf1sha256") => Some(256),
        Some("sha384" | "mgf1sha384") => Some(384),
        Some("sha512" | "mgf1sha512") => Some(512),
        Some(_) => None,
    };
    let old = used == format!("{XENC}rsa-oaep-mgf1p");
    if !old && used != format!("{XENC11}rsa-oaep") {
        return Err(NotOpened::Algorithm(used));
    }
    // The older name fixes the mask to SHA-1.
    let mask = if old { None } else { mask };
    match (bits(&digest), bits(&mask)) {
        (Some(1), Some(1)) => Ok(&OAEP_SHA1_MGF1SHA1),
        (Some(256), Some(256)) => Ok(&OAEP_SHA256_MGF1SHA256),
        (Some(384), Some(384)) => Ok(&OAEP_SHA384_MGF1SHA384),
        (Some(512), Some(512)) => Ok(&OAEP_SHA512_MGF1SHA512),
        _ => Err(NotOpened::Algorithm(format!(
            "RSA-OAEP with the digest {} and the mask {}",
            digest.as_deref().unwrap_or("SHA-1"),
            mask.as_deref().unwrap_or("SHA-1")
        ))),
    }
}

/// What was encrypted stood in a document, whose prefixes it may use (XML Encryption 1.1 4.5): those that its own first tag does
/// not declare are put there. A signature inside covers what its prefixes stand for, so that a changed one is noticed.
fn in_place(text: &str, scope: &[(String, String)]) -> String {
    let mut quote = None;
    let end = text.char_indices().find(|(_, c)| match (quote, c) {
        (None, '"' | '\'') => {
            quote = Some(*c);
            false
        }
        (Some(q), c) if q == *c => {
            quote = None;
            false
        }
        (None, '>') => true,
        _ => false,
    });
    let Some((end, _)) = end.filter(|_| text.starts_with('<')) else { return text.to_owned() };
    let tag = &text[..end];
    let name = tag.find(|c: char| c.is_whitespace() || c == '/').unwrap_or(end);
    let declares = |prefix: &str| {
        let attribute = if prefix.is_empty() { "xmlns".to_owned() } else { format!("xmlns:{prefix}") };
        tag.match_indices(&attribute).any(|(i, _)| tag[i + attribute.len()..].trim_start().starts_with('='))
    };
    let missing = scope.iter().filter(|(p, _)| !declares(p) && p != "xml");
    let more: String = missing
        .map(|(p, uri)| {
            let colon = if p.is_empty() { "" } else { ":" };
            format!(" xmlns{colon}{p}=\"{}\"", super::write::escaped(uri))
        })
        .collect();
    format!("{}{more}{}", &text[..name], &text[name..])
}

fn unwrap(key: &OaepPrivateDecryptingKey, oaep: &'static OaepAlgorithm, wrapped: &[u8]) -> Option<Vec<u8>> {
    let mut out = vec![0; key.min_output_size()];
    key.decrypt(oaep, wrapped, &mut out, None).ok().map(|k| k.to_vec())
}

fn decrypt(cipher: &'static Algorithm, key: &[u8], text: &[u8]) -> Option<Vec<u8>> {
    let key = LessSafeKey::new(UnboundKey::new(cipher, key).ok()?);
    let (iv, sealed) = text.split_at_checked(IV)?;
    let mut sealed = sealed.to_vec();
    let nonce = Nonce::try_assume_unique_for_key(iv).ok()?;
    let len = key.open_in_place(nonce, Aad::empty(), &mut sealed).ok()?.len();
    sealed.truncate(len);
    Some(sealed)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn prefixes_of_the_place_are_declared_where_they_are_not_yet() {
        let scope = [("a", "urn:a"), ("", "urn:d"), ("ab", "urn:<ab>")].map(|(p, u)| (p.to_owned(), u.to_owned()));
        for (text, wanted) in [
            ("<a:x>1</a:x>", "<a:x xmlns:a=\"urn:a\" xmlns=\"urn:d\" xmlns:ab=\"urn:&lt;ab&gt;\">1</a:x>"),
            ("<x xmlns = 'y' xmlns:ab='>'/>", "<x xmlns:a=\"urn:a\" xmlns = 'y' xmlns:ab='>'/>"),
            ("<x/>", "<x xmlns:a=\"urn:a\" xmlns=\"urn:d\" xmlns:ab=\"urn:&lt;ab&gt;\"/>"),
            ("no", "no"),
            ("<never", "<never"),
            ("", ""),
        ] {
            assert_eq!(in_place(text, &scope), wanted);
        }
    }
}
