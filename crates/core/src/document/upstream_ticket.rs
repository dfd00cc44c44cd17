//! Reading of `site::upstream_ticket` from a document.

use super::fields::Fields;
use super::names::Names;
use crate::site::{Behalf, By, UpstreamTicket, realm_of};

/// A principal as a site file writes one: components and realm, none empty, no escapes.
fn is_principal(text: &str) -> bool {
    let odd = |c: char| c.is_control() || c.is_whitespace() || "\\'\"`".contains(c);
    let Some((name, realm)) = text.split_once('@') else { return false };
    let whole = name.split('/').all(|c| !c.is_empty()) && !realm.is_empty() && !realm.contains(['@', '/']);
    whole && !text.contains(odd) && text.len() <= 300
}

/// The principal of a service: it has a component for the host.
fn is_service(text: &str) -> bool {
    is_principal(text) && text.split('@').next().is_some_and(|name| name.contains('/'))
}

/// Reads `[gate.ticket]`.
pub(crate) fn read(gate: &Fields<'_, '_>, names: &Names<'_>) -> Option<UpstreamTicket> {
    let f = gate.table("ticket")?;
    let example = "\"HTTP/application.example@REALM.EXAMPLE\"";
    let service = f.need("service", example).unwrap_or_default();
    if !service.is_empty() && !is_service(&service) {
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
        if !account.is_empty() && !is_principal(&account) {
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_names_one_principal_of_a_realm_is_one() {
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
            let is = if services { is_service(text) } else { is_principal(text) };
            assert_eq!(is, wanted, "{text}");
        }
    }
}
