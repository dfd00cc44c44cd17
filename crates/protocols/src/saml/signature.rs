//! XML signatures (XML Signature 1.1; saml-core-2.0-os 5.4): which element a trusted key has signed.
//!
//! The library checks the mathematics; what it would take for signed is decided here. A signature counts for its parent alone,
//! by exactly one reference to that parent's identifier, with the two transforms SAML allows, and with algorithms from a list.
//! Every signature of a document must be of that shape before any is checked: a reference of another one could name a file.
//! Keys come from the provider's metadata and never from the message.

use bergshamra_dsig::DsigContext;
use bergshamra_dsig::verify::{VerifyResult, verify_all_document};
use bergshamra_keys::{KeysManager, loader};
use uppsala::NodeId;

use super::DSIG;
use super::xml::{BadXml, Xml};

pub(super) const EXCLUSIVE: &str = "http://www.w3.org/2001/10/xml-exc-c14n#";
pub(super) const ENVELOPED: &str = "http://www.w3.org/2000/09/xmldsig#enveloped-signature";
const SIGNATURES: [&str; 9] = [
    // RSA-PSS (RFC 9231 2.3.10), with the usual parameters of each hash.
    "http://www.w3.org/2007/05/xmldsig-more#sha256-rsa-MGF1",
    "http://www.w3.org/2007/05/xmldsig-more#sha384-rsa-MGF1",
    "http://www.w3.org/2007/05/xmldsig-more#sha512-rsa-MGF1",
    "http://www.w3.org/2001/04/xmldsig-more#rsa-sha256",
    "http://www.w3.org/2001/04/xmldsig-more#rsa-sha384",
    "http://www.w3.org/2001/04/xmldsig-more#rsa-sha512",
    "http://www.w3.org/2001/04/xmldsig-more#ecdsa-sha256",
    "http://www.w3.org/2001/04/xmldsig-more#ecdsa-sha384",
    "http://www.w3.org/2001/04/xmldsig-more#ecdsa-sha512",
];
const DIGESTS: [&str; 3] = [
    "http://www.w3.org/2001/04/xmlenc#sha256",
    "http://www.w3.org/2001/04/xmldsig-more#sha384",
    "http://www.w3.org/2001/04/xmlenc#sha512",
];

/// The most signatures in one document: a response and its assertion have one each. Each costs a canonical form of all below it,
/// and whoever sends a response has not proved anything yet.
const SIGNATURES_MAX: usize = 4;

/// The longest list of prefixes that stay declared in a canonical form, in bytes: it is gone over at every element.
const PREFIXES_MAX: usize = 512;

