//! The named parts of a site: providers and gates.

use chrono::Duration;
use url::Url;

use super::AttributeId;
use super::access::{self, Access, Names, OfSite};
use super::read::Fields;
use super::response::{self, ResponseEdits};
use super::section::{self, Section, SectionAccess};
use super::upstream::{self, Upstreams};
use crate::address::{PublicAddress, is_loopback};
use crate::decide::{PARTS_MAX, RequestView};

/// An OpenID Connect provider.
#[derive(Clone, Debug)]
pub struct Provider {
    pub name: String,
    /// What people and engineers read.
    pub title: String,
    /// The issuer identifier, exactly as the provider writes it (OpenID Connect Discovery 4.3).
    pub issuer: String,
    pub client_id: String,
    /// Name of the secret; none for a public client.
    pub secret: Option<String>,
    pub scopes: Vec<String>,
    /// Asked for with `acr_values`.
    pub acr_values: Vec<String>,
    /// At least one of these must come back in `acr`; empty means not checked.
    pub require_acr: Vec<String>,
    /// Each of these must come back in `amr`.
    pub require_amr: Vec<String>,
    /// Clock skew tolerated in time claims.
    pub skew: Duration,
    /// Attribute and the claim that feeds it.
    pub attributes: Vec<(AttributeId, String)>,
    /// A file of PEM certificates to trust beside the system's.
    pub ca_file: Option<String>,
    /// How long a person may take at the provider.
    pub answer_within: Duration,
}

/// What kind of thing is behind a gate.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum GateKind {
    Web,
}

/// One thing put behind sign-in.
#[derive(Clone, Debug)]
pub struct Gate {
    pub name: String,
    pub title: String,
    pub kind: GateKind,
    pub address: PublicAddress,
    pub upstreams: Upstreams,
    pub access: Access,
    /// Parts of the gate that are open or ask for more.
    pub sections: Vec<Section>,
    /// Edits on what the application answers.
    pub response: ResponseEdits,
    pub delivery: Option<String>,
}

/// Names go into URLs, cookies and commands: short, lower case, plain.
pub(crate) fn name_of(f: &Fields<'_, '_>, taken: &[String]) -> String {
    let Some(name) = f.need("name", "\"a-short-name\"") else { return String::new() };
    let plain = name.len() <= 40 && name.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-');
    if !plain {
        f.error(
            "name",
            format!("the name \"{name}\" is not plain"),
            "Use a-z, 0-9 and hyphens, at most 40; title holds the words people read.",
        );
    }
    if taken.contains(&name) {
        f.error("name", format!("the name \"{name}\" stands twice"), "Give each its own name.");
    }
    name
}

pub(crate) fn read_provider(f: &Fields<'_, '_>, name: String, attributes: Vec<(AttributeId, String)>) -> Provider {
    f.choice("kind", (), &[("oidc", ())]);
    let issuer = f.need("issuer", "\"https://sign-in.example\"").unwrap_or_default();
    if !issuer.is_empty()
        && let Err(what) = check_issuer(&issuer)
    {
        f.error("issuer", format!("the issuer {what}"), "Copy it from the provider's discovery document, to the letter.");
    }
    let mut scopes = f.texts("scopes").unwrap_or_else(|| vec!["openid".into(), "profile".into(), "email".into()]);
    if !scopes.iter().any(|s| s == "openid") {
        f.error("scopes", "scopes does not hold \"openid\"".into(), "OpenID Connect needs it: add \"openid\".");
        scopes.insert(0, "openid".into());
    }
    for s in scopes.iter().filter(|s| s.is_empty() || s.bytes().any(|b| !(0x21..0x7f).contains(&b) || b == b'"' || b == b'\\')) {
        f.error("scopes", format!("\"{s}\" is no scope"), "A scope has no blanks or quotes (RFC 6749 3.3).");
    }
    let m = Duration::minutes;
    let out = Provider {
        title: f.text("title").unwrap_or_else(|| name.clone()),
        name,
        issuer,
        client_id: f.need("client", "\"the client id the provider gave\"").unwrap_or_default(),
        secret: f.text("secret"),
        scopes,
        acr_values: f.texts("acr-values").unwrap_or_default(),
        require_acr: f.texts("require-acr").unwrap_or_default(),
        require_amr: f.texts("require-amr").unwrap_or_default(),
        skew: f.duration("skew", Duration::seconds(30), Duration::zero(), m(5)),
        attributes,
        ca_file: f.text("ca-file"),
        answer_within: f.duration("answer-within", m(15), m(1), m(120)),
    };
    if out.secret.is_none() {
        f.warn(
            "client",
            "no secret is named: the provider must know this client as public".into(),
            "Add secret = \"name\" and store it with `passeur secret set`.",
        );
    }
    f.value("attributes");
    f.finish();
    out
}

/// Whether an issuer may be used: https, or plain http on a loopback name; no query or fragment.
pub fn check_issuer(issuer: &str) -> Result<(), &'static str> {
    let url = Url::parse(issuer).map_err(|_| "is not an absolute address")?;
    match url.scheme() {
        "https" => {}
        "http" if url.host_str().is_some_and(is_loopback) => {}
        "http" => return Err("is plain http, which is accepted for localhost names only"),
        _ => return Err("is not an https address"),
    }
    if url.query().is_some() || url.fragment().is_some() {
        return Err("holds a query or fragment (OpenID Connect Core 2, iss)");
    }
    Ok(())
}

pub(crate) fn read_gate(
    f: &Fields<'_, '_>,
    name: String,
    names: &Names<'_>,
    deliveries: &[String],
    of_site: OfSite<'_>,
) -> Option<Gate> {
    let kind = f.choice("kind", GateKind::Web, &[("web", GateKind::Web)]);
    let address = read_address(f, "address", "\"https://application.example\"");
    let upstreams = upstream::read(f);
    let access = access::read_access(f, names, None, of_site, Some(&name));
    let response = response::read(f, address.as_ref(), upstreams.as_ref());
    let sections = section::read(f, names, !access.directories.is_empty(), !access.rules.is_empty());
    let later = |s: &&Section| matches!(&s.access, SectionAccess::More { when, .. } if access.asks_too_early(when));
    for s in sections.iter().filter(later) {
        f.error(
            "section",
            format!("the section {} asks about an attribute that is made from what rules give", s.path),
            "Ask about what the attribute is made from.",
        );
    }
    let delivery = access::refer(f, "delivery", "delivery", deliveries);
    if access.rules.is_empty() && !f.has("rule") {
        f.warn("name", "the gate has no rule, so it admits nobody".into(), "Add a [[gate.rule]].");
    } else if !access.rules.is_empty() && !access.rules.iter().any(|r| r.effect.enters()) {
        f.warn("name", "no rule of the gate grants entry, so it admits nobody".into(), "Add enter = true to a [[gate.rule]].");
    }
    let title = f.text("title").unwrap_or_else(|| name.clone());
    f.finish();
    let gate = Gate { name, title, kind, address: address?, upstreams: upstreams?, access, sections, response, delivery };
    let parts = RequestView::of(&gate).len();
    if parts > PARTS_MAX {
        f.error(
            "name",
            format!("its conditions name {parts} different networks, paths and methods"),
            format!("Use at most {PARTS_MAX}; join several in one condition or list."),
        );
    }
    Some(gate)
}

pub(crate) fn read_address(f: &Fields<'_, '_>, key: &'static str, example: &str) -> Option<PublicAddress> {
    let text = f.need(key, example)?;
    PublicAddress::parse(&text).map_err(|why| f.error(key, format!("\"{text}\" {why}"), format!("Write {key} = {example}."))).ok()
}
