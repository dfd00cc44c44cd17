//! The client here, as it goes on to another host. The client itself is the judge where it can be asked.

use std::os::unix::fs::MetadataExt;

use passeur_core::host::{Chosen, Onward, Set};
use passeur_protocols::ssh::{Lines, Login, Place};

use super::account::own_entry;
use super::{Look, Texts, is_yes, oracle, said};

const USUAL: &str = "/etc/ssh/ssh_config";

pub(super) fn read(look: &Look, texts: &Texts<'_>, user: &str, (to, chosen): (&str, Chosen)) -> Onward {
    let path = look.ssh_config.clone().unwrap_or_else(|| USUAL.to_owned());
    let entry = own_entry(texts, user);
    let (uid, home) = entry.map_or((None, String::new()), |e| (e.uid, e.home));
    // Naming a file leaves out all others.
    let names = match &look.ssh_config {
        Some(_) => vec![path.clone()],
        None => vec![format!("{home}/.ssh/config"), path.clone()],
    };
    let files: Vec<(String, String)> = names.into_iter().filter_map(|f| texts.of(&f).map(|t| (f, t))).collect();
    let mut open = |pattern: &str| {
        let pattern = match pattern.strip_prefix("~/") {
            Some(rest) => format!("{home}/{rest}"),
            None if pattern.starts_with('/') => pattern.to_owned(),
            None => format!("/etc/ssh/{pattern}"),
        };
        texts.matching(&pattern)
    };
    let lines = Lines::read(&files, &mut open);
    let typed = to.rsplit('@').next().unwrap_or(to);
    let asked = Login { user: user.to_owned(), host: Some(typed.to_owned()), ..Login::default() };
    let mut arguments = vec!["-G".to_owned()];
    if let Some(file) = &look.ssh_config {
        arguments.extend(["-F".to_owned(), file.clone()]);
    }
    arguments.extend(["--".to_owned(), to.to_owned()]);
    // Without a file named the client reads that of whoever runs it, which is not that of somebody else; and a file may have it run
    // programs (`Match exec`), which nobody runs for another by looking.
    let is_own = std::fs::metadata("/proc/self").is_ok_and(|m| uid.is_some_and(|u| u == m.uid()));
    let judge = if look.ssh_config.is_some() || is_own { oracle(look, "ssh", &arguments) } else { None };
    let line = |p: &Place| texts.line(&p.file, p.line);
    let one = |keyword: &str| lines.of_client(keyword, &asked);
    let text = |keyword: &str| -> Option<Set<String>> {
        let own = one(keyword).map(|v| Set { value: v.item.value().to_owned(), at: Some(line(&v.item.place)) });
        match said(judge.as_deref(), keyword) {
            Some(value) if own.as_ref().is_none_or(|o| !o.value.eq_ignore_ascii_case(value)) => {
                Some(Set::unless_set(value.to_owned()))
            }
            _ => own,
        }
    };
    let flag = |keyword: &str, unless: bool| match text(keyword) {
        Some(set) => Set { value: is_yes(&set.value), at: set.at },
        None => Set::unless_set(unless),
    };
    let name = text("hostname").map(|s| Set { value: s.value.replace("%h", typed), at: s.at });
    Onward {
        to: to.to_owned(),
        chosen,
        is_there: !files.is_empty() || judge.is_some(),
        has_file: !files.is_empty(),
        gssapi: flag("gssapiauthentication", false),
        delegates: flag("gssapidelegatecredentials", false),
        preferred: text("preferredauthentications"),
        name: name.unwrap_or_else(|| Set::unless_set(typed.to_owned())),
        path,
    }
}
