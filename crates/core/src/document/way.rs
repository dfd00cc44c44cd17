//! Reading of `site::way` from a document.

use super::fields::Fields;
use super::names::refer;
use super::open_network::read_machines;
use super::provider::certificates;
use super::ticket::read_ticket;
use crate::site::{
    Access, AttributeId, CertificateWay, Gate, MailSecurity, MailServer, MailedCodeWay, PasskeyWay, PasswordWay, SponsorWay, Way,
    WayKind, plain_mail,
};
use chrono::Duration;

#[derive(Clone, Copy, PartialEq)]
enum Kind {
    Password,
    MailedCode,
    Sponsor,
    Passkey,
    Certificate,
    Ticket,
    Gateway,
    Machine,
}

/// Reads `[[way]]`.
pub(crate) fn read_way(f: &Fields<'_, '_>, name: String, attributes: Vec<(AttributeId, String)>, around: &Around<'_>) -> Way {
    let Around { directories, others, has_mail, host } = *around;
    let words = [
        ("password", Kind::Password),
        ("mailed-code", Kind::MailedCode),
        ("sponsor", Kind::Sponsor),
        ("passkey", Kind::Passkey),
        ("certificate", Kind::Certificate),
        ("ticket", Kind::Ticket),
        ("gateway", Kind::Gateway),
        ("machine", Kind::Machine),
    ];
    if !f.has("kind") {
        f.error(
            "kind",
            "kind is missing".into(),
            "Write kind = \"password\", \"mailed-code\", \"sponsor\", \"passkey\", \"certificate\", \"ticket\", \"gateway\" or \"machine\".",
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
        Kind::Sponsor => WayKind::Sponsor(SponsorWay {
            gate: f.need("gate", "\"the gate whose rules say who may vouch\"").unwrap_or_default(),
            role: f.text("role").unwrap_or_else(|| "sponsor".into()),
            lasts: f.duration("lasts", Duration::hours(12), Duration::minutes(10), d(7)),
        }),
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
        Kind::Gateway => WayKind::Gateway,
        Kind::Machine => {
            let all = read_machines(f, None);
            if all.is_empty() && !f.has("machine") {
                let remedy = "Add a [[way.machine]] for each, with name, hardware, owner, purpose and until.";
                f.error("machine", "no machine is listed".into(), remedy);
            }
            WayKind::Machine(all)
        }
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

/// Names of the ways in of machines.
pub(crate) fn of_machines(ways: &[Way]) -> Vec<String> {
    ways.iter().filter(|w| w.is_of_machines()).map(|w| w.name.clone()).collect()
}

/// What ways in cannot be beside the rest of the site.
pub(crate) fn check(root: &Fields<'_, '_>, ways: &[Way], gates: &[Gate], engineers: Option<&Access>) {
    check_sponsors(root, ways, gates, engineers);
    check_machines(root, ways, gates, engineers);
}

/// What a way in of machines cannot be beside the rest of the site: it is for what asks by RADIUS.
fn check_machines(root: &Fields<'_, '_>, ways: &[Way], gates: &[Gate], engineers: Option<&Access>) {
    let all = of_machines(ways);
    for (f, gate) in root.tables("gate").iter().zip(gates) {
        let asks_by_radius = gate.network().is_some_and(|n| !n.radius.is_empty());
        for name in gate.access.ways.iter().filter(|n| all.contains(n) && !asks_by_radius) {
            let remedy =
                format!("Take \"{name}\" out of ways-in, or name a [[radius-client]] in the entrances of a gate of kind vpn.");
            f.error("ways-in", format!("{name} is for machines that a RADIUS client asks about, and none is here"), remedy);
        }
    }
    for name in engineers.iter().flat_map(|e| &e.ways).filter(|n| all.contains(n)) {
        let f = root.table("engineers");
        let remedy = format!("Take \"{name}\" out of the ways in of [engineers].");
        f.as_ref().unwrap_or(root).error("ways-in", format!("{name} is for machines, which are no engineers"), remedy);
    }
}

/// What a way in of guests cannot be beside the rest of the site: their word is that of whoever a gate gives the role, and opens nothing that
/// outlives them.
fn check_sponsors(root: &Fields<'_, '_>, ways: &[Way], gates: &[Gate], engineers: Option<&Access>) {
    let guests = |name: &String| ways.iter().any(|w| w.name == *name && matches!(w.kind, WayKind::Sponsor(_)));
    for (f, way) in root.tables("way").iter().zip(ways) {
        match &way.kind {
            WayKind::Sponsor(of) => {
                let Some(gate) = gates.iter().find(|g| g.name == of.gate) else {
                    if !of.gate.is_empty() {
                        let all = gates.iter().map(|g| g.name.as_str()).collect::<Vec<_>>().join(", ");
                        f.error("gate", format!("there is no gate \"{}\"", of.gate), format!("There are: {all}."));
                    }
                    continue;
                };
                if !gate.access.rules.iter().any(|r| r.effect.may_give(&of.role)) {
                    f.error(
                        if f.has("role") { "role" } else { "gate" },
                        format!("no rule of gate {} gives the role {}, so that nobody could vouch", gate.name, of.role),
                        format!("Write roles = [\"{}\"] in the rule for those who may.", of.role),
                    );
                }
            }
            WayKind::Passkey(p) => {
                for name in p.of.iter().filter(|n| guests(n)) {
                    let remedy = format!("Take \"{name}\" out of of.");
                    f.error("of", format!("{name} is for guests, who make nothing that outlives their session"), remedy);
                }
            }
            _ => {}
        }
    }
    for name in engineers.iter().flat_map(|e| &e.ways).filter(|n| guests(n)) {
        let f = root.table("engineers");
        let what = format!("{name} is for guests, and a sponsor would make engineers");
        let remedy = format!("Take \"{name}\" out of the ways in of [engineers].");
        f.as_ref().unwrap_or(root).error("ways-in", what, remedy);
    }
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
