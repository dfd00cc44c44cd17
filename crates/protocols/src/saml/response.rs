//! Checking a Response (saml-profiles-2.0-os 4.1.4.2, 4.1.4.3; saml-core-2.0-os 2.5, 3.2.2). Everything that is handed out was
//! read from an element that a trusted key has signed.
//!
//! Whether an assertion was used before is for the caller to say: it keeps the identifiers until [`Assertion::remember_until`].

use chrono::{DateTime, Duration, Utc};
use serde::{Deserialize, Serialize};
use uppsala::NodeId;

use super::encryption::{NotOpened, Opener};
use super::signature::{self, BadSignature, Signed};
use super::xml::{BadXml, Xml};
use super::{ASSERTION, PROTOCOL, SUCCESS};

const BEARER: &str = "urn:oasis:names:tc:SAML:2.0:cm:bearer";
const ENTITY: &str = "urn:oasis:names:tc:SAML:2.0:nameid-format:entity";
/// The most attributes read, and the most values of all of them.
const ATTRIBUTES_MAX: usize = 500;
const VALUES_MAX: usize = 10_000;
/// The most attributes that are encrypted one by one: each costs a private-key operation.
const ENCRYPTED_MAX: usize = 20;

/// What a Response must say to be ours.
#[derive(Clone, Copy, Debug)]
pub struct Expected<'a> {
    /// The provider's entity id.
    pub issuer: &'a str,
    /// Our own.
    pub audience: &'a str,
    /// The address it was sent to.
    pub consumer: &'a str,
    /// The request it answers; none where a gate allows that it answers none.
    pub request: Option<&'a str>,
    pub now: DateTime<Utc>,
    /// Tolerated difference of clocks.
    pub skew: Duration,
    /// Signing certificates of the provider in DER.
    pub certificates: &'a [Vec<u8>],
    /// Our keys, for what is encrypted.
    pub opener: &'a Opener,
    /// Whether an assertion in clear is refused.
    pub encrypted: bool,
}

/// How a provider names a person (saml-core-2.0-os 2.2.2).
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct NameId {
    pub value: String,
    pub format: Option<String>,
    pub qualifier: Option<String>,
    pub sp_qualifier: Option<String>,
}

const FORMATS: &str = "urn:oasis:names:tc:SAML:";
const PERSISTENT: &str = "persistent";
/// Names of formats (saml-core-2.0-os 8.3), as they stand before a value that is no persistent one.
const NAMED: [&str; 6] = ["unspecified", "emailAddress", "X509SubjectName", "WindowsDomainQualifiedName", "kerberos", "entity"];

impl NameId {
    /// The last part of its format; one that says none is unspecified (8.3.1).
    pub fn format_name(&self) -> &str {
        match self.format.as_deref() {
            None | Some("") => "unspecified",
            Some(f) => f.strip_prefix(FORMATS).and_then(|f| f.rsplit(':').next()).unwrap_or(f),
        }
    }

    /// What tells a person of a provider from all others of it: a value means one person in its own format alone. None of a transient
    /// one (8.3.8), which means somebody else next time.
    pub fn key(&self) -> Option<String> {
        match self.format_name() {
            "transient" => None,
            // A persistent value that begins like one of another format is told from that.
            PERSISTENT if NAMED.iter().chain(&[PERSISTENT]).any(|n| self.value.starts_with(&format!("{n}:"))) => {
                Some(format!("{PERSISTENT}:{}", self.value))
            }
            PERSISTENT => Some(self.value.clone()),
            named if NAMED.contains(&named) => Some(format!("{named}:{}", self.value)),
            other => Some(format!("unspecified:{other} {}", self.value)),
        }
    }
}

/// What shows that an assertion is the provider's.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Shown {
    /// Whether the response as a whole is signed, and whether the assertion is.
    pub response: bool,
    pub assertion: bool,
    /// Whether the assertion came encrypted.
    pub encrypted: bool,
    /// The certificate (DER) that fits, of those that are expected.
    pub certificate: Vec<u8>,
}

/// What the provider says of a person.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Assertion {
    pub id: String,
    /// How the provider names the person; it may leave that to an attribute (2.4.1).
    pub name: Option<NameId>,
    pub shown: Shown,
    pub session_index: Option<String>,
    /// Until when the provider's own session lasts, where it says so (2.7.2).
    pub session_until: Option<DateTime<Utc>>,
    /// When the person proved who they are.
    pub authenticated: DateTime<Utc>,
    /// The authentication context class.
    pub context: Option<String>,
    /// Names and values, in the order of the document; values of attributes named twice are together.
    pub attributes: Vec<(String, Vec<String>)>,
    /// The end of what confirms its subject to us.
    pub good_until: DateTime<Utc>,
    /// Until when its identifier must be remembered, so that it counts once.
    pub remember_until: DateTime<Utc>,
}

