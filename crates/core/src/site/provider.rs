//! Identity providers as the site file describes them: by OpenID Connect, or by SAML 2.0.

use chrono::Duration;
use url::Url;

use super::attribute_id::AttributeId;
use super::mapping::Transform;
use crate::address::is_loopback;

/// An identity provider.
#[derive(Clone, Debug)]
pub struct Provider {
    pub name: String,
    /// What people and engineers read.
    pub title: String,
    /// How it names itself, to the letter: issuer identifier (OpenID Connect Discovery 4.3) or entity id (saml-core 8.3.6).
    pub issuer: String,
    pub speaks: Speaks,
    /// Authentication contexts asked for: `acr_values`, or a RequestedAuthnContext.
    pub acr_values: Vec<String>,
    /// At least one of these must come back as the authentication context; empty means not checked.
    pub require_acr: Vec<String>,
    /// Each of these must come back in `amr`.
    pub require_amr: Vec<String>,
    /// Clock skew tolerated.
    pub skew: Duration,
    /// Attribute and the claim, or SAML attribute, that feeds it.
    pub attributes: Vec<(AttributeId, String)>,
    /// Groups that it sends.
    pub groups: Option<ProviderGroups>,
    /// A file of PEM certificates to trust beside the system's.
    pub ca_file: Option<String>,
    /// How long a person may take at the provider.
    pub answer_within: Duration,
    /// Whether its pages do not work in the small browser that a system opens for a portal.
    pub real_browser: bool,
}

/// Groups as a provider sends them.
#[derive(Clone, Debug, PartialEq)]
pub struct ProviderGroups {
    /// The claim, or SAML attribute.
    pub claim: String,
    /// What makes their names of it.
    pub by: Vec<Transform>,
    /// Whether a provider that leaves the claim out says that somebody is in no group.
    pub may_lack: bool,
}

/// The protocol, with what it alone needs.
#[derive(Clone, Debug)]
pub enum Speaks {
    Oidc(OidcClient),
    Saml(SamlTrust),
}

/// What we are to an OpenID Connect provider.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OidcClient {
    pub id: String,
    /// Name of the secret, or of the private key; none for a public client.
    pub secret: Option<String>,
    pub authentication: ClientAuthentication,
    pub scopes: Vec<String>,
    /// Whether answers come by a form that posts itself (OAuth 2.0 Form Post Response Mode) instead of in the address.
    pub form_post: bool,
}

/// How a client proves itself at the provider's token and introspection endpoints (OpenID Connect Core 9).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum ClientAuthentication {
    /// By HTTP Basic where the provider's metadata offers it, otherwise in the form.
    #[default]
    AsPublished,
    Basic,
    /// By HTTP Basic, with id and secret as they are: for providers that do not decode them.
    BasicPlain,
    Post,
    /// By an assertion that our own key signs (RFC 7523).
    PrivateKeyJwt,
}

impl ClientAuthentication {
    pub(crate) const WORDS: [(&'static str, ClientAuthentication); 5] = [
        ("as-published", ClientAuthentication::AsPublished),
        ("client_secret_basic", ClientAuthentication::Basic),
        ("client_secret_basic-plain", ClientAuthentication::BasicPlain),
        ("client_secret_post", ClientAuthentication::Post),
        ("private_key_jwt", ClientAuthentication::PrivateKeyJwt),
    ];

    /// The registered name of the method; none where the provider's metadata decides which it is.
    pub fn registered(self) -> Option<&'static str> {
        match self {
            ClientAuthentication::AsPublished => None,
            ClientAuthentication::Basic | ClientAuthentication::BasicPlain => Some("client_secret_basic"),
            ClientAuthentication::Post => Some("client_secret_post"),
            ClientAuthentication::PrivateKeyJwt => Some("private_key_jwt"),
        }
    }
}

/// What is believed of a SAML provider, and what is asked of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SamlTrust {
    pub source: SamlSource,
    /// The binding preferred for requests; none takes redirect where the provider offers it.
    pub binding: Option<SamlBinding>,
    /// Whether requests are signed even where the provider does not ask for it.
    pub sign_requests: bool,
    /// Whether an assertion must come encrypted.
    pub require_encrypted: bool,
    /// The NameID format asked for.
    pub name_id: Option<String>,
    /// The attribute that is the person's key in place of the NameID.
    pub subject: Option<String>,
}

/// Where the provider's addresses and certificates come from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SamlSource {
    /// Its metadata, fetched from here and read again; certificates (DER), one of which must have signed it, where any is named.
    Metadata { address: String, signers: Vec<Vec<u8>> },
    /// What stands in the site file.
    ByHand(ByHand),
}

/// A SAML provider described by hand.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ByHand {
    pub sign_on: String,
    pub sign_out: Option<String>,
    /// Certificates it signs with, in DER.
    pub certificates: Vec<Vec<u8>>,
}

/// How a SAML message travels through the browser (saml-bindings-2.0-os 3.4, 3.5).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SamlBinding {
    Redirect,
    Post,
}

/// What we are to SAML providers.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SamlParty {
    pub entity_id: String,
    /// Name of the secret that holds our private key and certificate, in PEM.
    pub key: Option<String>,
}

impl Provider {
    /// Every claim, or SAML attribute, that the site reads.
    pub fn claims(&self) -> impl Iterator<Item = &str> {
        self.attributes.iter().map(|(_, c)| c.as_str()).chain(self.groups.iter().map(|g| g.claim.as_str()))
    }

    /// What we are to it, where it speaks OpenID Connect.
    pub fn oidc(&self) -> Option<&OidcClient> {
        match &self.speaks {
            Speaks::Oidc(client) => Some(client),
            Speaks::Saml(_) => None,
        }
    }

    /// What is believed of it, where it speaks SAML.
    pub fn saml(&self) -> Option<&SamlTrust> {
        match &self.speaks {
            Speaks::Saml(trust) => Some(trust),
            Speaks::Oidc(_) => None,
        }
    }

    /// The name of the secret it needs.
    pub fn secret(&self) -> Option<&str> {
        self.oidc()?.secret.as_deref()
    }
}

/// Where our own metadata is, which is also our entity id unless the site file names another.
pub const ENTITY_PATH: &str = "/.passeur/saml/metadata";

/// Whether an issuer may be used: https, or plain http on a loopback name; no query or fragment.
pub fn check_issuer(issuer: &str) -> Result<(), &'static str> {
    let url = https(issuer)?;
    if url.query().is_some() || url.fragment().is_some() {
        return Err("holds a query or fragment (OpenID Connect Core 2, iss)");
    }
    Ok(())
}

/// Whether people and their messages may be sent to an address: https, or plain http on a loopback name; no fragment.
pub fn check_endpoint(address: &str) -> Result<(), &'static str> {
    match https(address)?.fragment() {
        Some(_) => Err("holds a fragment, behind which nothing is ever sent"),
        None => Ok(()),
    }
}

fn https(address: &str) -> Result<Url, &'static str> {
    let url = Url::parse(address).map_err(|_| "is not an absolute address")?;
    match url.scheme() {
        "https" => Ok(url),
        "http" if url.host_str().is_some_and(is_loopback) => Ok(url),
        "http" => Err("is plain http, which is accepted for localhost names only"),
        _ => Err("is not an https address"),
    }
}
