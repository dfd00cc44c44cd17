//! Directories of a site: where they are, how people and groups are found in them, and which of a gate's is asked.

use std::collections::BTreeMap;

use super::attribute_id::AttributeId;
use super::octets::Octets;
use chrono::Duration;

/// How a directory connection is protected.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum DirectorySecurity {
    /// `ldaps`.
    Tls,
    /// StartTLS (RFC 4511 4.14).
    StartTls,
    /// None; on loopback only.
    Plain,
}

/// An LDAP directory.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Directory {
    pub name: String,
    /// Its servers, at least one, in the order in which they are asked.
    pub servers: Vec<String>,
    pub security: DirectorySecurity,
    /// The service account's DN; none binds anonymously.
    pub account: Option<String>,
    pub secret: Option<String>,
    pub base: String,
    /// The directory attribute searched.
    pub key: String,
    /// The attribute that gives the value to search for.
    pub fed_by: AttributeId,
    /// Only people whose value ends with one of these are looked for here; empty means everybody.
    pub suffixes: Vec<String>,
    /// Whether the suffix is taken off before the search.
    pub cut_suffix: bool,
    /// Further condition on entries (RFC 4515), such as `(objectClass=inetOrgPerson)`.
    pub filter: String,
    pub groups: Option<GroupSearch>,
    pub attributes: Vec<(AttributeId, String)>,
    /// Attributes that are fed by bytes, and how those are written.
    pub octets: BTreeMap<AttributeId, Octets>,
    pub referrals: Referrals,
    /// How long one server may take for everything it is asked of one person.
    pub time_limit: Duration,
    /// How long an answer is used again.
    pub cache: Duration,
    /// How many entries are asked for at a time (RFC 2696).
    pub page: u16,
    pub ca_file: Option<String>,
}

/// What to do where a directory refers to another server (RFC 4511 4.1.10, 4.5.3).
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Referrals {
    /// What lies there is not part of this directory.
    Ignore,
    /// Ask there, with the same account and protection, where the server is one of these or of the directory's own; where it
    /// is another, the directory has not answered as a whole.
    Follow(Vec<String>),
}

/// Where groups are and how members are named in them.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct GroupSearch {
    pub base: String,
    pub find: FindGroups,
    /// The attribute that names a group.
    pub name: String,
    /// Whether groups in groups count.
    pub nested: Nested,
    /// The group that a person's entry names by number, and that no list of members holds.
    pub primary: Primary,
    /// Put before and after the name of every group, so that groups of two directories are told apart.
    pub prefix: String,
    pub suffix: String,
}

impl GroupSearch {
    /// The name by which the site knows a group of this directory.
    pub fn qualified(&self, name: &str) -> String {
        format!("{}{name}{}", self.prefix, self.suffix)
    }
}

/// How the groups of somebody are found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum FindGroups {
    /// Groups that hold the person's DN in this attribute.
    ByMember(String),
    /// Groups that hold the person's key in this attribute, such as `memberUid` (RFC 2307).
    ByKey(String),
    /// Groups that this attribute of the person's entry names, such as `memberOf`.
    OfEntry(String),
}

/// Whether and how groups in groups are found.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Nested {
    No,
    /// One level after the other.
    Walk,
    /// In one search, by the server (the matching rule 1.2.840.113556.1.4.1941), where it says that it can; otherwise walked.
    Chain,
}

/// How a person's primary group is found.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Primary {
    None,
    /// `primaryGroupID` beside the person's `objectSid` make the `objectSid` of the group.
    Sid,
    /// `gidNumber`, of the person and of the group (RFC 2307).
    GidNumber,
}

/// The directory of a gate that is asked for somebody, and the value it is asked for.
#[derive(Clone, Debug)]
pub struct Asking<'s> {
    pub directory: &'s Directory,
    /// What the value ended with, where that decided.
    pub suffix: Option<&'s str>,
    /// The value, or the code of the reason why there is none.
    pub value: Result<String, String>,
}

impl Directory {
    /// Whether an attribute of this directory is kept as bytes, for whatever is fed by it.
    pub fn is_bytes(&self, source: &str) -> bool {
        self.attributes.iter().any(|(id, name)| self.octets.contains_key(id) && name.eq_ignore_ascii_case(source))
    }

    /// What is searched where an engineer typed this: as for somebody of this name; what no suffix fits is taken as it stands.
    pub fn typed<'n>(&self, name: &'n str) -> &'n str {
        self.searched(name.trim()).unwrap_or(name.trim())
    }

    /// What is searched for somebody of this name; none where its suffix belongs elsewhere.
    pub fn searched<'n>(&self, name: &'n str) -> Option<&'n str> {
        let cut = self.fits(name)?.filter(|_| self.cut_suffix).map_or(0, str::len);
        name.get(..name.len() - cut)
    }

    /// Whether somebody with this value is looked for here, and by which suffix. Letters compare without case.
    pub(crate) fn fits(&self, value: &str) -> Option<Option<&str>> {
        if self.suffixes.is_empty() {
            return Some(None);
        }
        self.suffixes.iter().map(String::as_str).find(|s| ends_with(value, s)).map(Some)
    }
}

/// Whether there is something before the suffix.
fn ends_with(value: &str, suffix: &str) -> bool {
    value.len() > suffix.len() && value.get(value.len() - suffix.len()..).is_some_and(|end| end.eq_ignore_ascii_case(suffix))
}
