//! Configuration of SSH servers and clients (OpenSSH's `sshd_config(5)` and `ssh_config(5)`), as far as it decides whether a person
//! comes in with a ticket (RFC 4462), with the place of every line.
//!
//! The programs themselves are the judges where they are at hand (`sshd -T`, `ssh -G`); this reads files of another machine, and
//! says which line of which file made a value what it is.
//!
//! * [`lines`] keywords with their conditions, includes and all;
//! * [`pattern`] what a `Host`, `Match` or `AllowUsers` names.

pub mod lines;
pub mod pattern;

pub use lines::{Condition, Item, Lines, Place};
pub use pattern::matches;

/// For whom a configuration is asked.
#[derive(Clone, Debug, Default)]
pub struct Login {
    /// The account on the machine.
    pub user: String,
    /// Its groups.
    pub groups: Vec<String>,
    /// The host: for a server where the person comes from, for a client where they go.
    pub host: Option<String>,
    pub address: Option<String>,
}

/// A value and the line that set it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Value<'l> {
    pub item: &'l Item,
    /// Whether a `Match` or `Host` block set it.
    pub of_block: bool,
}

impl Lines {
    /// What a server does for one connection: blocks that match come before what stands outside of them, and of each the first
    /// line counts.
    pub fn of_server(&self, keyword: &str, asked: &Login) -> Option<Value<'_>> {
        let mine = || self.items.iter().filter(|i| i.keyword == keyword);
        let blocks = mine().find(|i| !i.within.is_empty() && i.within.iter().all(|c| c.holds(asked) == Some(true)));
        let found = blocks.map(|item| Value { item, of_block: true });
        found.or_else(|| mine().find(|i| i.within.is_empty()).map(|item| Value { item, of_block: false }))
    }

    /// What a client does for one host: of all lines that apply, the first counts.
    pub fn of_client(&self, keyword: &str, asked: &Login) -> Option<Value<'_>> {
        let mut mine = self.items.iter().filter(|i| i.keyword == keyword);
        let found = mine.find(|i| i.within.iter().all(|c| c.holds(asked) == Some(true)));
        found.map(|item| Value { item, of_block: !item.within.is_empty() })
    }

    /// Every line of a keyword that may be given several times, as a server takes them: those of blocks that match stand for all
    /// others.
    pub fn all_of_server(&self, keyword: &str, asked: &Login) -> Vec<&Item> {
        let mine = || self.items.iter().filter(|i| i.keyword == keyword);
        let of_blocks: Vec<&Item> =
            mine().filter(|i| !i.within.is_empty() && i.within.iter().all(|c| c.holds(asked) == Some(true))).collect();
        if of_blocks.is_empty() { mine().filter(|i| i.within.is_empty()).collect() } else { of_blocks }
    }

    /// Lines of a server outside of blocks that never count, with the one before each that does.
    pub fn dead(&self, keywords: &[&str]) -> Vec<(&Item, &Item)> {
        let mut out = vec![];
        for keyword in keywords {
            let mut mine = self.items.iter().filter(|i| i.keyword == *keyword && i.within.is_empty());
            let Some(first) = mine.next() else { continue };
            out.extend(mine.filter(|i| i.arguments != first.arguments).map(|later| (later, first)));
        }
        out
    }
}
