//! Reading of `site::provider` from a document.

use chrono::Duration;
use url::Url;

use super::fields::Fields;
use super::mapping;
use super::names::Names;
use crate::address::{PublicAddress, Slip, slip};
use crate::site::{
    AttributeId, ByHand, ClientAuthentication, ENTITY_PATH, OidcClient, Provider, ProviderGroups, SamlBinding, SamlParty,
    SamlSource, SamlTrust, Speaks, check_endpoint, check_issuer,
};
use crate::x509;

/// Reads `[provider.groups]`, once tables are known.
pub(crate) fn read_groups(f: &Fields<'_, '_>, names: &Names<'_>) -> Option<ProviderGroups> {
    let g = f.table("groups")?;
    let claim = g.need("claim", "\"groups\"");
    let by = mapping::read_for_groups(&g, names);
    let may_lack = g.choice("if-missing", false, &[("unknown", false), ("none", true)]);
    g.finish();
    Some(ProviderGroups { claim: claim?, by, may_lack })
}

/// NameID formats by their short names (saml-core-2.0-os 8.3).
const NAME_IDS: [(&str, &str); 4] = [
    ("persistent", "urn:oasis:names:tc:SAML:2.0:nameid-format:persistent"),
    ("transient", TRANSIENT),
    ("email", "urn:oasis:names:tc:SAML:1.1:nameid-format:emailAddress"),
    ("unspecified", "urn:oasis:names:tc:SAML:1.1:nameid-format:unspecified"),
];
const TRANSIENT: &str = "urn:oasis:names:tc:SAML:2.0:nameid-format:transient";
/// The most certificates of one provider, and the longest entity id (saml-core-2.0-os 8.3.6).
const CERTIFICATES_MAX: usize = 20;
const ENTITY_MAX: usize = 1_024;

#[derive(Clone, Copy, PartialEq)]
enum Kind {
    Oidc,
    Saml,
}

pub(crate) fn read_provider(f: &Fields<'_, '_>, name: String, attributes: Vec<(AttributeId, String)>, own_key: bool) -> Provider {
    let kind = f.choice("kind", Kind::Oidc, &[("oidc", Kind::Oidc), ("saml", Kind::Saml)]);
    let example = match kind {
        Kind::Oidc => "\"https://sign-in.example\"",
        Kind::Saml => "\"the provider's entity id\"",
    };
    let issuer = f.need("issuer", example).unwrap_or_default();
    let slipped = slips(f, "issuer", &issuer, if kind == Kind::Saml { SlipIn::Identifier } else { SlipIn::Address });
    let speaks = match kind {
        Kind::Oidc => Speaks::Oidc(read_oidc(f, &issuer, slipped)),
        Kind::Saml => Speaks::Saml(read_saml(f, &issuer, own_key)),
    };
    let m = Duration::minutes;
    let out = Provider {
        title: f.text("title").unwrap_or_else(|| name.clone()),
        name,
        issuer,
        speaks,
        acr_values: f.texts("acr-values").unwrap_or_default(),
        require_acr: f.texts("require-acr").unwrap_or_default(),
        require_amr: f.texts("require-amr").unwrap_or_default(),
        skew: f.duration("skew", Duration::seconds(30), Duration::zero(), m(5)),
        attributes,
        // Read once tables are known: see `read_groups`.
        groups: None,
        ca_file: f.text("ca-file"),
        answer_within: f.duration("answer-within", m(15), m(1), m(120)),
        real_browser: f.flag("real-browser", false),
    };
    if kind == Kind::Saml && !out.require_amr.is_empty() {
        f.error(
            "require-amr",
            "SAML names no authentication methods".into(),
            "Ask for a context instead, with acr-values and require-acr.",
        );
    }
    f.value("attributes");
    f.value("groups");
    f.finish();
    out
}

/// What a text is where slips of the pen are looked for.
#[derive(Clone, Copy, PartialEq, Eq)]
enum SlipIn {
    Address,
    /// It is compared to the letter, and may be odd.
    Identifier,
}