/// Why no signature of an element counts.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BadSignature {
    #[error("it is not signed")]
    NotSigned,
    #[error("a signature stands in the wrong place: {0}")]
    Place(&'static str),
    #[error("a signature refers to {0} instead of the element it stands in")]
    Reference(String),
    #[error("a signature uses {0}, which is not accepted")]
    Algorithm(String),
    #[error("no signing certificate of the provider can be used: {0}")]
    Keys(String),
    #[error("the signature does not fit the provider's certificates: {0}")]
    Wrong(String),
    #[error("a signature cannot be read: {0}")]
    Xml(#[from] BadXml),
}

/// Elements that a trusted key has signed, each with the certificate (DER) of the key.
#[derive(Clone, Debug, Default)]
pub struct Signed(Vec<(NodeId, Vec<u8>)>);

impl Signed {
    /// The certificate of the key that signed this very element.
    pub fn certificate(&self, node: NodeId) -> Option<&[u8]> {
        self.0.iter().find(|(n, _)| *n == node).map(|(_, der)| der.as_slice())
    }

    /// Whether the element is signed, itself or with one that it stands in.
    pub fn covers(&self, xml: &Xml<'_>, node: NodeId) -> bool {
        let mut at = Some(node);
        while let Some(n) = at {
            if self.certificate(n).is_some() {
                return true;
            }
            at = xml.parent(n);
        }
        false
    }
}

/// Checks every signature of a document against the provider's certificates (DER, several while one takes over from another).
///
/// # Errors
/// One that is not as SAML wants it, or that no certificate fits, refuses the whole document.
pub fn check(xml: &Xml<'_>, certificates: &[Vec<u8>]) -> Result<Signed, BadSignature> {
    let all: Vec<NodeId> = xml.elements().into_iter().filter(|n| xml.is(*n, DSIG, "Signature")).collect();
    if all.len() > SIGNATURES_MAX {
        return Err(BadSignature::Place("there are more than four"));
    }
    let mut parents = vec![];
    for signature in &all {
        parents.push(shape(xml, *signature)?);
    }
    if all.is_empty() {
        return Ok(Signed::default());
    }
    let mut keys = KeysManager::new();
    for der in certificates {
        keys.add_key(loader::load_x509_cert_der(der).map_err(|e| BadSignature::Keys(e.to_string()))?);
    }
    if certificates.is_empty() {
        return Err(BadSignature::Keys("there is none".to_owned()));
    }
    // The library knows `ID` for an identifier by itself.
    let mut context = DsigContext::new(keys);
    // When a certificate runs out is told elsewhere: in metadata a key counts as long as it stands there
    // (saml-metadata-iop 2.0, 2.6.1). The library would ask the system's clock.
    context.skip_time_checks = true;
    let results = verify_all_document(&context, &xml.document).map_err(|e| BadSignature::Wrong(e.to_string()))?;
    let mut signed = vec![];
    for (signature, parent) in all.iter().zip(parents) {
        let mine = results.iter().find_map(|r| match r {
            VerifyResult::Valid { signature_node, references, key_info } if *signature_node == *signature => {
                Some((references, key_info))
            }
            _ => None,
        });
        let Some((references, key)) = mine else {
            let why = results.iter().find_map(|r| match r {
                VerifyResult::Invalid { reason } => Some(reason.clone()),
                VerifyResult::Valid { .. } => None,
            });
            return Err(BadSignature::Wrong(why.unwrap_or_else(|| "it was not checked".to_owned())));
        };
        // What was digested must be the very node that is read from.
        let is_parent = references.len() == 1 && references.iter().all(|r| r.digest_verified && r.resolved_node == Some(parent));
        if !is_parent {
            return Err(BadSignature::Place("it covers another element than the one it stands in"));
        }
        // The library could take a key from the message; only one of those handed in counts.
        let der = key.x509_chain.first().filter(|der| certificates.contains(der));
        let der = der.ok_or_else(|| BadSignature::Wrong("its key is not the provider's".to_owned()))?;
        signed.push((parent, der.clone()));
    }
    Ok(Signed(signed))
}

/// Checks the shape of a signature and gives the element it stands in.
fn shape(xml: &Xml<'_>, signature: NodeId) -> Result<NodeId, BadSignature> {
    let parent = xml.parent(signature).filter(|p| *p == xml.root() || xml.parent(*p).is_some());
    let parent = parent.ok_or(BadSignature::Place("it stands in no element"))?;
    if xml.children(parent, DSIG, "Signature").len() != 1 {
        return Err(BadSignature::Place("two stand in one element"));
    }
    // Objects inside a signature are where wrapped originals are hidden.
    if !xml.children(signature, DSIG, "Object").is_empty() {
        return Err(BadSignature::Place("it holds an Object"));
    }
    let info = xml.need(signature, DSIG, "SignedInfo")?;
    if xml.below(signature).any(|n| xml.attribute(n, "PrefixList").is_some_and(|list| list.len() > PREFIXES_MAX)) {
        return Err(BadSignature::Place("it lists too many prefixes"));
    }
    let algorithm = |node: NodeId| xml.attribute(node, "Algorithm").unwrap_or_default().to_owned();
    let listed = |node: NodeId, list: &[&str]| {
        let used = algorithm(node);
        if list.contains(&used.as_str()) { Ok(()) } else { Err(BadSignature::Algorithm(used)) }
    };
    listed(xml.need(info, DSIG, "CanonicalizationMethod")?, &[EXCLUSIVE])?;
    listed(xml.need(info, DSIG, "SignatureMethod")?, &SIGNATURES)?;
    let reference = xml.need(info, DSIG, "Reference")?;
    let uri = xml.attribute(reference, "URI").unwrap_or_default();
    let id = xml.attribute(parent, "ID").unwrap_or_default();
    if id.is_empty() || uri.strip_prefix('#') != Some(id) {
        return Err(BadSignature::Reference(uri.chars().take(100).collect()));
    }
    listed(xml.need(reference, DSIG, "DigestMethod")?, &DIGESTS)?;
    let transforms = xml.need(reference, DSIG, "Transforms")?;
    let used: Vec<String> = xml.children(transforms, DSIG, "Transform").into_iter().map(algorithm).collect();
    match used.iter().map(String::as_str).collect::<Vec<_>>().as_slice() {
        [ENVELOPED, EXCLUSIVE] => Ok(parent),
        other => Err(BadSignature::Algorithm(format!("the transforms {}", other.join(", ")))),
    }
}
