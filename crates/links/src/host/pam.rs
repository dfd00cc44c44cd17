//! The stack of PAM for sshd, as far as Kerberos and GSS-API go through it.

use passeur_core::host::PamTrouble;
use passeur_protocols::pam::{Line, Stack};
use passeur_protocols::ssh::Place;

use super::{Look, Texts};

/// Folders under which the system keeps its modules, one for each kind of machine.
const LIBRARIES: &[&str] = &["/lib", "/usr/lib", "/lib64", "/usr/lib64"];

pub(super) fn read(look: &Look, texts: &Texts<'_>, is_used: bool) -> Vec<PamTrouble> {
    if !is_used {
        return vec![];
    }
    let stack = Stack::read("sshd", &mut |name| texts.of(&format!("/etc/pam.d/{name}")));
    let line = |p: &Place| texts.line(&p.file, p.line);
    let mut out: Vec<PamTrouble> = stack.troubles.iter().map(|(p, words)| PamTrouble::Broken(line(p), words.clone())).collect();
    let ours = |e: &&Line| e.module.contains("krb5") || e.module.contains("gss");
    // Whoever shows a ticket goes through these two alone.
    for kind in ["account", "session"] {
        let counts = stack.of(kind).filter(ours).filter(|e| e.control.counts_refusal() && !e.may_lack);
        for e in counts.filter(|e| lacks(look, &e.module)) {
            out.push(PamTrouble::NoModule(line(&e.place), e.module.clone()));
        }
    }
    let auth: Vec<&Line> = stack.of("auth").collect();
    if let Some(at) = auth.iter().position(ours)
        && let Some(ends) = auth[..at].iter().find(|e| e.control.ends_on_refusal() && ends_strangers(e))
    {
        out.push(PamTrouble::Late { kerberos: line(&auth[at].place), ends: line(&ends.place) });
    }
    out
}

/// Whether a module refuses whoever has no password of this machine.
fn ends_strangers(e: &Line) -> bool {
    matches!(e.module.as_str(), "pam_unix.so" | "pam_deny.so")
}

/// Whether the system has no such module; not known, and so no, where it shows no modules at all.
fn lacks(look: &Look, module: &str) -> bool {
    let mut seen = false;
    for library in LIBRARIES {
        let kinds = look.root.names(library).unwrap_or_default();
        for folder in kinds.iter().map(|k| format!("{library}/{k}/security")).chain([format!("{library}/security")]) {
            let all = look.root.names(&folder).unwrap_or_default();
            seen |= all.iter().any(|m| m.ends_with(".so"));
            if all.iter().any(|m| m == module) {
                return false;
            }
        }
    }
    seen
}
