//! What stands in the way of coming in: names, krb5.conf, keys, the server, the account, PAM.

use super::catalogue::Code;
use super::facts::{Account, Config, Facts, HostKey, KeytabState, Line, PamTrouble, Sshd};
use super::{Change, Finding, of_defaults, place, set};
use crate::finding::Word;
use crate::site::realm_of;

pub(super) fn look(facts: &Facts, out: &mut Vec<Finding>) {
    let is_mended = names(facts, out);
    match &facts.config {
        Ok(config) => krb5(facts, config, out),
        Err(none) => out.push(match &none.dead_link {
            Some((link, to)) => Finding::new(Code::ConfigDeadLink).with("link", link.as_str()).with("to", to.as_str()),
            None => Finding::new(Code::ConfigMissing).with("words", none.words.as_str()),
        }),
    }
    keytab(facts, out);
    server(facts, &facts.sshd, is_mended, out);
    account(facts, &facts.account, out);
    pam(&facts.pam, out);
}

fn keys(facts: &Facts) -> &[HostKey] {
    match &facts.keytab.state {
        KeytabState::Read { keys, .. } => keys,
        KeytabState::Missing | KeytabState::Broken(_) => &[],
    }
}

/// Each once, in order.
fn sorted<'a>(all: impl Iterator<Item = &'a str>) -> Vec<&'a str> {
    let mut out: Vec<&str> = all.collect();
    out.sort_unstable();
    out.dedup();
    out
}

/// Names that the host has keys of.
fn named(facts: &Facts) -> Vec<&str> {
    sorted(keys(facts).iter().filter_map(|k| Some(k.host()?.0)))
}

fn realms(facts: &Facts) -> Vec<&str> {
    sorted(keys(facts).iter().filter_map(|k| Some(k.host()?.1)))
}

/// The full name that people would type: one that there is a key of, or else the host's own where that is full.
fn full_name(facts: &Facts) -> Option<String> {
    let mine = facts.names.own.split('.').next().unwrap_or_default();
    let of_key = named(facts).into_iter().find(|n| n.split_once('.').is_some_and(|(first, _)| first.eq_ignore_ascii_case(mine)));
    let all = facts.names.all.iter().map(String::as_str).chain([facts.names.own.as_str(), facts.names.canonical.as_str()]);
    of_key.or_else(|| all.into_iter().find(|n| n.contains('.'))).map(str::to_owned)
}

/// Whether the host's own name is told as short, and so what hangs on it is mended with it.
fn names(facts: &Facts, out: &mut Vec<Finding>) -> bool {
    let n = &facts.names;
    let key_of = |name: &str| named(facts).iter().any(|k| k.eq_ignore_ascii_case(name));
    if n.canonical.contains('.') || key_of(&n.canonical) || !facts.sshd.strict.value {
        return false;
    }
    let Some(own) = full_name(facts) else { return false };
    let change = n.at.as_ref().map(|line| {
        if n.left_as_it_is {
            return Change::Replace { line: line.clone(), to: own.clone() };
        }
        let address = line.text.split_whitespace().next().unwrap_or("127.0.1.1");
        let rest = n.all.iter().filter(|name| !name.eq_ignore_ascii_case(&own)).map(String::as_str);
        let to = [address, &own].into_iter().chain(rest).collect::<Vec<_>>().join(" ");
        Change::Replace { line: line.clone(), to }
    });
    let finding = Finding::new(Code::ShortName).with("canonical", n.canonical.as_str()).with("own", own).change(change);
    out.push(match &n.at {
        Some(line) => finding.at(line),
        None => finding,
    });
    true
}

fn krb5(facts: &Facts, c: &Config, out: &mut Vec<Finding>) {
    if let Some((line, other, usual)) = &c.elsewhere {
        let finding = Finding::new(Code::ConfigElsewhere).with("at", line.to_string()).with("other", other.as_str());
        out.push(finding.with("path", usual.as_str()).at(line));
    }
    if let Some((file, other)) = &c.twice {
        out.push(Finding::new(Code::ConfigTwice).with("file", file.as_str()).with("other", other.as_str()));
    }
    for (line, words) in &c.troubles {
        out.push(Finding::new(Code::ConfigDamaged).with("at", line.to_string()).with("words", words.as_str()).at(line));
    }
    dead(Code::ConfigDead, &c.dead, out);
    let of_person = realm_of(&facts.person);
    if c.default_realm.is_none() {
        let realm = realms(facts).first().copied().unwrap_or(of_person).to_owned();
        let change = of_defaults(c, &format!("default_realm = {realm}"));
        out.push(Finding::new(Code::NoDefaultRealm).with("realm", realm).change(Some(change)));
    }
    if let Some(set) = &c.realm_of_host
        && let Some(line) = &set.at
        && let Some(keys) = realms(facts).first().filter(|_| !realms(facts).contains(&set.value.as_str()))
    {
        let host = facts.names.canonical.as_str();
        let name = line.text.split('=').next().unwrap_or_default().trim_end();
        let change = Change::Replace { line: line.clone(), to: format!("  {} = {keys}", name.trim_start()) };
        let finding = Finding::new(Code::RealmOfHost).with("host", host).with("realm", set.value.as_str());
        out.push(finding.with("keys", *keys).with("at", line.to_string()).at(line).change(Some(change)));
    }
    if let Some(set) = &c.permitted
        && let Some(line) = &set.at
        && !keys(facts).is_empty()
        && !keys(facts).iter().any(|k| set.value.contains(&k.enctype))
    {
        let finding = Finding::new(Code::Enctypes).with("at", line.to_string()).with("keys", kinds(keys(facts)));
        out.push(finding.at(line).change(Some(Change::Remove { line: line.clone() })));
    }
}