/// Slips of the pen in a text. True for a mistake.
fn slips(f: &Fields<'_, '_>, key: &'static str, text: &str, what_for: SlipIn) -> bool {
    let Some(Slip { what, meant, certain }) = slip(text) else { return false };
    let (what, remedy) = (format!("{key} {what}"), format!("{key} = \"{meant}\""));
    let wrong = certain || (what_for == SlipIn::Address && !what.contains("capitals"));
    match wrong {
        true => f.error(key, what, format!("Write {remedy}.")),
        false => f.warn(key, what, format!("It is compared to the letter: unless the other side writes it so, write {remedy}.")),
    }
    wrong
}

fn read_oidc(f: &Fields<'_, '_>, issuer: &str, slipped: bool) -> OidcClient {
    if !issuer.is_empty()
        && !slipped
        && let Err(what) = check_issuer(issuer)
    {
        f.error("issuer", format!("the issuer {what}"), "Copy it from the provider's discovery document, to the letter.");
    }
    let id = f.need("client", "\"the client id the provider gave\"").unwrap_or_default();
    let mut scopes = f.texts("scopes").unwrap_or_else(|| vec!["openid".into(), "profile".into(), "email".into()]);
    if !scopes.iter().any(|s| s == "openid") {
        f.error("scopes", "scopes does not hold \"openid\"".into(), "OpenID Connect needs it: add \"openid\".");
        scopes.insert(0, "openid".into());
    }
    for s in scopes.iter().filter(|s| s.is_empty() || s.bytes().any(|b| !(0x21..0x7f).contains(&b) || b == b'"' || b == b'\\')) {
        f.error("scopes", format!("\"{s}\" is no scope"), "A scope has no blanks or quotes (RFC 6749 3.3).");
    }
    let secret = f.text("secret");
    let authentication = f.choice("client-authentication", ClientAuthentication::default(), &ClientAuthentication::WORDS);
    if secret.is_none() && authentication == ClientAuthentication::PrivateKeyJwt {
        let remedy = "Add secret = \"name\", and make the key: passeur secret make-key NAME";
        f.error("client-authentication", "private_key_jwt needs a key of our own".into(), remedy);
    } else if secret.is_none() {
        f.warn(
            "client",
            "no secret is named: the provider must know this client as public".into(),
            "Add secret = \"name\" and store it with `passeur secret set`.",
        );
    }
    OidcClient {
        id,
        secret,
        authentication,
        scopes,
        form_post: f.choice("answer-by", false, &[("redirect", false), ("form-post", true)]),
    }
}

fn read_saml(f: &Fields<'_, '_>, issuer: &str, own_key: bool) -> SamlTrust {
    if issuer.len() > ENTITY_MAX {
        f.error(
            "issuer",
            format!("the entity id is longer than {ENTITY_MAX} characters"),
            "Copy it from the provider's metadata.",
        );
    }
    let name_id = f.text("name-id").map(|text| match NAME_IDS.iter().find(|(short, _)| *short == text) {
        Some((_, format)) => (*format).to_owned(),
        None if text.starts_with("urn:") => text,
        None => {
            let known = NAME_IDS.map(|(short, _)| short).join(", ");
            f.error("name-id", format!("\"{text}\" is no NameID format"), format!("Write one of {known}, or its urn in full."));
            text
        }
    });
    let subject = f.text("subject");
    if name_id.as_deref() == Some(TRANSIENT) && subject.is_none() {
        f.error(
            "name-id",
            "a transient NameID is another at every sign-in, so nobody could be known again".into(),
            "Ask for a persistent one, or name an attribute with subject = \"…\".",
        );
    }
    let sign_requests = f.flag("sign-requests", own_key);
    let require_encrypted = f.flag("require-encrypted", false);
    for (key, needs) in [("sign-requests", sign_requests), ("require-encrypted", require_encrypted)] {
        if needs && !own_key {
            f.error(
                key,
                format!("{key} needs a key of our own"),
                "Add [saml] with key = \"name\"; make one with `passeur secret make-key`.",
            );
        }
    }
    let (redirect, post) = (SamlBinding::Redirect, SamlBinding::Post);
    let binding = f.choice("binding", None, &[("redirect", Some(redirect)), ("post", Some(post))]);
    SamlTrust { source: read_source(f), binding, sign_requests, require_encrypted, name_id, subject }
}

