//! What the host is called: by itself, by `/etc/hosts`, by DNS.

use passeur_core::host::{Config, Names};

use super::{Look, Texts};
use crate::kerberos::look::canonical;

pub(super) fn read(look: &Look, texts: &Texts<'_>, config: Option<&Config>) -> Names {
    let files: &[&str] = if look.root.is_system() { &["/proc/sys/kernel/hostname", "/etc/hostname"] } else { &["/etc/hostname"] };
    let own = files.iter().find_map(|f| texts.of(f)).unwrap_or_default();
    let own = own.lines().map(str::trim).find(|l| !l.is_empty() && !l.starts_with('#')).unwrap_or_default().to_owned();
    let of_hosts = hosts(texts, &own);
    let all = of_hosts.as_ref().map_or_else(|| vec![own.clone()], |(_, names)| names.clone());
    if config.is_some_and(|c| !c.canonicalizes) {
        let text = texts.of("/etc/hostname").unwrap_or_default();
        let at = text.lines().position(|l| l.trim() == own).map(|i| texts.line("/etc/hostname", i + 1));
        let domain = config.and_then(|c| c.qualifies.clone()).or_else(|| search(texts)).filter(|d| !d.is_empty());
        let canonical = match domain {
            Some(domain) if !own.contains('.') => format!("{own}.{domain}"),
            _ => own.clone(),
        };
        return Names { canonical: canonical.to_ascii_lowercase(), own, left_as_it_is: true, at, all };
    }
    if let Some((line, names)) = of_hosts {
        let canonical = names.first().cloned().unwrap_or_default().to_ascii_lowercase();
        return Names { own, canonical, left_as_it_is: false, at: Some(texts.line("/etc/hosts", line)), all };
    }
    // Of a folder nobody else can be asked.
    let by_dns = if look.root.is_system() { canonical(&own) } else { None };
    let canonical = by_dns.unwrap_or_else(|| own.to_ascii_lowercase());
    Names { canonical, left_as_it_is: false, at: None, all, own }
}

/// The line of `/etc/hosts` with a name, and all names of it.
fn hosts(texts: &Texts<'_>, own: &str) -> Option<(usize, Vec<String>)> {
    let text = texts.of("/etc/hosts")?;
    text.lines().enumerate().find_map(|(i, line)| {
        let mut words = line.split('#').next().unwrap_or_default().split_whitespace();
        words.next()?;
        let all: Vec<String> = words.map(str::to_owned).collect();
        (!own.is_empty() && all.iter().any(|n| n.eq_ignore_ascii_case(own))).then_some((i + 1, all))
    })
}

/// The domain by which the resolver completes short names.
fn search(texts: &Texts<'_>) -> Option<String> {
    let text = texts.of("/etc/resolv.conf")?;
    let mut lines = text.lines().rev();
    lines.find_map(|l| {
        let mut words = l.split_whitespace();
        matches!(words.next(), Some("search" | "domain")).then(|| words.next().map(str::to_owned)).flatten()
    })
}