fn kinds(keys: &[HostKey]) -> String {
    sorted(keys.iter().map(|k| k.enctype_name.as_str())).join(", ")
}

fn dead(code: Code, all: &[(Line, String, Line)], out: &mut Vec<Finding>) {
    for (line, name, first) in all {
        let finding = Finding::new(code).with("name", name.as_str()).with("at", line.to_string());
        let change = Change::Remove { line: line.clone() };
        out.push(finding.with("first", first.to_string()).at(line).change(Some(change)));
    }
}

fn keytab(facts: &Facts, out: &mut Vec<Finding>) {
    let path = facts.keytab.path.as_str();
    let (mode, keys) = match &facts.keytab.state {
        KeytabState::Missing => {
            // No key is ever asked for by a short name.
            let full = || Word::Say(["NAME.DOMAIN".into(), "NOM.DOMAINE".into()]);
            let host = full_name(facts).map_or_else(full, Word::from);
            return out.push(Finding::new(Code::KeytabMissing).with("path", path).with("host", host));
        }
        KeytabState::Broken(words) => {
            return out.push(Finding::new(Code::KeytabBroken).with("path", path).with("words", words.as_str()));
        }
        KeytabState::Read { mode, keys } => (*mode, keys),
    };
    if mode & 0o077 != 0 {
        out.push(Finding::new(Code::KeytabExposed).with("path", path).with("mode", format!("{:o}", mode & 0o7777)));
    }
    let mut wanted: Vec<String> = facts.names.all.iter().chain([&facts.names.canonical, &facts.names.own]).cloned().collect();
    wanted.retain(|n| n.contains('.'));
    if wanted.is_empty() {
        wanted.push(facts.names.canonical.clone());
    }
    wanted.sort_unstable();
    wanted.dedup();
    // Keys of other names are told with the server's strictness: without it they are as good.
    if named(facts).is_empty() {
        let others = || keys.iter().map(|k| k.principal.as_str()).take(5).collect::<Vec<_>>().join(", ");
        let hosts: Vec<String> = wanted.iter().map(|w| format!("host/{w}")).collect();
        let finding = Finding::new(Code::NoHostKey).with("path", path).with("hosts", hosts.join(", "));
        out.push(finding.with("has", others()));
    }
    let mine: Vec<HostKey> = keys.iter().filter(|k| k.host().is_some()).cloned().collect();
    if !mine.is_empty() && mine.iter().all(|k| k.weak) {
        out.push(Finding::new(Code::KeytabWeak).with("path", path).with("enctypes", kinds(&mine)));
    }
}

