//! Reading of `site::section` from a document.

use std::collections::HashSet;

use super::condition;
use super::fields::Fields;
use super::names::Names;
use super::rule::read_step_up;
use crate::path;
use crate::site::{Condition, Section, SectionAccess};

/// Reads `[[gate.section]]`.
pub(crate) fn read(f: &Fields<'_, '_>, names: &Names<'_>, has_directory: bool, has_rules: bool) -> Vec<Section> {
    let mut out: Vec<Section> = vec![];
    let mut known = HashSet::new();
    for s in f.tables("section") {
        let written = s.need("path", "\"/static\"").unwrap_or_default();
        let folded = path::canonical(&written);
        let plain = folded.as_ref().is_some_and(|c| *c == written.to_lowercase()) && written.starts_with('/');
        if !written.is_empty() && !plain {
            s.error(
                "path",
                format!("\"{written}\" is not a plain path"),
                "Write it as in the address, from the first slash, without a slash at the end, dots, % or ;.",
            );
        }
        if !known.insert(written.clone()) {
            s.error("path", format!("two sections have the path {written}"), "Join them.");
        }
        let words = s.text("refuse");
        let step_up = read_step_up(&s, names, has_directory);
        let access = match (s.flag("open", false), s.table("when")) {
            (true, None) => {
                if !has_rules {
                    s.error("open", "the gate has no rule, so nothing of it may be open".into(), "Add a [[gate.rule]] first.");
                }
                if words.is_some() {
                    s.warn("refuse", "an open section refuses nobody".into(), "Take refuse away.");
                }
                Some(SectionAccess::Open)
            }
            (false, Some(w)) => condition::read(&w, names, has_directory, 0).map(|when| SectionAccess::More { when, words }),
            (true, Some(_)) => {
                s.error("open", "the section is open and asks for more".into(), "Keep one of open and when.");
                None
            }
            (false, None) if step_up.is_some() => Some(SectionAccess::More { when: Condition::Everyone, words }),
            (false, None) => {
                s.error(
                    "when",
                    "the section says nothing".into(),
                    "Add open = true, when = { group = \"…\" } or step-up = { factor = \"otp\" }.",
                );
                None
            }
        };
        s.finish();
        if let (Some(access), Some(folded)) = (access, folded) {
            if access == SectionAccess::Open && step_up.is_some() {
                s.error("step-up", "an open section asks nobody to sign in".into(), "Keep one of open and step-up.");
            }
            out.push(Section { path: written, folded, access, step_up });
        }
    }
    out
}
