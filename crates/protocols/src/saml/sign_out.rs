//! Signing out at all who know the person (saml-core-2.0-os 3.7, saml-profiles-2.0-os 4.4), asked by us or by the provider.
//! A message of the provider counts only when it is signed: anybody can send a browser here.

use chrono::{DateTime, Duration, Utc};
use uppsala::NodeId;

use super::binding::{self, Message};
use super::encryption::{NotOpened, Opener};
use super::response::{self, NameId};
use super::signature::{self, BadSignature};
use super::write::{Signs, escaped, moment, signed_message};
use super::xml::{BadXml, Xml};
use super::{ASSERTION, PROTOCOL, SUCCESS};

/// The most sessions that one message names.
const SESSIONS_MAX: usize = 200;
/// How old a message may be that says nothing of its own end.
const GOOD_FOR: i64 = 5;

/// Head of a message of ours.
#[derive(Clone, Copy, Debug)]
pub struct Head<'a> {
    /// Not a digit at its beginning: it is an XML name.
    pub id: &'a str,
    pub destination: &'a str,
    /// Our entity id.
    pub issuer: &'a str,
    pub now: DateTime<Utc>,
}

impl Head<'_> {
    fn write(&self, name: &str, more: &str, inside: &str) -> String {
        format!(
            "<samlp:{name} xmlns:samlp=\"{PROTOCOL}\" xmlns:saml=\"{ASSERTION}\" ID=\"{}\" Version=\"2.0\" IssueInstant=\"{}\" \
             Destination=\"{}\"{more}><saml:Issuer>{}</saml:Issuer>{inside}</samlp:{name}>",
            escaped(self.id),
            moment(self.now),
            escaped(self.destination),
            escaped(self.issuer),
        )
    }

    /// Signed for the POST binding; by redirect the query is signed instead.
    pub fn signed(&self, xml: &str, signer: &dyn Signs) -> Option<String> {
        signed_message(xml, self.id, signer)
    }

    /// Asks the provider to sign somebody out (3.7.1).
    pub fn request(&self, name: &NameId, session: Option<&str>) -> String {
        let optional = |attribute: &str, value: &Option<String>| {
            value.as_ref().map(|v| format!(" {attribute}=\"{}\"", escaped(v))).unwrap_or_default()
        };
        let session = session.map(|s| format!("<samlp:SessionIndex>{}</samlp:SessionIndex>", escaped(s))).unwrap_or_default();
        let inside = format!(
            "<saml:NameID{}{}{}>{}</saml:NameID>{session}",
            optional("NameQualifier", &name.qualifier),
            optional("SPNameQualifier", &name.sp_qualifier),
            optional("Format", &name.format),
            escaped(&name.value),
        );
        self.write("LogoutRequest", &format!(" NotOnOrAfter=\"{}\"", moment(self.now + Duration::minutes(GOOD_FOR))), &inside)
    }

    /// Answers the provider's request (3.7.2): all is ended here, or not all.
    pub fn answer(&self, request: &str, done: bool) -> String {
        let below = match done {
            true => format!("<samlp:StatusCode Value=\"{SUCCESS}\"/>"),
            false => format!(
                "<samlp:StatusCode Value=\"urn:oasis:names:tc:SAML:2.0:status:Responder\"><samlp:StatusCode Value=\"{PARTIAL}\"/></samlp:StatusCode>"
            ),
        };
        let more = format!(" InResponseTo=\"{}\"", escaped(request));
        self.write("LogoutResponse", &more, &format!("<samlp:Status>{below}</samlp:Status>"))
    }
}

const PARTIAL: &str = "urn:oasis:names:tc:SAML:2.0:status:PartialLogout";

/// What a message of the provider must say to be believed.
#[derive(Clone, Copy, Debug)]
pub struct Expected<'a> {
    /// The provider's entity id.
    pub issuer: &'a str,
    /// The address it came to.
    pub address: &'a str,
    pub now: DateTime<Utc>,
    pub skew: Duration,
    /// Signing certificates of the provider in DER.
    pub certificates: &'a [Vec<u8>],
    pub opener: &'a Opener,
}

