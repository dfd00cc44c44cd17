//! An identity provider's metadata (saml-metadata-2.0-os): its name, where it is asked, and the certificates it signs with.
//!
//! A key counts as long as it stands in metadata that is good (saml-metadata-iop 2.0, 2.6.1): several stand there while one takes
//! over from another. The dates inside a certificate are told to engineers, and decide nothing here.

use chrono::{DateTime, Utc};
use uppsala::NodeId;

use super::signature::{self, BadSignature};
use super::xml::{BadXml, Xml};
use super::{DSIG, PROTOCOL};
use passeur_core::site::check_endpoint;
use passeur_core::x509::certificate;

/// Namespace of metadata.
pub const METADATA: &str = "urn:oasis:names:tc:SAML:2.0:metadata";
/// The bindings that are spoken (saml-bindings-2.0-os 3.4, 3.5).
pub const REDIRECT: &str = "urn:oasis:names:tc:SAML:2.0:bindings:HTTP-Redirect";
/// The binding by a form that posts itself (saml-bindings-2.0-os 3.5).
pub const POST: &str = "urn:oasis:names:tc:SAML:2.0:bindings:HTTP-POST";
/// The most certificates and endpoints of a provider.
const PARTS_MAX: usize = 50;

/// Why metadata is not used.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BadMetadata {
    #[error("it cannot be read: {0}")]
    Xml(#[from] BadXml),
    #[error("its signature does not count: {0}")]
    Signature(#[from] BadSignature),
    #[error("it describes many entities; fetch the provider's own document")]
    Many,
    #[error("it does not describe a SAML 2.0 identity provider")]
    NotAProvider,
    #[error("it is of {seen}, and {wanted} is wanted")]
    Other { seen: String, wanted: String },
    #[error("it was good until {0} only")]
    TooLate(String),
    #[error("it names no certificate that the provider signs with")]
    NoCertificate,
    #[error("a certificate in it cannot be read")]
    Certificate,
    #[error("it names no address to sign in at by redirect or POST")]
    NoAddress,
    #[error("people may not be sent to the address {0}: it is not https, or has a fragment")]
    Address(String),
}

/// Where a provider is asked, and how.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Endpoint {
    pub binding: String,
    pub location: String,
    /// Where answers go, where that is elsewhere (2.2.2, ResponseLocation).
    pub answers: Option<String>,
}

impl Endpoint {
    /// Whether messages go there by redirect; otherwise by a form.
    pub fn is_redirect(&self) -> bool {
        self.binding == REDIRECT
    }

    /// Where an answer to the provider goes.
    pub fn answers_to(&self) -> &str {
        self.answers.as_deref().unwrap_or(&self.location)
    }
}

/// An identity provider as it describes itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Provider {
    pub entity_id: String,
    /// Until when the document is good; none where it does not say.
    pub valid_until: Option<DateTime<Utc>>,
    /// Certificates it signs with, in DER.
    pub certificates: Vec<Vec<u8>>,
    /// Where people sign in, by the bindings we speak.
    pub sign_on: Vec<Endpoint>,
    /// Where they sign out.
    pub sign_out: Vec<Endpoint>,
    /// NameID formats it offers.
    pub formats: Vec<String>,
    /// Whether it takes signed requests alone.
    pub wants_signed: bool,
}

