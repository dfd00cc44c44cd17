//! Path sections of a gate: parts that are open to anybody, and parts that ask for more than entry.
//!
//! Upstreams read paths in different ways, so a section is matched against every reading that is likely. What needs more
//! applies when *any* reading lies in the section; what is open applies only when *all* of them do and the path is plain.

use super::condition::Condition;
use crate::path;

/// One section.
#[derive(Clone, Debug)]
pub struct Section {
    /// As written in the site file.
    pub path: String,
    pub(crate) folded: String,
    pub access: SectionAccess,
    /// What a sign-in must have been like for it.
    pub step_up: Option<Condition>,
}

/// What a section asks for.
#[derive(Clone, Debug, PartialEq)]
pub enum SectionAccess {
    /// Nothing: no identity is asked for and none is delivered.
    Open,
    /// Entry to the gate, and this as well.
    More { when: Condition, words: Option<String> },
}

/// What a request's path asks for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PathAccess {
    /// Entry to the gate, like everything else.
    Entry,
    /// Nothing.
    Open,
    /// Entry, and each of these sections, by index.
    More(Vec<usize>),
}

/// What the path asks for. The path is that of the request, without its query.
pub fn path_access(sections: &[Section], raw: &str) -> PathAccess {
    if sections.is_empty() {
        return PathAccess::Entry;
    }
    let more: Vec<usize> = sections
        .iter()
        .enumerate()
        .filter(|(_, s)| matches!(s.access, SectionAccess::More { .. }) && path::may_be_below(raw, &s.folded))
        .map(|(i, _)| i)
        .collect();
    if !more.is_empty() {
        return PathAccess::More(more);
    }
    let open = |s: &Section| s.access == SectionAccess::Open && path::is_plainly_below(raw, &s.path);
    if sections.iter().any(open) { PathAccess::Open } else { PathAccess::Entry }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn section(path: &str, access: SectionAccess) -> Section {
        Section { path: path.into(), folded: path.to_lowercase(), access, step_up: None }
    }

    fn sections() -> Vec<Section> {
        let more = || SectionAccess::More { when: Condition::Everyone, words: None };
        vec![
            section("/static", SectionAccess::Open),
            section("/assign", more()),
            section("/static/private", more()),
            section("/healthz", SectionAccess::Open),
        ]
    }

    #[test]
    fn no_spelling_slips_past_a_section_that_needs_more() {
        for path in [
            "/assign",
            "/assign/",
            "/assign/7",
            "/ASSIGN",
            "//assign",
            "/./assign",
            "/x/../assign",
            "/%61ssign",
            "/%2561ssign",
            "/assign;x=1",
            "/assign%2f7",
            "/\\assign",
            "/assign/../assign",
            "/x/%2e%2e/assign",
            "/assign%20",
            "/assign/../x",
            "/static/..;/assign",
            "/static/../assign",
        ] {
            assert_eq!(path_access(&sections(), path), PathAccess::More(vec![1]), "{path}");
        }
        // What cannot be read at all needs everything.
        for path in ["/..", "/%ff", "/a%00", "/%25252525252e"] {
            assert_eq!(path_access(&sections(), path), PathAccess::More(vec![1, 2]), "{path}");
        }
    }

    #[test]
    fn only_the_plain_spelling_is_open() {
        for path in ["/static", "/static/", "/static/a.css", "/static/A/b", "/healthz"] {
            assert_eq!(path_access(&sections(), path), PathAccess::Open, "{path}");
        }
        for path in [
            "/Static/a.css",
            "/static/../x",
            "/static/%2e%2e/x",
            "/static/..;/x",
            "/static;x/a",
            "/static//a",
            "/static/./a",
            "/static/a%2fb",
            "/static\\a",
            "/statics",
            "/",
            "/x/static",
            "/healthz;x",
        ] {
            assert_eq!(path_access(&sections(), path), PathAccess::Entry, "{path}");
        }
        assert_eq!(path_access(&sections(), "/static/private/a"), PathAccess::More(vec![2]));
        assert_eq!(path_access(&[], "/static"), PathAccess::Entry);
    }
}
