//! The account that a person is on the machine.

use std::os::unix::fs::MetadataExt;
use std::process::Command;

use passeur_core::host::{Account, K5login};
use passeur_protocols::kerberos::{Config, local};

use super::{Look, Texts};

/// An entry of `/etc/passwd`.
pub(super) struct Passwd {
    pub(super) uid: Option<u32>,
    gid: String,
    pub(super) home: String,
    shell: String,
}

pub(super) fn read(look: &Look, texts: &Texts<'_>, config: Option<&Config>) -> Account {
    let mapped = match config {
        None => Err("there is no krb5.conf".to_owned()),
        Some(c) => match local::account(c, &look.person) {
            Ok((name, at)) => Ok((name, at.map(|p| texts.line(&p.file, p.line)))),
            Err(e) => Err(e.to_string()),
        },
    };
    let plain = || look.person.components.first().cloned().unwrap_or_default();
    let user = look.user.clone().or_else(|| mapped.as_ref().ok().map(|(n, _)| n.clone())).unwrap_or_else(plain);
    let entry = passwd(look, texts, &user);
    let k5login = entry.as_ref().and_then(|e| k5login(look, texts, config, &user, e));
    Account { mapped, user, shell: entry.map(|e| e.shell), k5login }
}

fn passwd(look: &Look, texts: &Texts<'_>, user: &str) -> Option<Passwd> {
    let found = own_entry(texts, user);
    if found.is_some() || !look.root.is_system() {
        return found;
    }
    // Accounts may come from a directory.
    let asked = Command::new("getent").args(["passwd", "--", user]).output().ok()?;
    entry(&String::from_utf8_lossy(&asked.stdout), user)
}

/// The entry that the machine itself has.
pub(super) fn own_entry(texts: &Texts<'_>, user: &str) -> Option<Passwd> {
    entry(&texts.of("/etc/passwd")?, user)
}

fn entry(text: &str, user: &str) -> Option<Passwd> {
    let line = text.lines().find(|l| l.split(':').next() == Some(user))?;
    let fields: Vec<&str> = line.split(':').collect();
    let [_, _, uid, gid, _, home, shell] = fields.as_slice() else { return None };
    let shell = if shell.is_empty() { "/bin/sh" } else { shell };
    Some(Passwd { uid: uid.parse().ok(), gid: (*gid).to_owned(), home: (*home).to_owned(), shell: shell.to_owned() })
}

fn k5login(look: &Look, texts: &Texts<'_>, config: Option<&Config>, user: &str, e: &Passwd) -> Option<K5login> {
    let folder = config.and_then(|c| c.of_defaults("k5login_directory")).map(|s| s.value.clone());
    let path = folder.map_or_else(|| format!("{}/.k5login", e.home), |f| format!("{f}/{user}"));
    let text = texts.of(&path)?;
    let meta = look.root.meta(&path)?;
    let person = look.person.to_string();
    let foreign = look.root.is_system() && meta.uid() != 0 && Some(meta.uid()) != e.uid;
    let unsafe_for = match meta.mode() & 0o022 {
        _ if foreign => Some(format!("it belongs to user {}", meta.uid())),
        0 => None,
        _ => Some(format!("others may write it (mode {:o})", meta.mode() & 0o7777)),
    };
    let lists = text.lines().any(|l| l.trim() == person);
    Some(K5login { path, lists, last: text.lines().count(), unsafe_for })
}

/// Groups of an account.
pub(super) fn groups(texts: &Texts<'_>, user: &str) -> Vec<String> {
    let own = own_entry(texts, user).map(|e| e.gid);
    let text = texts.of("/etc/group").unwrap_or_default();
    let mut out = vec![];
    for line in text.lines() {
        let fields: Vec<&str> = line.split(':').collect();
        let [name, _, gid, members] = fields.as_slice() else { continue };
        if own.as_deref() == Some(*gid) || members.split(',').any(|m| m == user) {
            out.push((*name).to_owned());
        }
    }
    out
}
