//! What stands in the way of going on to the next host.

use super::catalogue::Code;
use super::facts::{Chosen, Facts, Line, Onward};
use super::{Change, Finding, of_defaults, place, set};

pub(super) fn look(facts: &Facts, out: &mut Vec<Finding>) {
    if let Ok(config) = &facts.config {
        let setting = "forwardable = true";
        if let Some(forwardable) = config.forwardable.as_ref().filter(|f| !f.value) {
            let at = forwardable.at.as_ref();
            let change = set(at, of_defaults(config, setting), format!("  {setting}"));
            let finding = Finding::new(Code::NotForwardable).with("at", place(at)).change(change);
            out.push(Finding { at: at.cloned(), ..finding });
        }
        if let Some(realm) = config.default_realm.as_ref().filter(|_| !config.finds_kdc) {
            out.push(Finding::new(Code::NoKdc).with("realm", realm.value.as_str()));
        }
    }
    client(facts, &facts.onward, out);
}

/// The client takes the first line that applies, so that what is written first, for those hosts alone, is what counts: in the
/// system's file, or in the account's own where that one says otherwise.
fn first(onward: &Onward, at: Option<&Line>, setting: &str, whom: Whom) -> Option<Change> {
    if !onward.has_file {
        return None;
    }
    let own = at.map(|l| &l.file).filter(|f| f.ends_with("/.ssh/config"));
    let typed = onward.to.rsplit('@').next().unwrap_or_default();
    let is_address = typed.parse::<std::net::IpAddr>().is_ok();
    let hosts = match (onward.chosen, whom, typed.split_once('.').filter(|_| !is_address)) {
        (Chosen::Anyhow, ..) | (Chosen::OfDomain, Whom::Itself, _) => return None,
        (_, Whom::Domain, Some((_, domain))) => format!("*.{domain}"),
        _ => typed.to_owned(),
    };
    let text = format!("Match host {hosts}\n    {setting}\nMatch all");
    Some(Change::Insert { file: own.unwrap_or(&onward.path).clone(), before: 1, text })
}

/// For whom a line is written.
#[derive(Clone, Copy)]
enum Whom {
    /// Every host of the domain: showing a ticket tells them who somebody is, and no more.
    Domain,
    /// The next host alone, where it was named: whoever gets a ticket along can be its owner anywhere.
    Itself,
}

fn client(facts: &Facts, o: &Onward, out: &mut Vec<Finding>) {
    let to = o.to.as_str();
    if !o.is_there {
        return out.push(Finding::new(Code::ClientMissing).with("path", o.path.as_str()));
    }
    let mut tell = |finding: Finding, at: Option<&Line>| out.push(Finding { at: at.cloned(), ..finding });
    if !o.gssapi.value {
        let at = o.gssapi.at.as_ref();
        let finding = Finding::new(Code::ClientNoGssapi).with("to", to).with("at", place(at));
        tell(finding.change(first(o, at, "GSSAPIAuthentication yes", Whom::Domain)), at);
    }
    if let Some(methods) = o.preferred.as_ref().filter(|p| !p.value.split(',').any(|m| m == "gssapi-with-mic")) {
        let at = methods.at.as_ref();
        let finding = Finding::new(Code::ClientMethods).with("to", to).with("methods", methods.value.as_str());
        let setting = format!("PreferredAuthentications gssapi-with-mic,{}", methods.value);
        tell(finding.with("at", place(at)).change(first(o, at, &setting, Whom::Domain)), at);
    }
    if !o.delegates.value {
        let at = o.delegates.at.as_ref();
        let finding = Finding::new(Code::NoDelegation).with("to", to).with("at", place(at));
        tell(finding.change(first(o, at, "GSSAPIDelegateCredentials yes", Whom::Itself)), at);
    }
    let canonicalizes = facts.config.as_ref().is_ok_and(|c| c.canonicalizes);
    if !o.name.value.contains('.') && !canonicalizes {
        let at = o.name.at.as_ref();
        let domain = facts.names.canonical.split_once('.').map(|(_, d)| d);
        let change = domain.map(|d| Change::Insert {
            file: o.path.clone(),
            before: 1,
            text: format!("Host {to}\n    HostName {}.{d}\nMatch all", o.name.value),
        });
        tell(Finding::new(Code::ShortTarget).with("name", o.name.value.as_str()).change(change), at);
    }
}
