//! How far an engineer may go: what the rules of `[engineers]` give, and what a token carries.

/// How far somebody may go in the console and the management API. Each role includes those before it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Role {
    /// Look at everything but secrets.
    View,
    /// End sessions and run trials, too.
    Operate,
    /// Publish editions and set secrets, too.
    Configure,
}

impl Role {
    /// Every role, the smallest first.
    pub const ALL: [Role; 3] = [Role::View, Role::Operate, Role::Configure];

    /// The role's word, as rules and tokens write it.
    pub fn word(self) -> &'static str {
        match self {
            Role::View => "view",
            Role::Operate => "operate",
            Role::Configure => "configure",
        }
    }

    /// From the role's word.
    pub fn parse(word: &str) -> Option<Role> {
        Role::ALL.into_iter().find(|r| r.word() == word)
    }
}
