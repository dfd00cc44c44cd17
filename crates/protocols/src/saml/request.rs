//! Asking a provider to authenticate somebody (saml-core-2.0-os 3.4.1). Identifiers are handed in, 128 random bits at least;
//! how it travels is in [`super::binding`].

use chrono::{DateTime, Utc};

use super::metadata::POST;
use super::write::{Signs, escaped, moment, signed_message};
use super::{ASSERTION, PROTOCOL};

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
    /// Whether the provider must show nothing to anybody, and refuse where it would have to.
    pub passive: bool,
    /// Authentication contexts, any of which will do; none is left to the provider.
    pub contexts: &'a [String],
    /// The NameID format wanted.
    pub format: Option<&'a str>,
}

impl Request<'_> {
    /// The request as XML.
    pub fn xml(&self) -> String {
        let anew = if self.anew { " ForceAuthn=\"true\"" } else { "" };
        let passive = if self.passive { " IsPassive=\"true\"" } else { "" };
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
             AssertionConsumerServiceURL=\"{}\" ProtocolBinding=\"{}\"{anew}{passive}><saml:Issuer>{}</saml:Issuer>{policy}{contexts}</samlp:AuthnRequest>",
            PROTOCOL,
            ASSERTION,
            escaped(self.id),
            moment(self.now),
            escaped(self.destination),
            escaped(self.consumer),
            POST,
            escaped(self.issuer),
        )
    }

    /// The request as XML that is signed, for the POST binding; by redirect the query is signed instead.
    pub fn signed(&self, signer: &dyn Signs) -> Option<String> {
        signed_message(&self.xml(), self.id, signer)
    }
}