/// Why a Response is not believed. Each has a code, what was seen and what was wanted.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BadResponse {
    #[error("it cannot be read: {0}")]
    Xml(#[from] BadXml),
    #[error("{0}")]
    Signature(#[from] BadSignature),
    #[error("it is no SAML 2.0 Response")]
    NotAResponse,
    #[error("it was sent to {0}")]
    Destination(String),
    #[error("it answers {0}")]
    Request(String),
    #[error("it is from {0}")]
    Issuer(String),
    /// The provider's own refusal: not a check of ours.
    #[error("the provider refuses: {status} {detail}")]
    Refused { status: String, detail: String },
    #[error("it holds {0} assertions")]
    Assertions(usize),
    #[error("its assertion stands where none should")]
    Place,
    #[error("neither the response nor its assertion is signed")]
    NotSigned,
    #[error("it is for {0}")]
    Audience(String),
    #[error("it holds the condition {0}, which is not understood")]
    Condition(String),
    #[error("no confirmation of its subject fits: {0}")]
    Subject(String),
    #[error("it is good from {0} on only")]
    NotYet(String),
    #[error("it was good until {0} only")]
    TooLate(String),
    #[error("it does not say that anybody proved who they are")]
    NotAuthenticated,
    #[error("its assertion is not encrypted")]
    NotEncrypted,
    #[error("{0}")]
    NotOpened(NotOpened),
}

impl From<NotOpened> for BadResponse {
    fn from(e: NotOpened) -> BadResponse {
        match e {
            NotOpened::Xml(e) => BadResponse::Xml(e),
            e => BadResponse::NotOpened(e),
        }
    }
}

impl BadResponse {
    /// A stable code.
    pub fn code(&self) -> &'static str {
        match self {
            BadResponse::Xml(_) => "xml",
            BadResponse::Signature(_) => "signature",
            BadResponse::NotAResponse => "form",
            BadResponse::Destination(_) => "destination",
            BadResponse::Request(_) => "in-response-to",
            BadResponse::Issuer(_) => "issuer",
            BadResponse::Refused { .. } => "refused",
            BadResponse::Assertions(_) => "assertions",
            BadResponse::Place => "place",
            BadResponse::NotSigned => "not-signed",
            BadResponse::Audience(_) => "audience",
            BadResponse::Condition(_) => "condition",
            BadResponse::Subject(_) => "subject",
            BadResponse::NotYet(_) => "not-before",
            BadResponse::TooLate(_) => "expiry",
            BadResponse::NotAuthenticated => "authentication",
            BadResponse::NotEncrypted => "not-encrypted",
            BadResponse::NotOpened(_) => "not-opened",
        }
    }
}

pub(super) fn short(text: &str) -> String {
    text.chars().take(200).collect()
}

/// Checks a Response and hands out its assertion.
///
/// # Errors
/// The first check that fails, in the order of this module.
pub fn check(text: &str, expected: &Expected<'_>) -> Result<Assertion, BadResponse> {
    let xml = Xml::read(text)?;
    let root = xml.root();
    if !xml.is(root, PROTOCOL, "Response") || xml.attribute(root, "Version") != Some("2.0") {
        return Err(BadResponse::NotAResponse);
    }
    let signed = signature::check(&xml, expected.certificates)?;
    let whole = signed.covers(&xml, root);
    match xml.attribute(root, "Destination") {
        Some(d) if d == expected.consumer => {}
        // A signed message says where it goes (saml-bindings-2.0-os 3.5.5.2); an unsigned one may leave it out.
        None if !whole => {}
        other => return Err(BadResponse::Destination(short(other.unwrap_or("nowhere")))),
    }
    answers(xml.attribute(root, "InResponseTo"), expected).map_err(BadResponse::Request)?;
    if let Some(node) = xml.child(root, ASSERTION, "Issuer")? {
        issuer(&xml, node, expected)?;
    }
    status(&xml, root)?;
    let read_in = |xml: &Xml<'_>, node: NodeId, own: &Signed, encrypted: bool| {
        let certificate = own.certificate(node).or_else(|| signed.certificate(root)).ok_or(BadResponse::NotSigned)?.to_vec();
        let shown = Shown { response: whole, assertion: own.certificate(node).is_some(), encrypted, certificate };
        read(xml, node, expected, shown)
    };
    match only_assertion(&xml, root)? {
        Held::Clear(_) if expected.encrypted => Err(BadResponse::NotEncrypted),
        Held::Clear(node) => read_in(&xml, node, &signed, false),
        Held::Encrypted(node) => {
            let opened = expected.opener.open(&xml, node)?;
            // What was encrypted is a document of its own, and signed in itself or by the response around it.
            let inner = Xml::read(&opened)?;
            let own = signature::check(&inner, expected.certificates)?;
            match only_assertion(&inner, inner.root())? {
                Held::Itself => read_in(&inner, inner.root(), &own, true),
                _ => Err(BadResponse::Place),
            }
        }
        Held::Itself => Err(BadResponse::Place),
    }
}

