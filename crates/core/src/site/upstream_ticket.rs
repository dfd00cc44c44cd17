//! What a gate's application is shown instead of headers: a Kerberos ticket, as the person.

use super::AttributeId;
use super::access::Names;
use super::read::Fields;
use super::ticket::realm_of;
use crate::attribute::Attribute;
use crate::evidence::{Evidence, WayIn};
use crate::identity::Identity;
use crate::step::Lang;

/// A ticket for the application of a gate.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct UpstreamTicket {
    /// The application's service principal, whole.
    pub service: String,
    /// How a ticket is come by; the first that can be had is taken.
    pub by: Vec<By>,
    pub behalf: Option<Behalf>,
}

/// How a ticket is come by.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum By {
    /// The person's own ticket, which their browser sent along (RFC 4559, GSS-API's delegation).
    Forwarded,
    /// One that an account of ours asks for (S4U2Self and S4U2Proxy, [MS-SFU] 3.2.5).
    OnBehalf,
}

/// An account of ours that acts for people, and who a person is at its KDC.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Behalf {
    /// Its principal, whole.
    pub account: String,
    /// The secret that holds its keytab.
    pub keytab: String,
    /// The attribute that is the person's name in the realm.
    pub person: AttributeId,
    /// The realm of a name that says none.
    pub realm: String,
}

/// Why nobody knows as whom to ask.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NoPrincipal {
    /// The attribute is not there.
    Absent(crate::attribute::Absence),
    /// It has several values, or one that is no name of a person.
    Unfit,
}

impl Behalf {
    /// The principal of a person: that of their own ticket where they came by one, else what the attribute says.
    ///
    /// # Errors
    /// Why there is none.
    pub fn principal(&self, evidence: &Evidence, who: &Identity) -> Result<String, NoPrincipal> {
        if evidence.way_in == WayIn::Ticket && evidence.through.is_none() {
            return Ok(evidence.subject.clone());
        }
        let attribute: &Attribute = who.attribute(self.person);
        let values = attribute.values().map_err(|a| NoPrincipal::Absent(a.clone()))?;
        let [value] = values else { return Err(NoPrincipal::Unfit) };
        of_realm(value, &self.realm).ok_or(NoPrincipal::Unfit)
    }
}

/// A plain name of a realm: no character of it means anything to Kerberos.
fn of_realm(name: &str, realm: &str) -> Option<String> {
    let odd = |c: char| c.is_control() || c.is_whitespace() || "@/\\".contains(c);
    (!name.is_empty() && name.len() <= 200 && !name.contains(odd)).then(|| format!("{name}@{realm}"))
}

/// A principal as a site file writes one: components and realm, none empty, no escapes.
fn is_principal(text: &str, services: bool) -> bool {
    let odd = |c: char| c.is_control() || c.is_whitespace() || "\\'\"`".contains(c);
    let Some((name, realm)) = text.split_once('@') else { return false };
    let whole = name.split('/').all(|c| !c.is_empty()) && !realm.is_empty() && !realm.contains(['@', '/']);
    whole && !text.contains(odd) && text.len() <= 300 && (!services || name.contains('/'))
}

/// Reads `[gate.ticket]`.
pub(crate) fn read(gate: &Fields<'_, '_>, names: &Names<'_>) -> Option<UpstreamTicket> {
    let f = gate.table("ticket")?;
    let example = "\"HTTP/application.example@REALM.EXAMPLE\"";
    let service = f.need("service", example).unwrap_or_default();
    if !service.is_empty() && !is_principal(&service, true) {
        f.error("service", format!("\"{service}\" is no service principal"), format!("Write it whole: service = {example}."));
    }
    let words = [("forwarded", By::Forwarded), ("on-behalf", By::OnBehalf)];
    let mut by = vec![];
    for text in f.texts("by").unwrap_or_else(|| vec!["on-behalf".into()]) {
        match words.iter().find(|(w, _)| *w == text) {
            Some((_, way)) if !by.contains(way) => by.push(*way),
            Some(_) => f.error("by", format!("\"{text}\" stands twice"), "Write each once."),
            None => f.error(
                "by",
                format!("there is no \"{text}\""),
                "Write \"forwarded\", \"on-behalf\" or both, the first to try first.",
            ),
        }
    }
    let behalf = by.contains(&By::OnBehalf).then(|| {
        let account = f.need("account", "\"HTTP/passeur.example@REALM.EXAMPLE\"").unwrap_or_default();
        if !account.is_empty() && !is_principal(&account, false) {
            f.error("account", format!("\"{account}\" is no principal"), "Write it whole, with its realm.");
        }
        let keytab = f.need("keytab", "\"gateway-keytab\"").unwrap_or_default();
        let of_account = realm_of(&account).to_owned();
        let realm = f.text("realm").unwrap_or(of_account);
        let attribute = f.text("person").unwrap_or_else(|| "user".into());
        let person = (names.attribute)(&attribute);
        if person.is_none() {
            f.error(
                "person",
                format!("there is no attribute \"{attribute}\""),
                "Name one that a provider, way in, directory or mapping feeds.",
            );
        }
        person.map(|person| Behalf { account, keytab, person, realm })
    });
    f.finish();
    Some(UpstreamTicket { service, by, behalf: behalf.flatten() })
}

impl UpstreamTicket {
    /// What the application is shown, and how it is come by.
    pub fn sentence(&self, lang: Lang) -> String {
        let (ticket, own, behalf, or) = match lang {
            Lang::En => ("a Kerberos ticket for", "the person's own", "on behalf, by", "or else"),
            Lang::Fr => ("un ticket Kerberos pour", "celui de la personne", "en son nom, par", "ou sinon"),
        };
        let account = self.behalf.as_ref().map_or("?", |b| b.account.as_str());
        let by = self.by.iter().map(|by| match by {
            By::Forwarded => own.to_owned(),
            By::OnBehalf => format!("{behalf} {account}"),
        });
        format!("{ticket} {}: {}", self.service, by.collect::<Vec<_>>().join(&format!(", {or} ")))
    }

    /// Whether the person's own ticket will do.
    pub fn takes_forwarded(&self) -> bool {
        self.by.contains(&By::Forwarded)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_becomes_a_principal_only_where_nothing_in_it_means_anything() {
        for (name, wanted) in [
            ("farid", Some("farid@R")),
            ("o'neil-x.2", Some("o'neil-x.2@R")),
            ("farid/admin", None),
            ("farid@ELSEWHERE", None),
            ("fa rid", None),
            ("a\\b", None),
            ("", None),
            ("a\u{0}", None),
        ] {
            assert_eq!(of_realm(name, "R").as_deref(), wanted, "{name:?}");
        }
        for (text, services, wanted) in [
            ("HTTP/a.example@R", true, true),
            ("HTTP/a.example@R", false, true),
            ("passeur@R", false, true),
            ("passeur@R", true, false),
            ("HTTP/a.example", true, false),
            ("HTTP/@R", true, false),
            ("/a@R", true, false),
            ("HTTP/a@R@S", true, false),
            ("HTTP/a b@R", true, false),
        ] {
            assert_eq!(is_principal(text, services), wanted, "{text}");
        }
    }
}
