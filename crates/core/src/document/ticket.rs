//! Reading of `site::ticket` from a document.

use super::fields::Fields;
use crate::site::{Realm, RealmUser, TicketWay};

/// Reads what is peculiar to a way in by ticket. `host` is the sign-in host.
pub(crate) fn read_ticket(f: &Fields<'_, '_>, host: &str, tries: u32) -> TicketWay {
    let keytabs = f.texts("keytabs").unwrap_or_default();
    if keytabs.is_empty() {
        f.error("keytabs", "no keytab is named".into(), "Name the secrets that hold them: keytabs = [\"harbour-keytab\"].");
    }
    let mut hosts: Vec<String> = f.texts("hosts").unwrap_or_default().iter().map(|h| h.to_lowercase()).collect();
    for h in &hosts {
        if h.is_empty() || h.chars().any(|c| !(c.is_ascii_alphanumeric() || ".-".contains(c))) {
            f.error("hosts", format!("\"{h}\" is no host name"), "Write the name alone: no scheme, no port, no realm.");
        }
    }
    if hosts.is_empty() {
        hosts.push(host.to_owned());
    } else if !hosts.iter().any(|h| h == host) {
        f.warn(
            "hosts",
            format!("browsers ask for a ticket for {host}, which is not among them"),
            format!("Add \"{host}\", unless people reach the sign-in host by another name."),
        );
    }
    let mut realms: Vec<Realm> = vec![];
    for r in f.tables("realm") {
        let realm = r.need("name", "\"HAVRELUNE.EXAMPLE\"").unwrap_or_default();
        if realms.iter().any(|known| known.realm == realm) {
            r.error("name", format!("realm {realm} stands twice"), "Leave one.");
        }
        if realm.chars().any(|c| c.is_whitespace() || c.is_control() || "@/\\".contains(c)) {
            r.error("name", format!("\"{realm}\" is no realm"), "Write it as its KDC does: HAVRELUNE.EXAMPLE.");
        }
        let user = r.choice("user", RealmUser::Name, &[("name", RealmUser::Name), ("principal", RealmUser::Principal)]);
        if user == RealmUser::Name && realms.iter().any(|known| known.user == RealmUser::Name) {
            r.warn(
                "user",
                "people of two realms who are called alike would be one user".into(),
                "Write user = \"principal\" for all realms but one.",
            );
        }
        realms.push(Realm { realm, user });
        r.finish();
    }
    if realms.is_empty() {
        f.error("realm", "no realm is named, so nobody's ticket is taken".into(), "Add [[way.realm]] with its name.");
    }
    TicketWay { keytabs, hosts, realms, password: f.flag("password", false), tries }
}
