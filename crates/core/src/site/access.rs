//! Who may enter: the part that gates and the console share (ways in, directory, rules), and what the document may name.

use super::attribute_id::AttributeId;
use super::callers::Callers;
use super::condition::Condition;
use super::mapping::Mapping;
use super::rule::{Effect, Rules};
use chrono::Duration;

/// What to do with a person whose directory account is disabled or expired.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Disabled {
    /// Refuse, even though the provider said yes. The default.
    Refuse,
    /// Go on.
    Admit,
}

/// What becomes of a live session whose directory does not answer again.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Dead {
    /// What it said last counts for so long, and then nothing does: the person is refused.
    EndAfter(Duration),
    /// What it said last goes on counting.
    Keep,
}

/// Where the groups come from that rules ask about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum GroupsFrom {
    /// From the directory that is asked; the default where one is named.
    Directory,
    /// From what the provider sends.
    Provider,
}

/// Which sign-in is wanted, where groups come from, and the rules.
#[derive(Clone, Debug)]
pub struct Access {
    /// Ways in that are taken, by name: providers and ways in of our own. The first is the one that people take unless
    /// something else decides.
    pub ways: Vec<String>,
    /// Directories, of which one is asked for a person: see [`Access::asking`].
    pub directories: Vec<String>,
    /// Where groups come from.
    pub groups: GroupsFrom,
    /// Whether to go on when the directory gives no entry.
    pub without_directory: bool,
    pub disabled: Disabled,
    /// How often the rights of a live session are read again from the directory.
    pub re_read: Duration,
    /// What becomes of live sessions when the directory does not answer again.
    pub dead: Dead,
    /// Attributes that are made here, the site's mappings first.
    pub mappings: Vec<Mapping>,
    /// Whether a SAML provider may send somebody here whom nobody sent to it.
    pub unasked: bool,
    /// Which tokens of programs are taken.
    pub callers: Option<Callers>,
    pub rules: Rules,
}

impl Access {
    /// Whether what is known of somebody is asked for again while they are in: at a directory, or at the authority of their device.
    pub fn is_read_again(&self) -> bool {
        !self.directories.is_empty() || self.rules.iter().any(|r| !r.when.device_checks().is_empty())
    }

    /// Whether an attribute is made only once the rules have spoken.
    fn comes_late(&self, id: AttributeId) -> bool {
        self.mappings.iter().any(|m| m.after_rules && m.attribute == id)
    }

    /// Whether a rule hands on, as roles, what is made only then.
    pub(crate) fn gives_too_early(&self, effect: &Effect) -> bool {
        matches!(effect, Effect::Give(g) if g.roles_from.as_ref().and_then(|r| r.attribute).is_some_and(|id| self.comes_late(id)))
    }

    /// Whether a condition asks about what is made only once the rules have spoken.
    pub(crate) fn asks_too_early(&self, when: &Condition) -> bool {
        when.attributes().into_iter().any(|id| self.comes_late(id))
    }
}