fn answers(seen: Option<&str>, expected: &Expected<'_>) -> Result<(), String> {
    match (seen, expected.request) {
        (Some(a), Some(b)) if a == b => Ok(()),
        (None, None) => Ok(()),
        (seen, _) => Err(short(seen.unwrap_or("no request"))),
    }
}

fn issuer(xml: &Xml<'_>, node: NodeId, expected: &Expected<'_>) -> Result<(), BadResponse> {
    let seen = xml.text(node, "Issuer")?;
    let plain = xml.attribute(node, "Format").is_none_or(|f| f == ENTITY);
    if seen == expected.issuer && plain { Ok(()) } else { Err(BadResponse::Issuer(short(&seen))) }
}

fn status(xml: &Xml<'_>, root: NodeId) -> Result<(), BadResponse> {
    let status = xml.need(root, PROTOCOL, "Status")?;
    let code = xml.need(status, PROTOCOL, "StatusCode")?;
    let value = |node: NodeId| xml.attribute(node, "Value").unwrap_or_default();
    if value(code) == SUCCESS {
        return Ok(());
    }
    let below = xml.child(code, PROTOCOL, "StatusCode")?.map(|n| short(value(n))).unwrap_or_default();
    let message = xml.child(status, PROTOCOL, "StatusMessage")?;
    let message = message.map(|n| xml.text(n, "StatusMessage")).transpose()?.unwrap_or_default();
    let detail = [below, short(&message)].into_iter().filter(|p| !p.is_empty()).collect::<Vec<_>>().join(": ");
    Err(BadResponse::Refused { status: short(value(code)), detail })
}

/// Where the one assertion is.
enum Held {
    Clear(NodeId),
    Encrypted(NodeId),
    /// It is the root.
    Itself,
}

/// The one assertion, in its one place: a second one anywhere, in an extension or in a signature, is what wrapping is made of.
fn only_assertion(xml: &Xml<'_>, root: NodeId) -> Result<Held, BadResponse> {
    let elements = xml.elements();
    let named = |name: &str| elements.iter().copied().filter(|n| xml.is(*n, ASSERTION, name)).collect::<Vec<_>>();
    let (clear, encrypted) = (named("Assertion"), named("EncryptedAssertion"));
    let responses = elements.iter().filter(|n| xml.is(**n, PROTOCOL, "Response")).count();
    match (clear.as_slice(), encrypted.as_slice()) {
        ([one], []) if *one == root && responses == 0 => Ok(Held::Itself),
        ([one], []) if responses == 1 && xml.parent(*one) == Some(root) => Ok(Held::Clear(*one)),
        ([], [one]) if responses == 1 && xml.parent(*one) == Some(root) => Ok(Held::Encrypted(*one)),
        ([_], []) | ([], [_]) => Err(BadResponse::Place),
        (a, b) => Err(BadResponse::Assertions(a.len() + b.len())),
    }
}

pub(super) fn moment(text: &str) -> Result<DateTime<Utc>, BadResponse> {
    let bad = || BadResponse::Xml(BadXml::Malformed(format!("{:?} is no moment in UTC", short(text))));
    // saml-core-2.0-os 1.3.3: in UTC, without another zone.
    if !text.ends_with('Z') {
        return Err(bad());
    }
    DateTime::parse_from_rfc3339(text).map(|t| t.to_utc()).map_err(|_| bad())
}

/// Whether a moment lies between two, each of which may be left open; clocks may differ a little.
fn within(from: Option<&str>, until: Option<&str>, expected: &Expected<'_>) -> Result<Option<DateTime<Utc>>, BadResponse> {
    if let Some(from) = from
        && expected.now + expected.skew < moment(from)?
    {
        return Err(BadResponse::NotYet(short(from)));
    }
    let Some(text) = until else { return Ok(None) };
    let until = moment(text)?;
    // A moment at the end of the calendar must not overflow.
    if expected.now - expected.skew >= until {
        return Err(BadResponse::TooLate(short(text)));
    }
    Ok(Some(until))
}