fn server(facts: &Facts, s: &Sshd, is_mended: bool, out: &mut Vec<Finding>) {
    if !s.is_there {
        return out.push(Finding::new(Code::SshdMissing).with("path", s.path.as_str()));
    }
    let user = facts.account.user.as_str();
    let top = |text: &str| Change::Insert { file: s.path.clone(), before: 1, text: text.to_owned() };
    for (line, words) in &s.troubles {
        out.push(Finding::new(Code::SshdDamaged).with("at", line.to_string()).with("words", words.as_str()).at(line));
    }
    if !s.gssapi.value {
        let on = "GSSAPIAuthentication yes";
        let at = s.gssapi.at.as_ref();
        let finding = match (&s.gssapi_block, at) {
            (Some(block), Some(line)) => {
                let finding = Finding::new(Code::BlockUndoes).with("user", user).with("block", block.to_string());
                finding.with("at", line.to_string()).change(set(at, top(on), format!("    {on}")))
            }
            _ => Finding::new(Code::NoGssapi).with("at", place(at)).change(set(at, top(on), on)),
        };
        out.push(Finding { at: at.cloned(), ..finding });
    }
    if let Some(methods) = &s.methods
        && let Some(line) = &methods.at
        && !methods.value.iter().any(|m| enough(m))
    {
        let all = methods.value.join(" ");
        let to = format!("AuthenticationMethods {all} gssapi-with-mic");
        let finding = Finding::new(Code::Methods).with("methods", all).with("at", line.to_string()).at(line);
        out.push(finding.change(Some(Change::Replace { line: line.clone(), to })));
    }
    let has = named(facts);
    let canonical = facts.names.canonical.as_str();
    let takes = has.iter().any(|n| n.eq_ignore_ascii_case(canonical));
    if s.strict.value && !takes && !has.is_empty() && !is_mended {
        let off = "GSSAPIStrictAcceptorCheck no";
        let at = s.strict.at.as_ref();
        let finding = Finding::new(Code::StrictName).with("canonical", canonical).with("has", has.join(", "));
        let finding = finding.with("at", place(at)).change(set(at, top(off), off));
        out.push(Finding { at: at.cloned(), ..finding });
    }
    let root = user == "root" && !s.permits_root.value;
    match &s.refused {
        Some((line, words)) => {
            let finding = Finding::new(Code::UserRefused).with("user", user).with("at", line.to_string());
            let allows = line.text.trim_start().to_ascii_lowercase().starts_with("allowusers");
            let change = allows.then(|| Change::Replace { line: line.clone(), to: format!("{} {user}", line.text.trim()) });
            out.push(finding.with("words", words.as_str()).at(line).change(change));
        }
        None if root => {
            let finding = Finding::new(Code::UserRefused).with("user", user).with("at", place(s.permits_root.at.as_ref()));
            out.push(finding.with("words", "PermitRootLogin no"));
        }
        None => {}
    }
    dead(Code::SshdDead, &s.dead, out);
    if let Some((file, since)) = &s.older {
        out.push(Finding::new(Code::SshdOlder).with("file", file.as_str()).with("since", since.as_str()));
    }
}

/// Whether a list of methods is fulfilled by a ticket.
fn enough(list: &str) -> bool {
    list == "any" || list.split(',').all(|m| matches!(m, "gssapi-with-mic" | "gssapi-keyex"))
}

fn account(facts: &Facts, a: &Account, out: &mut Vec<Finding>) {
    let person = facts.person.as_str();
    // Whoever .k5login names is in, whatever the rules say.
    let listed = a.k5login.as_ref().is_some_and(|k| k.lists && k.unsafe_for.is_none());
    match &a.mapped {
        Err(words) if !listed => {
            let change =
                a.k5login.as_ref().map(|k| Change::Insert { file: k.path.clone(), before: k.last + 1, text: person.to_owned() });
            out.push(Finding::new(Code::Nobody).with("person", person).with("words", words.as_str()).change(change));
        }
        Ok((user, _)) if *user != a.user && !listed => {
            let finding = Finding::new(Code::OtherName).with("person", person).with("offered", a.user.as_str());
            out.push(finding.with("user", user.as_str()));
        }
        _ => {}
    }
    match a.shell.as_deref() {
        None => out.push(Finding::new(Code::AccountMissing).with("user", a.user.as_str())),
        Some(shell) if shell.ends_with("/nologin") || shell.ends_with("/false") => {
            out.push(Finding::new(Code::NoShell).with("user", a.user.as_str()).with("shell", shell));
        }
        Some(_) => {}
    }
    let Some(k) = &a.k5login else { return };
    if let Some(words) = &k.unsafe_for {
        out.push(Finding::new(Code::K5loginUnsafe).with("path", k.path.as_str()).with("words", words.as_str()));
    } else if !k.lists && a.mapped.is_ok() {
        let change = Change::Insert { file: k.path.clone(), before: k.last + 1, text: person.to_owned() };
        out.push(Finding::new(Code::K5login).with("path", k.path.as_str()).with("person", person).change(Some(change)));
    }
}

fn pam(all: &[PamTrouble], out: &mut Vec<Finding>) {
    for trouble in all {
        out.push(match trouble {
            PamTrouble::Broken(line, words) => {
                Finding::new(Code::PamBroken).with("at", line.to_string()).with("words", words.as_str()).at(line)
            }
            PamTrouble::NoModule(line, module) => {
                Finding::new(Code::PamModule).with("module", module.as_str()).with("at", line.to_string()).at(line)
            }
            PamTrouble::Late { kerberos, ends } => {
                let finding = Finding::new(Code::PamLate).with("kerberos", kerberos.to_string());
                finding.with("ends", ends.to_string()).at(kerberos)
            }
        });
    }
}
