//! Who somebody is, as records, rules and sessions know them.

use serde::{Deserialize, Serialize};

/// A person as everything that is kept knows them: by who vouches for them and what they are called there. The name of a provider in the
/// site file is no part of it: an edition can give that name to another issuer.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct PersonKey {
    /// See [`authority`].
    pub authority: String,
    pub subject: String,
}

/// Who vouches for people who came in a way: the issuer, with its protocol, since one text may name a party in both; for a way in of our
/// own that way.
pub fn authority(way_in: WayIn, provider: &str, issuer: &str) -> String {
    match way_in {
        WayIn::Oidc | WayIn::AccessToken => format!("oidc:{issuer}"),
        WayIn::Saml => format!("saml:{issuer}"),
        WayIn::Password
        | WayIn::MailedCode
        | WayIn::Sponsor
        | WayIn::Certificate
        | WayIn::Ticket
        | WayIn::Gateway
        | WayIn::Machine => format!("way:{provider}"),
        // They stand for somebody whom another vouched for.
        WayIn::Passkey | WayIn::PersonalToken => String::new(),
    }
}

/// How the person signed in. Further kinds follow with their protocols.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum WayIn {
    /// OpenID Connect, authorization code flow.
    Oidc,
    /// SAML 2.0, web browser SSO profile.
    Saml,
    /// A directory's password, by an LDAP bind as the person.
    Password,
    /// A code sent by mail.
    MailedCode,
    /// Somebody's word for a guest.
    Sponsor,
    /// A passkey of our own (Web Authentication).
    Passkey,
    /// An access token of the provider (RFC 9068, RFC 7662).
    AccessToken,
    /// A token that somebody made for programs of theirs.
    PersonalToken,
    /// A client certificate.
    Certificate,
    /// A Kerberos ticket, or a password in its realm.
    Ticket,
    /// The word of a RADIUS client that signed them in itself.
    Gateway,
    /// A hardware address, of a machine that nobody sits at.
    Machine,
}

/// A person: the provider and its identifier of them. Never a mail address or a name.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Person {
    pub provider: String,
    pub subject: String,
}

impl Person {
    /// Reads `PROVIDER/SUBJECT`; a subject may hold slashes. None where either is missing.
    pub fn parse(text: &str) -> Option<Person> {
        let (provider, subject) = text.split_once('/')?;
        (!provider.is_empty() && !subject.is_empty())
            .then(|| Person { provider: provider.to_owned(), subject: subject.to_owned() })
    }
}