fn read(xml: &Xml<'_>, assertion: NodeId, expected: &Expected<'_>, shown: Shown) -> Result<Assertion, BadResponse> {
    if xml.attribute(assertion, "Version") != Some("2.0") {
        return Err(BadResponse::NotAResponse);
    }
    let id = xml.attribute(assertion, "ID").filter(|id| !id.is_empty()).ok_or(BadXml::Missing("ID"))?.to_owned();
    issuer(xml, xml.need(assertion, ASSERTION, "Issuer")?, expected)?;
    let ends = conditions(xml, assertion, expected)?;
    let subject = xml.need(assertion, ASSERTION, "Subject")?;
    let named = ["NameID", "EncryptedID"].iter().any(|n| !xml.children(subject, ASSERTION, n).is_empty());
    let name = named.then(|| name_id(xml, subject, expected.opener)).transpose()?;
    let confirmed = confirmation(xml, subject, expected)?;
    let Proved { authenticated, session_index, session_until, context } = authentication(xml, assertion, expected)?;
    let remember_until = ends.map_or(confirmed, |e| e.max(confirmed)).checked_add_signed(expected.skew).unwrap_or(confirmed);
    Ok(Assertion {
        id,
        name,
        shown,
        session_index,
        session_until,
        authenticated,
        context,
        attributes: attributes(xml, assertion, expected.opener)?,
        good_until: confirmed,
        remember_until,
    })
}

/// The NameID of a subject or of a message to sign out, in clear or encrypted.
pub(super) fn name_id(xml: &Xml<'_>, holder: NodeId, opener: &Opener) -> Result<NameId, BadResponse> {
    let read = |xml: &Xml<'_>, node: NodeId| -> Result<NameId, BadResponse> {
        let value = xml.text(node, "NameID")?;
        if value.is_empty() || value.len() > 1_024 {
            return Err(BadResponse::Subject("its NameID is empty or too long".to_owned()));
        }
        let attribute = |name: &str| xml.attribute(node, name).map(str::to_owned);
        let (qualifier, sp_qualifier) = (attribute("NameQualifier"), attribute("SPNameQualifier"));
        Ok(NameId { value, format: attribute("Format"), qualifier, sp_qualifier })
    };
    match (xml.child(holder, ASSERTION, "NameID")?, xml.child(holder, ASSERTION, "EncryptedID")?) {
        (Some(node), None) => read(xml, node),
        (None, Some(node)) => {
            let opened = opener.open(xml, node)?;
            let inner = Xml::read(&opened)?;
            match inner.is(inner.root(), ASSERTION, "NameID") {
                true => read(&inner, inner.root()),
                false => Err(BadXml::Missing("NameID").into()),
            }
        }
        (None, None) => Err(BadXml::Missing("NameID").into()),
        (Some(_), Some(_)) => Err(BadXml::Several("NameID").into()),
    }
}

/// Conditions: times, and that we are meant. One that is not understood makes the assertion of no use (2.5.1.1).
fn conditions(xml: &Xml<'_>, assertion: NodeId, expected: &Expected<'_>) -> Result<Option<DateTime<Utc>>, BadResponse> {
    let conditions = xml.need(assertion, ASSERTION, "Conditions")?;
    let ends = within(xml.attribute(conditions, "NotBefore"), xml.attribute(conditions, "NotOnOrAfter"), expected)?;
    let known = ["AudienceRestriction", "OneTimeUse", "ProxyRestriction"];
    for node in xml.inside(conditions) {
        if !known.iter().any(|k| xml.is(node, ASSERTION, k)) {
            return Err(BadResponse::Condition(xml.name(node)));
        }
    }
    let restrictions = xml.children(conditions, ASSERTION, "AudienceRestriction");
    if restrictions.is_empty() {
        return Err(BadResponse::Audience("nobody in particular".to_owned()));
    }
    for restriction in restrictions {
        let meant: Vec<String> = xml
            .children(restriction, ASSERTION, "Audience")
            .into_iter()
            .map(|n| xml.text(n, "Audience"))
            .collect::<Result<_, _>>()?;
        if !meant.iter().any(|a| a == expected.audience) {
            return Err(BadResponse::Audience(short(&meant.join(", "))));
        }
    }
    Ok(ends)
}

