//! Whether a person with a ticket gets into a host by SSH without a password, and onward to the next: what stands in the way, in the
//! order in which they meet it, with the exact line to change.
//!
//! Files and programs are read by `passeur_links::host` and come in as [`Facts`]; what they mean is decided here, [`arriving`] and
//! [`leaving`], said by the [`catalogue`], and written down as [`Change`]s.

mod arriving;
mod catalogue;
pub mod change;
mod facts;
mod leaving;

pub use catalogue::{ALL, Code};
pub use change::Change;
pub use facts::*;

use crate::finding::{Found, Harm, Word};

/// One finding.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    pub found: Found<Code>,
    /// The line it is about.
    pub at: Option<Line>,
    /// What to write instead; none where it is not a line of a file that is to be changed.
    pub change: Option<Change>,
}

impl Finding {
    fn new(code: Code) -> Finding {
        Finding { found: Found::new(code, ""), at: None, change: None }
    }

    fn with(mut self, name: &'static str, value: impl Into<Word>) -> Finding {
        self.found = self.found.with(name, value);
        self
    }

    fn at(self, line: &Line) -> Finding {
        Finding { at: Some(line.clone()), ..self }
    }

    fn change(self, change: Option<Change>) -> Finding {
        Finding { change, ..self }
    }

    /// The code.
    pub fn code(&self) -> Code {
        self.found.code
    }
}

/// Whether the person comes in, and goes on from here.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Verdict {
    pub comes_in: bool,
    pub goes_on: bool,
}

/// Everything that stands in the way, in order.
pub fn examine(facts: &Facts) -> Vec<Finding> {
    let mut out = vec![];
    arriving::look(facts, &mut out);
    leaving::look(facts, &mut out);
    out.sort_by_key(Finding::code);
    out
}

/// What findings mean for the person.
pub fn verdict(findings: &[Finding]) -> Verdict {
    let broken = |onward: bool| {
        let all = findings.iter().map(|f| f.code().spec()).filter(|s| s.harm == Harm::Broken);
        all.into_iter().any(|s| s.code.starts_with("onward.") == onward)
    };
    Verdict { comes_in: !broken(false), goes_on: !broken(false) && !broken(true) }
}

/// The line, or that no line says so.
fn place(at: Option<&Line>) -> Word {
    match at {
        Some(line) => line.to_string().into(),
        None => Word::Say(["no line says otherwise".into(), "aucune ligne ne dit autrement".into()]),
    }
}

/// A setting under `[libdefaults]` of krb5.conf.
fn of_defaults(config: &Config, setting: &str) -> Change {
    let (file, before, text) = match &config.defaults_at {
        Some(section) => (section.file.clone(), section.line + 1, format!("  {setting}")),
        None => (config.path.clone(), 1, format!("[libdefaults]\n  {setting}")),
    };
    Change::Insert { file, before, text }
}

fn set(at: Option<&Line>, otherwise: Change, to: impl Into<String>) -> Option<Change> {
    Some(match at {
        Some(line) => Change::Replace { line: line.clone(), to: to.into() },
        None => otherwise,
    })
}