/// How a message came.
#[derive(Clone, Copy, Debug)]
pub enum Carried<'a> {
    /// In an address with this query.
    Address(&'a str),
    /// As the value of a form.
    Form(&'a str),
}

/// Why a message is not believed.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BadSignOut {
    #[error("it cannot be read: {0}")]
    Xml(#[from] BadXml),
    #[error("{0}")]
    Signature(#[from] BadSignature),
    #[error("{0}")]
    NotOpened(#[from] NotOpened),
    #[error("it is no message to sign out")]
    Form,
    #[error("it is from {0}")]
    Issuer(String),
    #[error("it was sent to {0}")]
    Destination(String),
    #[error("it is too old, or not yet good: {0}")]
    Time(String),
    #[error("it names nobody")]
    Nobody,
}

/// The provider signs somebody out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SignOut {
    pub id: String,
    pub name: NameId,
    /// Sessions of the provider's that end; all of the person's where none is named.
    pub sessions: Vec<String>,
    /// Until when its identifier must be remembered, so that it counts once.
    pub remember_until: DateTime<Utc>,
}

/// The provider's answer to a request of ours.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Answered {
    /// The request of ours.
    pub request: String,
    /// Whether the person is signed out everywhere.
    pub everywhere: bool,
}

/// The text of a message, with the signature of its address checked where that is what is signed.
fn text(carried: Carried<'_>, kind: Message, expected: &Expected<'_>) -> Result<String, BadSignOut> {
    match carried {
        Carried::Address(query) => {
            binding::check_query(query, kind, expected.certificates)?;
            let value =
                url::form_urlencoded::parse(query.as_bytes()).find(|(n, _)| n == kind.parameter()).map(|(_, v)| v.into_owned());
            Ok(binding::from_address(&value.ok_or(BadSignOut::Form)?)?)
        }
        Carried::Form(value) => Ok(binding::from_form(value)?),
    }
}

/// Checks what both kinds have in common, and gives the root.
fn head(xml: &Xml<'_>, name: &str, carried: Carried<'_>, expected: &Expected<'_>) -> Result<NodeId, BadSignOut> {
    let root = xml.root();
    if !xml.is(root, PROTOCOL, name) || xml.attribute(root, "Version") != Some("2.0") {
        return Err(BadSignOut::Form);
    }
    let signed = signature::check(xml, expected.certificates)?;
    if matches!(carried, Carried::Form(_)) && !signed.covers(xml, root) {
        return Err(BadSignature::NotSigned.into());
    }
    if xml.attribute(root, "Destination") != Some(expected.address) {
        return Err(BadSignOut::Destination(response::short(xml.attribute(root, "Destination").unwrap_or("nowhere"))));
    }
    let issuer = xml.text(xml.need(root, ASSERTION, "Issuer")?, "Issuer")?;
    if issuer != expected.issuer {
        return Err(BadSignOut::Issuer(response::short(&issuer)));
    }
    Ok(root)
}

fn time(text: &str) -> Result<DateTime<Utc>, BadSignOut> {
    response::moment(text).map_err(|_| BadSignOut::Time(response::short(text)))
}

/// Reads the provider's request to sign somebody out.
///
/// # Errors
/// See [`BadSignOut`].
pub fn read_request(carried: Carried<'_>, expected: &Expected<'_>) -> Result<SignOut, BadSignOut> {
    let text = text(carried, Message::Request, expected)?;
    let xml = Xml::read(&text)?;
    let root = head(&xml, "LogoutRequest", carried, expected)?;
    let id = xml.attribute(root, "ID").filter(|i| !i.is_empty()).ok_or(BadXml::Missing("ID"))?.to_owned();
    let issued = xml.attribute(root, "IssueInstant").ok_or(BadXml::Missing("IssueInstant"))?;
    let at = time(issued)?;
    let end = match xml.attribute(root, "NotOnOrAfter") {
        Some(end) => time(end)?.min(at + Duration::hours(1)),
        None => at + Duration::minutes(GOOD_FOR),
    };
    if expected.now + expected.skew < at || expected.now - expected.skew >= end {
        return Err(BadSignOut::Time(response::short(issued)));
    }
    let name = response::name_id(&xml, root, expected.opener).map_err(|e| match e {
        response::BadResponse::NotOpened(e) => BadSignOut::NotOpened(e),
        response::BadResponse::Xml(e) => BadSignOut::Xml(e),
        _ => BadSignOut::Nobody,
    })?;
    let named = xml.children(root, PROTOCOL, "SessionIndex");
    if named.len() > SESSIONS_MAX {
        return Err(BadXml::TooMany.into());
    }
    let sessions = named.into_iter().map(|n| xml.text(n, "SessionIndex")).collect::<Result<_, _>>()?;
    Ok(SignOut { id, name, sessions, remember_until: end + expected.skew })
}

/// Reads the provider's answer to a request of ours.
///
/// # Errors
/// See [`BadSignOut`].
pub fn read_answer(carried: Carried<'_>, expected: &Expected<'_>) -> Result<Answered, BadSignOut> {
    let text = text(carried, Message::Response, expected)?;
    let xml = Xml::read(&text)?;
    let root = head(&xml, "LogoutResponse", carried, expected)?;
    let request = xml.attribute(root, "InResponseTo").ok_or(BadXml::Missing("InResponseTo"))?.to_owned();
    let code = xml.need(xml.need(root, PROTOCOL, "Status")?, PROTOCOL, "StatusCode")?;
    let below = xml.child(code, PROTOCOL, "StatusCode")?;
    let value = |node: NodeId| xml.attribute(node, "Value").unwrap_or_default();
    Ok(Answered { request, everywhere: value(code) == SUCCESS && below.is_none_or(|n| value(n) != PARTIAL) })
}