/// A bearer confirmation for this address, this request and this moment (saml-profiles-2.0-os 4.1.4.2). Returns its end.
fn confirmation(xml: &Xml<'_>, subject: NodeId, expected: &Expected<'_>) -> Result<DateTime<Utc>, BadResponse> {
    let mut why = "it has none for a bearer".to_owned();
    for node in xml.children(subject, ASSERTION, "SubjectConfirmation") {
        if xml.attribute(node, "Method") != Some(BEARER) {
            continue;
        }
        let data = xml.need(node, ASSERTION, "SubjectConfirmationData")?;
        let recipient = xml.attribute(data, "Recipient");
        if recipient != Some(expected.consumer) {
            why = format!("it is for the recipient {}", short(recipient.unwrap_or("nobody")));
            continue;
        }
        if let Err(seen) = answers(xml.attribute(data, "InResponseTo"), expected) {
            why = format!("it answers {seen}");
            continue;
        }
        if xml.attribute(data, "NotBefore").is_some() {
            why = "it has a NotBefore".to_owned();
            continue;
        }
        match within(None, xml.attribute(data, "NotOnOrAfter"), expected)? {
            Some(until) => return Ok(until),
            None => why = "it has no end".to_owned(),
        }
    }
    Err(BadResponse::Subject(why))
}

/// What an assertion says of how and when the person proved who they are.
struct Proved {
    authenticated: DateTime<Utc>,
    session_index: Option<String>,
    session_until: Option<DateTime<Utc>>,
    context: Option<String>,
}

/// Several statements may stand there (2.3.3): of them the one made last counts, and the session lasts as long as the shortest says.
fn authentication(xml: &Xml<'_>, assertion: NodeId, expected: &Expected<'_>) -> Result<Proved, BadResponse> {
    let mut out: Option<Proved> = None;
    for statement in xml.children(assertion, ASSERTION, "AuthnStatement") {
        let until = within(None, xml.attribute(statement, "SessionNotOnOrAfter"), expected)?;
        let instant = moment(xml.attribute(statement, "AuthnInstant").ok_or(BadResponse::NotAuthenticated)?)?;
        if expected.now + expected.skew < instant {
            return Err(BadResponse::NotYet(instant.to_rfc3339()));
        }
        let context = xml.need(statement, ASSERTION, "AuthnContext")?;
        let class = xml.child(context, ASSERTION, "AuthnContextClassRef")?;
        let class = class.map(|n| xml.text(n, "AuthnContextClassRef")).transpose()?;
        let session_index = xml.attribute(statement, "SessionIndex").map(str::to_owned);
        let before = out.as_ref().and_then(|o| o.session_until);
        let session_until = until.into_iter().chain(before).min();
        match &mut out {
            Some(latest) if latest.authenticated >= instant => latest.session_until = session_until,
            _ => out = Some(Proved { authenticated: instant, session_index, session_until, context: class }),
        }
    }
    out.ok_or(BadResponse::NotAuthenticated)
}

fn attributes(xml: &Xml<'_>, assertion: NodeId, opener: &Opener) -> Result<Vec<(String, Vec<String>)>, BadResponse> {
    let mut out: Vec<(String, Vec<String>)> = vec![];
    let mut count = 0;
    let mut take = |xml: &Xml<'_>, attribute: NodeId| -> Result<(), BadResponse> {
        let name = xml.attribute(attribute, "Name").ok_or(BadXml::Missing("Name"))?.to_owned();
        let mut values = vec![];
        for value in xml.children(attribute, ASSERTION, "AttributeValue") {
            // A value may be of elements (2.7.3.1.1): a NameID is read, and of anything else there is no text to go by.
            match xml.inside(value).as_slice() {
                [] => values.push(xml.text(value, "AttributeValue")?),
                [one] if xml.is(*one, ASSERTION, "NameID") => values.push(xml.text(*one, "NameID")?),
                _ => {}
            }
        }
        count += values.len();
        match out.iter_mut().find(|(n, _)| *n == name) {
            Some((_, all)) => all.extend(values),
            None => out.push((name, values)),
        }
        if out.len() > ATTRIBUTES_MAX || count > VALUES_MAX { Err(BadXml::TooMany.into()) } else { Ok(()) }
    };
    for statement in xml.children(assertion, ASSERTION, "AttributeStatement") {
        for attribute in xml.children(statement, ASSERTION, "Attribute") {
            take(xml, attribute)?;
        }
        let encrypted = xml.children(statement, ASSERTION, "EncryptedAttribute");
        if encrypted.len() > ENCRYPTED_MAX {
            return Err(BadXml::TooMany.into());
        }
        for holder in encrypted {
            let opened = opener.open(xml, holder)?;
            let inner = Xml::read(&opened)?;
            match inner.is(inner.root(), ASSERTION, "Attribute") {
                true => take(&inner, inner.root())?,
                false => return Err(BadXml::Missing("Attribute").into()),
            }
        }
    }
    Ok(out)
}
