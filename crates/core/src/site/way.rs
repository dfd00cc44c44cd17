//! Ways in of our own, which need no identity provider: a password of a directory, a code by mail, a passkey, a Kerberos ticket.
//!
//! They share one space of names with providers: a person is (provider, subject), and for these the way in is the provider.

use super::attribute_id::AttributeId;
use super::open_network::Machine;
use super::ticket::TicketWay;
use chrono::Duration;

/// One way in of our own.
#[derive(Clone, Debug)]
pub struct Way {
    pub name: String,
    /// What people read on the button that leads there.
    pub title: String,
    pub kind: WayKind,
    /// Attribute and the claim that feeds it.
    pub attributes: Vec<(AttributeId, String)>,
    /// How long a form of it may stay open.
    pub answer_within: Duration,
}

/// What proves who somebody is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum WayKind {
    /// A password, by an LDAP bind as the person.
    Password(PasswordWay),
    /// A code of six digits, sent by mail.
    MailedCode(MailedCodeWay),
    /// A passkey (Web Authentication) that somebody enrolled who came in by another way.
    Passkey(PasskeyWay),
    /// A client certificate, of a program (RFC 5246 7.4.6, RFC 8446 4.4.2).
    Certificate(CertificateWay),
    /// The word of somebody who is known, for a guest who is not.
    Sponsor(SponsorWay),
    /// A Kerberos ticket that the person's machine holds (RFC 4559), or their password in a realm.
    Ticket(TicketWay),
    /// The word of a RADIUS client that signed somebody in itself (Service-Type Authorize-Only).
    Gateway,
    /// The hardware address of a machine that nobody sits at, as a RADIUS client sees it: anybody on the link can copy it.
    Machine(Vec<Machine>),
}

/// A password of a directory.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PasswordWay {
    pub directory: String,
    /// The directory attribute that is the person's key: one that is never given to somebody else.
    pub subject: String,
    /// Wrong passwords of one name from one neighbourhood of addresses, within [`TRIES_MINUTES`], after which no more are tried.
    pub tries: u32,
}

/// A code by mail.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MailedCodeWay {
    /// Who gets one: whole addresses, or `@` with a domain. Lower case.
    pub to: Vec<String>,
    /// How long a code is good.
    pub lives: Duration,
}

/// A passkey as a way in of its own.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PasskeyWay {
    /// Whose people may come by it: names of providers and other ways in.
    pub of: Vec<String>,
    /// How old what the provider said of somebody may be; then they sign in there again.
    pub renew: Duration,
}

/// Client certificates.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CertificateWay {
    /// Certificates of the authorities that issue them, in DER.
    pub authorities: Vec<Vec<u8>>,
}

/// Guests for whom somebody vouches.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SponsorWay {
    /// The gate whose rules say who may vouch, and the role that they give for it.
    pub gate: String,
    pub role: String,
    /// How long a guest's session lasts at most.
    pub lasts: Duration,
}

/// Whose word a password is asked of.
#[derive(Clone, Copy, Debug)]
pub enum PasswordOf<'a> {
    /// A directory's, by a bind as the person.
    Directory(&'a PasswordWay),
    /// The KDC's of a realm.
    Realm(&'a TicketWay),
}

impl PasswordOf<'_> {
    /// Wrong passwords of one name from one neighbourhood of addresses, within [`TRIES_MINUTES`], after which no more are tried.
    pub fn tries(self) -> u32 {
        match self {
            PasswordOf::Directory(way) => way.tries,
            PasswordOf::Realm(way) => way.tries,
        }
    }

    /// By what the tries of a typed name are counted: two spellings that mean one account are one.
    pub fn account(self, typed: &str) -> String {
        let principal = match self {
            PasswordOf::Directory(_) => None,
            PasswordOf::Realm(way) => way.principal(typed),
        };
        principal.as_deref().unwrap_or(typed.trim()).to_lowercase()
    }
}

impl Way {
    /// Whether it lets machines in by their hardware address. What a rule gives them it says itself, by naming this way in.
    pub fn is_of_machines(&self) -> bool {
        matches!(self.kind, WayKind::Machine(_))
    }
}

/// The window in which wrong tries are counted, in minutes.
pub const TRIES_MINUTES: i64 = 15;