/// Reads a provider's metadata. `wanted` is its entity id where that is known; `signers` are certificates (DER) that must have
/// signed the document, where engineers named any.
///
/// # Errors
/// What makes it unusable, the signature before anything is read from it.
pub fn read(text: &str, wanted: Option<&str>, signers: Option<&[Vec<u8>]>, now: DateTime<Utc>) -> Result<Provider, BadMetadata> {
    let plain = Xml::plain_metadata(text);
    let xml = Xml::read(&plain)?;
    let mut root = xml.root();
    let mut around = None;
    if xml.is(root, METADATA, "EntitiesDescriptor") {
        // Some wrap the one that they are. Of many, nobody here says which.
        match xml.children(root, METADATA, "EntityDescriptor").as_slice() {
            [one] if xml.children(root, METADATA, "EntitiesDescriptor").is_empty() => {
                around = Some(root);
                root = *one;
            }
            _ => return Err(BadMetadata::Many),
        }
    }
    if !xml.is(root, METADATA, "EntityDescriptor") {
        return Err(BadMetadata::NotAProvider);
    }
    if let Some(certificates) = signers
        && !signature::check(&xml, certificates)?.covers(&xml, root)
    {
        return Err(BadSignature::NotSigned.into());
    }
    let entity_id = xml.attribute(root, "entityID").unwrap_or_default().to_owned();
    if let Some(wanted) = wanted.filter(|w| *w != entity_id) {
        return Err(BadMetadata::Other { seen: entity_id.chars().take(200).collect(), wanted: wanted.to_owned() });
    }
    let role = role(&xml, root)?;
    let valid_until = [around, Some(root), Some(role)]
        .into_iter()
        .flatten()
        .filter_map(|n| xml.attribute(n, "validUntil"))
        .map(moment)
        .collect::<Result<Vec<_>, _>>()?;
    let valid_until = valid_until.into_iter().min();
    if let Some(until) = valid_until.filter(|u| *u <= now) {
        return Err(BadMetadata::TooLate(until.format("%Y-%m-%d %H:%M UTC").to_string()));
    }
    let certificates = certificates(&xml, role)?;
    let sign_on = endpoints(&xml, role, "SingleSignOnService")?;
    if sign_on.is_empty() {
        return Err(BadMetadata::NoAddress);
    }
    let formats = xml.children(role, METADATA, "NameIDFormat").into_iter().take(PARTS_MAX);
    Ok(Provider {
        valid_until,
        certificates,
        sign_on,
        sign_out: endpoints(&xml, role, "SingleLogoutService")?,
        formats: formats.map(|n| xml.text(n, "NameIDFormat")).collect::<Result<_, _>>()?,
        wants_signed: matches!(xml.attribute(role, "WantAuthnRequestsSigned"), Some("true" | "1")),
        entity_id: (!entity_id.is_empty()).then_some(entity_id).ok_or(BadXml::Missing("entityID"))?,
    })
}

/// The one role that is an identity provider of SAML 2.0.
fn role(xml: &Xml<'_>, root: NodeId) -> Result<NodeId, BadMetadata> {
    let speaks =
        |n: &NodeId| xml.attribute(*n, "protocolSupportEnumeration").is_some_and(|p| p.split_whitespace().any(|p| p == PROTOCOL));
    let all: Vec<NodeId> = xml.children(root, METADATA, "IDPSSODescriptor").into_iter().filter(speaks).collect();
    match all.as_slice() {
        [one] => Ok(*one),
        [] => Err(BadMetadata::NotAProvider),
        _ => Err(BadXml::Several("IDPSSODescriptor").into()),
    }
}

fn moment(text: &str) -> Result<DateTime<Utc>, BadMetadata> {
    let bad = || BadXml::Malformed(format!("validUntil {:?} is no moment", text.chars().take(60).collect::<String>()));
    DateTime::parse_from_rfc3339(text).map(|t| t.to_utc()).map_err(|_| bad().into())
}

fn certificates(xml: &Xml<'_>, role: NodeId) -> Result<Vec<Vec<u8>>, BadMetadata> {
    // Without a use a key is for everything (2.4.1.1).
    let signs = |key: &NodeId| xml.attribute(*key, "use").is_none_or(|u| u == "signing");
    let keys = xml.children(role, METADATA, "KeyDescriptor").into_iter().filter(signs);
    let infos = keys.flat_map(|key| xml.children(key, DSIG, "KeyInfo"));
    let data = infos.flat_map(|info| xml.children(info, DSIG, "X509Data"));
    let mut out: Vec<Vec<u8>> = vec![];
    for node in data.flat_map(|data| xml.children(data, DSIG, "X509Certificate")) {
        let der = certificate(&xml.text(node, "X509Certificate")?).ok_or(BadMetadata::Certificate)?;
        if !out.contains(&der) {
            out.push(der);
        }
    }
    if out.is_empty() || out.len() > PARTS_MAX {
        return Err(BadMetadata::NoCertificate);
    }
    Ok(out)
}

fn endpoints(xml: &Xml<'_>, role: NodeId, name: &'static str) -> Result<Vec<Endpoint>, BadMetadata> {
    let mut out = vec![];
    for node in xml.children(role, METADATA, name).into_iter().take(PARTS_MAX) {
        let binding = xml.attribute(node, "Binding").unwrap_or_default();
        if binding != REDIRECT && binding != POST {
            continue;
        }
        let checked = |location: &str| match check_endpoint(location) {
            Ok(()) => Ok(location.to_owned()),
            Err(_) => Err(BadMetadata::Address(location.chars().take(200).collect())),
        };
        let location = checked(xml.attribute(node, "Location").unwrap_or_default())?;
        let answers = xml.attribute(node, "ResponseLocation").map(checked).transpose()?;
        out.push(Endpoint { binding: binding.to_owned(), location, answers });
    }
    Ok(out)
}
