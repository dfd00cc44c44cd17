//! What a gate's application is shown instead of headers: a Kerberos ticket, as the person.

use super::attribute_id::AttributeId;
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