impl Way {
    /// Whose word a name and a password are asked of; none where this way in takes none.
    pub fn password(&self) -> Option<PasswordOf<'_>> {
        match &self.kind {
            WayKind::Password(way) => Some(PasswordOf::Directory(way)),
            WayKind::Ticket(way) if way.password => Some(PasswordOf::Realm(way)),
            _ => None,
        }
    }

    /// The method it proves (RFC 8176).
    pub fn method(&self) -> &'static str {
        match self.kind {
            WayKind::Password(_) => "pwd",
            // RFC 8176 has no word for it. It is no code of an authenticator: whoever reads the mail box has it.
            WayKind::MailedCode(_) => "mail-code",
            WayKind::Passkey(_) => "hwk",
            // RFC 8176 has no word for it: nothing was proven by the guest themselves.
            WayKind::Sponsor(_) => "sponsor",
            WayKind::Certificate(_) => "pop",
            // The registered word for it, whoever's machine it is.
            WayKind::Ticket(_) => "wia",
            // RFC 8176 has no word for it: whatever was proven was proven there.
            WayKind::Gateway => "gateway",
            // RFC 8176 has no word for it: nothing was proven.
            WayKind::Machine(_) => "machine",
        }
    }
}

impl MailedCodeWay {
    /// Whether a code may be sent to a mail address, in lower case.
    pub fn sends_to(&self, mail: &str) -> bool {
        self.to.iter().any(|t| if t.starts_with('@') { mail.ends_with(t.as_str()) } else { mail == t })
    }
}

/// A mail address as it is compared and sent to: one `@`, no blanks, quotes or control characters, and a domain in lower case
/// letters. None where it is not a plain one (RFC 5321 4.1.2 allows more; nobody's mail needs it).
pub fn plain_mail(text: &str) -> Option<String> {
    let text = text.trim().to_lowercase();
    let (local, domain) = text.split_once('@')?;
    let plain = |s: &str, extra: &str| !s.is_empty() && s.chars().all(|c| c.is_alphanumeric() || extra.contains(c));
    let dots = |s: &str| !s.starts_with('.') && !s.ends_with('.') && !s.contains("..");
    let fits = text.len() <= 254 && local.len() <= 64;
    (fits && plain(local, "._+-!#$%&'*/=?^`{|}~") && plain(domain, ".-") && dots(local) && dots(domain)).then_some(text)
}

/// How mail is sent.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MailServer {
    pub host: String,
    pub port: u16,
    pub security: MailSecurity,
    /// The address mail comes from.
    pub from: String,
    /// The account to sign in with, and the name of the secret that holds its password.
    pub account: Option<(String, String)>,
    /// A file of PEM certificates to trust beside the system's.
    pub ca_file: Option<String>,
}

/// How the connection to a mail server is protected.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum MailSecurity {
    /// TLS from the first byte (RFC 8314 3.3).
    Tls,
    /// STARTTLS, required (RFC 3207).
    StartTls,
    /// In clear: to a server on this host alone.
    Clear,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_plain_mail_addresses_are_sent_to() {
        for good in ["a@b.example", "Anouk.Le-Goff+x@Crews.Example", " a@b.example "] {
            assert_eq!(plain_mail(good), Some(good.trim().to_lowercase()), "{good}");
        }
        let long = format!("{}@b.example", "a".repeat(65));
        for bad in
            ["", "a", "@b", "a@", "a@b@c", "a b@c", "a@b\r\nBcc: x@y", "\"a\"@b", "a..b@c", ".a@b", "a@b.", "a@[1.2.3.4]", &long]
        {
            assert_eq!(plain_mail(bad), None, "{bad:?}");
        }
    }

    #[test]
    fn a_domain_takes_its_own_addresses_and_no_others() {
        let way = MailedCodeWay { to: vec!["@crews.example".into(), "one@else.example".into()], lives: Duration::minutes(10) };
        for (mail, sends) in [
            ("a@crews.example", true),
            ("a@x.crews.example", false),
            ("a@evilcrews.example", false),
            ("one@else.example", true),
            ("xone@else.example", false),
        ] {
            assert_eq!(way.sends_to(mail), sends, "{mail}");
        }
    }
}
