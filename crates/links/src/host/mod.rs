//! A host that people reach by SSH with a ticket, read: its files, or those of a folder; and on the machine itself what `sshd -T` and
//! `ssh -G` say, which are the judges of what counts. Nothing is ever written.

mod account;
mod krb5;
mod names;
mod onward;
mod pam;
mod sshd;

use std::cell::RefCell;
use std::collections::HashMap;
use std::process::Command;

use passeur_core::host::{Chosen, Facts, Line, Names};
pub use passeur_protocols::kerberos::Principal;
use passeur_protocols::ssh::Login;

use crate::files::Root;

/// The longest file that is read, in bytes.
const FILE_MAX: usize = 1 << 20;

/// What is to be looked at.
#[derive(Clone, Debug)]
pub struct Look {
    pub root: Root,
    /// Who is to come in.
    pub person: Principal,
    /// The account that their client asks for; the one that they are, unless set.
    pub user: Option<String>,
    /// Where they come from.
    pub from: Option<String>,
    /// The next host, as it is typed.
    pub to: Option<String>,
    pub krb5_config: Option<Vec<String>>,
    pub keytab: Option<String>,
    pub sshd_config: Option<String>,
    pub ssh_config: Option<String>,
}

/// Files that were read, by their names.
pub(crate) struct Texts<'r> {
    root: &'r Root,
    read: RefCell<HashMap<String, Option<String>>>,
}

impl Texts<'_> {
    fn of(&self, file: &str) -> Option<String> {
        let mut read = self.read.borrow_mut();
        read.entry(file.to_owned()).or_insert_with(|| self.root.text(file, FILE_MAX).ok()).clone()
    }

    /// A line, with what stands there.
    fn line(&self, file: &str, line: usize) -> Line {
        let text = self.of(file).and_then(|t| t.lines().nth(line.checked_sub(1)?).map(str::to_owned)).unwrap_or_default();
        Line { file: file.to_owned(), line, text }
    }

    /// Files that a path with `*` and `?` in its last part names, in order of names, each with its text.
    fn matching(&self, pattern: &str) -> Vec<(String, String)> {
        let (folder, last) = pattern.rsplit_once('/').unwrap_or(("", pattern));
        let names = match last.contains(['*', '?']) {
            true => self.root.names(folder).unwrap_or_default(),
            false => vec![last.to_owned()],
        };
        let hidden = |n: &String| n.starts_with('.') && !last.starts_with('.');
        let mine = names.into_iter().filter(|n| !hidden(n) && passeur_protocols::ssh::matches(last, n));
        mine.filter_map(|n| {
            let path = format!("{folder}/{n}");
            self.of(&path).map(|text| (path, text))
        })
        .collect()
    }
}

/// The next host: as it was named, or any of the same domain.
fn next_host(look: &Look, names: &Names) -> (String, Chosen) {
    if let Some(to) = &look.to {
        return (to.clone(), Chosen::Named);
    }
    let mut all = [&names.canonical, &names.own].into_iter().chain(&names.all);
    match all.find_map(|n| n.split_once('.')) {
        Some((_, domain)) => (format!("next-host.{domain}"), Chosen::OfDomain),
        None => ("next-host.example".to_owned(), Chosen::Anyhow),
    }
}

/// Reads everything. May wait for programs of the machine.
pub fn gather(look: &Look) -> Facts {
    let texts = Texts { root: &look.root, read: RefCell::default() };
    let keytab = krb5::keytab(look);
    let (mut config, read) = krb5::config(look, &texts);
    let names = names::read(look, &texts, config.as_ref().ok());
    if let (Ok(config), Some(read)) = (&mut config, &read) {
        config.realm_of_host = krb5::realm_of(read, &texts, &names.canonical);
    }
    let account = account::read(look, &texts, read.as_ref());
    let groups = account::groups(&texts, &account.user);
    let host = look.from.clone();
    let asked = Login { user: account.user.clone(), groups, address: host.clone(), host };
    let sshd = sshd::read(look, &texts, &asked);
    let pam = pam::read(look, &texts, sshd.1);
    let (to, chosen) = next_host(look, &names);
    let onward = onward::read(look, &texts, &account.user, (&to, chosen));
    Facts { person: look.person.to_string(), names, config, keytab, sshd: sshd.0, account, pam, onward }
}

/// What a program of this machine prints as `name value` lines, names in lower case. None in a folder, and where it does not run.
fn oracle(look: &Look, program: &str, arguments: &[String]) -> Option<Vec<(String, String)>> {
    if !look.root.is_system() {
        return None;
    }
    let ran = Command::new(program).args(arguments).stdin(std::process::Stdio::null()).output().ok()?;
    if !ran.status.success() {
        return None;
    }
    let text = String::from_utf8_lossy(&ran.stdout).into_owned();
    let pairs = text.lines().filter_map(|l| l.split_once(' '));
    Some(pairs.map(|(n, v)| (n.to_ascii_lowercase(), v.to_owned())).collect())
}

/// One value of them.
fn said<'a>(all: Option<&'a [(String, String)]>, name: &str) -> Option<&'a str> {
    all?.iter().find(|(n, _)| n == name).map(|(_, v)| v.as_str())
}

fn is_yes(value: &str) -> bool {
    value.eq_ignore_ascii_case("yes") || value.eq_ignore_ascii_case("true")
}
