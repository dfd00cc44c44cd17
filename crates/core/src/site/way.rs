//! Ways in of our own, which need no identity provider: a password of a directory, a code by mail, a passkey, a Kerberos ticket.
//!
//! They share one space of names with providers: a person is (provider, subject), and for these the way in is the provider.

use chrono::Duration;

use super::AttributeId;
use super::access::refer;
use super::provider::certificates;
use super::read::Fields;
use super::ticket::{TicketWay, read_ticket};

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
    /// A Kerberos ticket that the person's machine holds (RFC 4559), or their password in a realm.
    Ticket(TicketWay),
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

/// The window in which wrong tries are counted, in minutes.
pub const TRIES_MINUTES: i64 = 15;

impl Way {
    /// The method it proves (RFC 8176).
    pub fn method(&self) -> &'static str {
        match self.kind {
            WayKind::Password(_) => "pwd",
            // RFC 8176 has no word for it. It is no code of an authenticator: whoever reads the mail box has it.
            WayKind::MailedCode(_) => "mail-code",
            WayKind::Passkey(_) => "hwk",
            WayKind::Certificate(_) => "pop",
            // The registered word for it, whoever's machine it is.
            WayKind::Ticket(_) => "wia",
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

#[derive(Clone, Copy, PartialEq)]
enum Kind {
    Password,
    MailedCode,
    Passkey,
    Certificate,
    Ticket,
}

/// What ways in may refer to.
pub(crate) struct Around<'a> {
    pub(crate) directories: &'a [String],
    /// Names of providers and ways in.
    pub(crate) others: &'a [String],
    pub(crate) has_mail: bool,
    /// The sign-in host.
    pub(crate) host: &'a str,
}

/// Reads `[[way]]`.
pub(crate) fn read_way(f: &Fields<'_, '_>, name: String, attributes: Vec<(AttributeId, String)>, around: &Around<'_>) -> Way {
    let Around { directories, others, has_mail, host } = *around;
    let words = [
        ("password", Kind::Password),
        ("mailed-code", Kind::MailedCode),
        ("passkey", Kind::Passkey),
        ("certificate", Kind::Certificate),
        ("ticket", Kind::Ticket),
    ];
    if !f.has("kind") {
        f.error(
            "kind",
            "kind is missing".into(),
            "Write kind = \"password\", \"mailed-code\", \"passkey\", \"certificate\" or \"ticket\".",
        );
    }
    let (m, d) = (Duration::minutes, Duration::days);
    let tries = || u32::try_from(f.number("tries", 5, 1..=100)).unwrap_or(5);
    let kind = match f.choice("kind", Kind::Password, &words) {
        Kind::Password => {
            if !f.has("directory") {
                f.error("directory", "directory is missing".into(), "Name the directory whose passwords count.");
            }
            WayKind::Password(PasswordWay {
                directory: refer(f, "directory", "directory", directories).unwrap_or_default(),
                subject: f.text("subject").unwrap_or_else(|| "entryUUID".into()),
                tries: tries(),
            })
        }
        Kind::MailedCode => {
            if !has_mail {
                f.error("kind", "codes by mail need a mail server".into(), "Add [mail] with server and from.");
            }
            WayKind::MailedCode(MailedCodeWay { to: read_to(f), lives: f.duration("lives", m(10), m(1), m(60)) })
        }
        Kind::Passkey => {
            let mut of = f.texts("of").unwrap_or_default();
            of.retain(|name| {
                let known = others.contains(name);
                if !known {
                    f.error("of", format!("there is no way in \"{name}\""), format!("There are: {}.", others.join(", ")));
                }
                known
            });
            if of.is_empty() && !f.has("of") {
                f.error("of", "of is missing".into(), "Say whose people may come by passkey: of = [\"a provider\"].");
            }
            WayKind::Passkey(PasskeyWay { of, renew: f.duration("renew", d(30), Duration::hours(1), d(365)) })
        }
        Kind::Certificate => {
            let authorities = certificates(f, "authorities");
            if authorities.is_empty() && !f.has("authorities") {
                f.error("authorities", "authorities is missing".into(), "Paste the certificates of those who issue them.");
            }
            WayKind::Certificate(CertificateWay { authorities })
        }
        Kind::Ticket => WayKind::Ticket(read_ticket(f, host, tries())),
    };
    let out = Way {
        title: f.text("title").unwrap_or_else(|| name.clone()),
        name,
        kind,
        attributes,
        answer_within: f.duration("answer-within", m(15), m(1), m(120)),
    };
    f.value("attributes");
    f.finish();
    out
}

fn read_to(f: &Fields<'_, '_>) -> Vec<String> {
    let mut out = vec![];
    for text in f.texts("to").unwrap_or_default() {
        let mail =
            if text.starts_with('@') { plain_mail(&format!("x{text}")).map(|m| m[1..].to_owned()) } else { plain_mail(&text) };
        match mail {
            Some(mail) => out.push(mail),
            None => {
                f.error("to", format!("\"{text}\" is no mail address"), "Write addresses, or a domain as \"@crews.example\".")
            }
        }
    }
    if out.is_empty() {
        f.error("to", "nobody gets a code".into(), "Say who does: to = [\"@crews.example\"].");
    }
    out
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

/// Reads `[mail]`.
pub(crate) fn read_mail(root: &Fields<'_, '_>) -> Option<MailServer> {
    let f = root.table("mail")?;
    let example = "\"smtps://mail.example\"";
    let text = f.need("server", example).unwrap_or_default();
    let url = url::Url::parse(&text).ok().filter(|u| u.path().len() < 2 && u.query().is_none() && u.username().is_empty());
    let start_tls = f.flag("start-tls", false);
    let (host, scheme, port) = match &url {
        Some(u) => (u.host_str().unwrap_or_default().to_owned(), u.scheme(), u.port()),
        None => (String::new(), "", None),
    };
    let security = match (scheme, start_tls) {
        ("smtps", false) => MailSecurity::Tls,
        ("smtp", true) => MailSecurity::StartTls,
        ("smtp", false) if crate::address::is_loopback(&host) => MailSecurity::Clear,
        ("smtp", false) => {
            f.error("server", "codes would travel in clear".into(), "Write smtps://, or start-tls = true.");
            MailSecurity::StartTls
        }
        _ => {
            if !text.is_empty() {
                f.error("server", format!("\"{text}\" is no mail server"), format!("Write server = {example}."));
            }
            MailSecurity::Tls
        }
    };
    let from = f.need("from", "\"pass@havrelune.example\"").unwrap_or_default();
    if !from.is_empty() && plain_mail(&from).is_none() {
        f.error("from", format!("\"{from}\" is no mail address"), "Write a plain address.");
    }
    let account = match (f.text("account"), f.text("secret")) {
        (Some(account), Some(secret)) => Some((account, secret)),
        (None, None) => None,
        _ => {
            f.error("account", "an account needs a secret, and a secret an account".into(), "Write both, or neither.");
            None
        }
    };
    let usual = match security {
        MailSecurity::Tls => 465,
        MailSecurity::StartTls => 587,
        MailSecurity::Clear => 25,
    };
    let out = MailServer { host, port: port.unwrap_or(usual), security, from, account, ca_file: f.text("ca-file") };
    f.finish();
    Some(out)
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
