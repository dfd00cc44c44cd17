//! Asking a provider (saml-core-2.0-os 3.4.1), by the redirect binding (saml-bindings-2.0-os 3.4) or by a form that posts
//! itself (3.5). Identifiers are handed in, 128 random bits at least.

use std::io::Write;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use chrono::{DateTime, Utc};
use flate2::Compression;
use flate2::write::DeflateEncoder;
use url::Url;

/// What is asked.
#[derive(Clone, Copy, Debug)]
pub struct Request<'a> {
    /// Not a digit at its beginning: it is an XML name.
    pub id: &'a str,
    /// Where it is sent.
    pub destination: &'a str,
    /// Where the answer is wanted.
    pub consumer: &'a str,
    /// Our entity id.
    pub issuer: &'a str,
    pub now: DateTime<Utc>,
    /// Whether the person must prove again who they are.
    pub anew: bool,
    /// Authentication contexts, any of which will do; none is left to the provider.
    pub contexts: &'a [String],
    /// The NameID format wanted.
    pub format: Option<&'a str>,
}

/// Text as the content of an attribute or element.
fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\t' | '\n' | '\r' => out.push_str(&format!("&#{};", u32::from(c))),
            c => out.push(c),
        }
    }
    out
}

impl Request<'_> {
    /// The request as XML.
    pub fn xml(&self) -> String {
        let anew = if self.anew { " ForceAuthn=\"true\"" } else { "" };
        let policy = match self.format {
            Some(f) => format!("<samlp:NameIDPolicy Format=\"{}\" AllowCreate=\"true\"/>", escaped(f)),
            None => "<samlp:NameIDPolicy AllowCreate=\"true\"/>".to_owned(),
        };
        let classes: String = self
            .contexts
            .iter()
            .map(|c| format!("<saml:AuthnContextClassRef>{}</saml:AuthnContextClassRef>", escaped(c)))
            .collect();
        let contexts = match classes.is_empty() {
            true => String::new(),
            false => format!("<samlp:RequestedAuthnContext Comparison=\"exact\">{classes}</samlp:RequestedAuthnContext>"),
        };
        format!(
            "<samlp:AuthnRequest xmlns:samlp=\"{}\" xmlns:saml=\"{}\" ID=\"{}\" Version=\"2.0\" IssueInstant=\"{}\" Destination=\"{}\" \
             AssertionConsumerServiceURL=\"{}\" ProtocolBinding=\"{}\"{anew}><saml:Issuer>{}</saml:Issuer>{policy}{contexts}</samlp:AuthnRequest>",
            super::PROTOCOL,
            super::ASSERTION,
            escaped(self.id),
            self.now.format("%Y-%m-%dT%H:%M:%SZ"),
            escaped(self.destination),
            escaped(self.consumer),
            super::metadata::POST,
            escaped(self.issuer),
        )
    }
}

/// What signs for us. It draws its own random numbers, which nothing here may.
pub trait Signs {
    /// The algorithm's identifier (XML Signature 1.1 6.4), such as `…#rsa-sha256`.
    fn algorithm(&self) -> &'static str;
    /// A signature of bytes; of a curve as two numbers side by side ([`side_by_side`]).
    fn sign(&self, bytes: &[u8]) -> Option<Vec<u8>>;
}

/// A signature on P-256 as XML signatures carry it (XML Signature 1.1 6.4.3), from the DER that most libraries make: two numbers
/// of 32 bytes side by side.
pub fn side_by_side(der: &[u8]) -> Option<Vec<u8>> {
    let rest = der.strip_prefix(&[0x30])?.get(1..)?;
    let number = |at: &[u8]| -> Option<(Vec<u8>, usize)> {
        let len = usize::from(*at.get(1)?);
        let value = at.get(2..2 + len)?;
        let value: Vec<u8> = value.iter().copied().skip_while(|b| *b == 0).collect();
        let mut out = vec![0; 32usize.checked_sub(value.len())?];
        out.extend(value);
        Some((out, 2 + len))
    };
    let (r, used) = number(rest)?;
    let (s, _) = number(rest.get(used..)?)?;
    Some([r, s].concat())
}

fn percent(text: &str) -> String {
    url::form_urlencoded::byte_serialize(text.as_bytes()).collect()
}

/// The address that carries a request by redirect, signed where something signs for us. None where the
/// provider's address is none, or has a fragment, behind which nothing is ever sent.
pub fn redirect(address: &str, request: &str, relay_state: &str, signer: Option<&dyn Signs>) -> Option<String> {
    let url = Url::parse(address).ok().filter(|u| u.fragment().is_none())?;
    let mut deflated = DeflateEncoder::new(vec![], Compression::default());
    deflated.write_all(request.as_bytes()).ok()?;
    let packed = STANDARD.encode(deflated.finish().ok()?);
    // What is signed is the query as it is sent, to the byte (3.4.4.1).
    let mut query = format!("SAMLRequest={}&RelayState={}", percent(&packed), percent(relay_state));
    if let Some(signer) = signer {
        query.push_str(&format!("&SigAlg={}", percent(signer.algorithm())));
        let signed = STANDARD.encode(signer.sign(query.as_bytes())?);
        query.push_str(&format!("&Signature={}", percent(&signed)));
    }
    let before = if url.query().is_some_and(|q| !q.is_empty()) {
        format!("{address}&")
    } else {
        format!("{}?", address.trim_end_matches('?'))
    };
    Some(before + &query)
}