fn read_source(f: &Fields<'_, '_>) -> SamlSource {
    let signers = certificates(f, "metadata-signed-by");
    let by_hand = certificates(f, "certificates");
    let metadata = f.text("metadata");
    let sign_on = f.text("sign-on");
    let sign_out = f.text("sign-out");
    for (key, address) in [("metadata", &metadata), ("sign-on", &sign_on), ("sign-out", &sign_out)] {
        if let Some(a) = address
            && !slips(f, key, a, SlipIn::Address)
            && let Err(what) = check_endpoint(a)
        {
            f.error(key, format!("{key} {what}"), "Write an https address.");
        }
    }
    match (metadata, sign_on) {
        (Some(_), Some(_)) => {
            f.error("metadata", "metadata and sign-on both say where the provider is".into(), "Take one of them away.");
        }
        (None, None) => {
            f.error(
                "metadata",
                "nothing says where the provider is".into(),
                "Add metadata = \"https://…\", or sign-on and certificates; `passeur provider read` writes them from a file.",
            );
        }
        (None, Some(sign_on)) => {
            if by_hand.is_empty() && !f.has("certificates") {
                f.error(
                    "certificates",
                    "no certificate of the provider is named".into(),
                    "Add certificates = [\"MII…\"] as the provider's team hands them over.",
                );
            }
            if f.has("metadata-signed-by") {
                f.error("metadata-signed-by", "there is no metadata that could be signed".into(), "Take the line away.");
            }
            return SamlSource::ByHand(ByHand { sign_on, sign_out, certificates: by_hand });
        }
        (Some(address), None) => {
            for key in ["certificates", "sign-out"] {
                if f.has(key) {
                    f.error(key, format!("{key} comes from the metadata"), "Take the line away.");
                }
            }
            return SamlSource::Metadata { address, signers };
        }
    }
    SamlSource::Metadata { address: String::new(), signers }
}

pub(crate) fn certificates(f: &Fields<'_, '_>, key: &'static str) -> Vec<Vec<u8>> {
    let all = f.texts(key).unwrap_or_default();
    if all.len() > CERTIFICATES_MAX {
        f.error(
            key,
            format!("{key} names more than {CERTIFICATES_MAX} certificates"),
            "Take those away that are no longer used.",
        );
    }
    let mut out = vec![];
    for (i, text) in all.iter().take(CERTIFICATES_MAX).enumerate() {
        match x509::certificate(text) {
            Some(der) => out.push(der),
            None => f.error(
                key,
                format!("certificate {} cannot be read", i + 1),
                "Paste it as PEM, as base64 or as hexadecimal; a fingerprint alone is not enough.",
            ),
        }
    }
    out
}

/// Reads `[saml]`: what we are to SAML providers.
pub(crate) fn read_party(root: &Fields<'_, '_>, address: Option<&PublicAddress>) -> SamlParty {
    let usual = || address.map(|a| a.at(ENTITY_PATH)).unwrap_or_default();
    let Some(f) = root.table("saml") else { return SamlParty { entity_id: usual(), key: None } };
    let entity_id = f.text("entity-id");
    if let Some(id) = &entity_id {
        slips(&f, "entity-id", id, SlipIn::Identifier);
        let absolute = id.starts_with("urn:") || Url::parse(id).is_ok();
        if !absolute || id.len() > ENTITY_MAX {
            f.error(
                "entity-id",
                "entity-id is no absolute URI".into(),
                "Write an address or a urn, at most 1024 characters; or take the line away.",
            );
        }
    }
    let out = SamlParty { entity_id: entity_id.unwrap_or_else(usual), key: f.text("key") };
    f.finish();
    out
}
