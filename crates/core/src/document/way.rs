//! Reading of `site::way` from a document.

use super::fields::Fields;
use super::names::refer;
use super::provider::certificates;
use super::ticket::read_ticket;
use crate::site::{
    AttributeId, CertificateWay, MailSecurity, MailServer, MailedCodeWay, PasskeyWay, PasswordWay, Way, WayKind, plain_mail,
};
use chrono::Duration;

#[derive(Clone, Copy, PartialEq)]
enum Kind {
    Password,
    MailedCode,
    Passkey,
    Certificate,
    Ticket,
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

/// What ways in may refer to.
pub(crate) struct Around<'a> {
    pub(crate) directories: &'a [String],
    /// Names of providers and ways in.
    pub(crate) others: &'a [String],
    pub(crate) has_mail: bool,
    /// The sign-in host.
    pub(crate) host: &'a str,
}
