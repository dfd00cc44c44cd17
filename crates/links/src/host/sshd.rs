//! The server, as it treats one person. The server itself is the judge where it can be asked.

use std::time::{Duration, SystemTime};

use chrono::{DateTime, Utc};
use passeur_core::host::{Set, Sshd};
use passeur_protocols::ssh::{Item, Lines, Login, Place, Value, matches};

use super::{Look, Texts, is_yes, oracle, said};

const USUAL: &str = "/etc/ssh/sshd_config";
/// Ticks of a second in `/proc`: the same on every Linux.
const TICKS: u64 = 100;
/// The beginning of the year 10000, in seconds: no server began later.
const FAR_S: u64 = 253_402_300_800;
/// Keywords of which only the first line counts and that decide who comes in.
const SINGLE: &[&str] = &[
    "gssapiauthentication",
    "gssapistrictacceptorcheck",
    "authenticationmethods",
    "usepam",
    "permitrootlogin",
    "pubkeyauthentication",
    "passwordauthentication",
];

/// What is read, and whether PAM is used.
pub(super) fn read(look: &Look, texts: &Texts<'_>, asked: &Login) -> (Sshd, bool) {
    let path = look.sshd_config.clone().unwrap_or_else(|| USUAL.to_owned());
    let mut troubles = vec![];
    let files: Vec<(String, String)> = texts.of(&path).map(|text| (path.clone(), text)).into_iter().collect();
    let lines = Lines::read(&files, &mut |pattern| texts.matching(&below(pattern, "/etc/ssh")));
    let line = |p: &Place| texts.line(&p.file, p.line);
    troubles.extend(lines.troubles.iter().map(|(p, words)| (line(p), words.clone())));
    let connection = {
        let address = asked.address.as_deref().unwrap_or("127.0.0.1");
        format!("user={},host={address},addr={address}", asked.user)
    };
    let arguments = ["-T", "-f", &path, "-C", &connection].map(str::to_owned);
    let judge = oracle(look, "/usr/sbin/sshd", &arguments);
    let one = |keyword: &str| lines.of_server(keyword, asked);
    let flag = |keyword: &str, unless: bool, yes: fn(&str) -> bool| -> Set<bool> {
        let own = one(keyword).map(|v| Set { value: yes(v.item.value()), at: Some(line(&v.item.place)) });
        let own = own.unwrap_or(Set::unless_set(unless));
        match said(judge.as_deref(), keyword).map(yes) {
            // What the server says counts; where our reading differs, no line of ours can be named for it.
            Some(value) if value != own.value => Set::unless_set(value),
            _ => own,
        }
    };
    let gssapi = flag("gssapiauthentication", false, is_yes);
    let block = |v: &Value<'_>| v.of_block.then(|| v.item.within.last()).flatten().map(|c| line(&c.place));
    let gssapi_block = one("gssapiauthentication").as_ref().filter(|_| !gssapi.value && gssapi.at.is_some()).and_then(block);
    let methods = one("authenticationmethods").map(|v| Set { value: v.item.arguments.clone(), at: Some(line(&v.item.place)) });
    let dead = lines.dead(SINGLE).into_iter().map(|(d, first)| {
        let name = d.written.split_whitespace().next().unwrap_or_default().to_owned();
        (line(&d.place), name, line(&first.place))
    });
    let uses_pam = flag("usepam", false, is_yes).value;
    let out = Sshd {
        is_there: !files.is_empty() || judge.is_some(),
        gssapi,
        gssapi_block,
        strict: flag("gssapistrictacceptorcheck", true, is_yes),
        methods,
        refused: refused(&lines, asked).map(|(i, words)| (line(&i.place), words)),
        permits_root: flag("permitrootlogin", true, |v| !matches!(v, "no" | "forced-commands-only")),
        dead: dead.collect(),
        older: older(look, texts, &lines, one("pidfile").map(|v| v.item.value().to_owned())),
        troubles,
        path,
    };
    (out, uses_pam)
}

fn below(pattern: &str, folder: &str) -> String {
    if pattern.starts_with('/') { pattern.to_owned() } else { format!("{folder}/{pattern}") }
}

/// Why an account may not come in at all: denied, or not among those who may, in the order in which the server looks.
fn refused<'l>(lines: &'l Lines, asked: &Login) -> Option<(&'l Item, String)> {
    let user = |pattern: &String| match pattern.split_once('@') {
        Some((name, from)) => matches(name, &asked.user) && asked.address.as_deref().is_some_and(|a| matches(from, a)),
        None => matches(pattern, &asked.user),
    };
    let group = |pattern: &String| asked.groups.iter().any(|g| matches(pattern, g));
    let all = |keyword: &str| lines.all_of_server(keyword, asked);
    let hit = |keyword: &str, is: &dyn Fn(&String) -> bool| all(keyword).into_iter().find(|i| i.arguments.iter().any(is));
    if let Some(item) = hit("denyusers", &user) {
        return Some((item, "DenyUsers names it".to_owned()));
    }
    if let Some(item) = all("allowusers").first().filter(|_| hit("allowusers", &user).is_none()) {
        return Some((*item, "AllowUsers does not name it".to_owned()));
    }
    if let Some(item) = hit("denygroups", &group) {
        return Some((item, "DenyGroups names a group of it".to_owned()));
    }
    let none = hit("allowgroups", &group).is_none();
    all("allowgroups").first().filter(|_| none).map(|item| (*item, "AllowGroups names no group of it".to_owned()))
}

/// A file that was changed after the server began, and since when it runs.
fn older(look: &Look, texts: &Texts<'_>, lines: &Lines, pid_file: Option<String>) -> Option<(String, String)> {
    let pid_file = pid_file.filter(|p| p != "none").unwrap_or_else(|| "/run/sshd.pid".to_owned());
    let pid: u32 = texts.of(&pid_file)?.trim().parse().ok()?;
    let stat = look.root.text(&format!("/proc/{pid}/stat"), 4096).ok()?;
    // The name, in brackets, may hold anything.
    let (name, rest) = stat.rsplit_once(')')?;
    if !name.ends_with("(sshd") {
        return None;
    }
    let ticks: u64 = rest.split_whitespace().nth(19)?.parse().ok()?;
    let boot = look.root.text("/proc/stat", 1 << 20).ok()?;
    let boot: u64 = boot.lines().find_map(|l| l.strip_prefix("btime "))?.trim().parse().ok()?;
    // What the files say is not believed to be a time.
    let seconds = boot.checked_add(ticks / TICKS).filter(|s| *s < FAR_S)?;
    let began = SystemTime::UNIX_EPOCH + Duration::from_secs(seconds);
    // The time of booting is told in whole seconds.
    let later = |f: &&String| look.root.changed(f).is_some_and(|at| at > began + Duration::from_secs(2));
    let file = lines.files.iter().find(later)?;
    Some((file.clone(), DateTime::<Utc>::from(began).format("%Y-%m-%d %H:%M:%S UTC").to_string()))
}
