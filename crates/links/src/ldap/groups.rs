//! Groups of a person, as directories really hold them: by lists of members, by a list at the person, by number, and groups
//! in groups. Part of the groups is no answer: a refusing rule might look for one that is missing.

use std::collections::HashMap;

use ldap3::{Scope, ldap_escape};
use passeur_core::dn::rdn;
use passeur_core::evidence::GroupFound;
use passeur_core::site::{FindGroups, GroupSearch, Nested, Primary};

use super::connect::LinkError;
use super::query::{Ask, Query, RawEntry};

/// How many levels of groups in groups are followed; a person is rarely below the fourth.
const LEVELS_MAX: usize = 16;
/// The most groups of one person.
const GROUPS_MAX: usize = 5_000;
/// How many values one group search asks for.
pub(super) const VALUES_A_SEARCH: usize = 50;
/// Matching in a chain of members ([MS-ADTS] 3.1.1.3.4.4.3).
const IN_CHAIN: &str = "1.2.840.113556.1.4.1941";
/// The capability that comes with it ([MS-ADTS] 3.1.1.3.4.3).
const CAPABILITY: &str = "1.2.840.113556.1.4.800";

/// Attributes of a person's entry that finding groups needs.
pub(super) fn of_person(search: &GroupSearch) -> Vec<&str> {
    let mut out = match search.primary {
        Primary::None => vec![],
        Primary::Sid => vec!["objectSid", "primaryGroupID"],
        Primary::GidNumber => vec!["gidNumber"],
    };
    if let FindGroups::OfEntry(attribute) = &search.find {
        out.push(attribute);
    }
    out
}

/// Groups by DN in lower case; each is visited once, so loops end.
#[derive(Default)]
struct Closure {
    found: HashMap<String, GroupFound>,
}

impl Closure {
    /// Takes a group in; whether it is new.
    fn add(&mut self, group: GroupFound) -> Result<bool, LinkError> {
        let key = group.dn.to_lowercase();
        if self.found.contains_key(&key) {
            return Ok(false);
        }
        self.found.insert(key, group);
        match self.found.len() > GROUPS_MAX {
            true => Err(LinkError::Unusable(format!("the person is in more than {GROUPS_MAX} groups"))),
            false => Ok(true),
        }
    }

    fn knows(&self, dn: &str) -> bool {
        self.found.contains_key(&dn.to_lowercase())
    }
}

/// All groups of a person's entry, direct ones and, where they count, those they are in.
pub(super) async fn find(query: &mut Query<'_>, search: &GroupSearch, person: &RawEntry) -> Result<Vec<GroupFound>, LinkError> {
    let mut all = Closure::default();
    let mut frontier = match &search.find {
        FindGroups::ByMember(attribute) => by_filter(query, search, &is(attribute, &person.dn)).await?,
        FindGroups::ByKey(attribute) => {
            let keys = person.texts(&query.directory.key);
            let any = any_is(attribute, keys.iter().map(String::as_str));
            if keys.is_empty() { vec![] } else { by_filter(query, search, &any).await? }
        }
        FindGroups::OfEntry(attribute) => named(query, search, person.texts(attribute)).await?,
    };
    if let Some(filter) = primary(search.primary, person)? {
        frontier.extend(by_filter(query, search, &filter).await?);
    }
    let mut fresh = vec![];
    for group in frontier {
        if all.add(group.clone())? {
            fresh.push(group);
        }
    }
    match (&search.find, search.nested) {
        (_, Nested::No) => {}
        (FindGroups::ByMember(member), Nested::Chain) if in_chain(query).await? => {
            chain(query, search, member, person, &fresh, &mut all).await?;
        }
        (FindGroups::OfEntry(attribute), _) => walk(query, search, Lists::OfEntry(attribute), fresh, &mut all).await?,
        (FindGroups::ByMember(member), _) => walk(query, search, Lists::OfMembers(member), fresh, &mut all).await?,
        // Lists of keys name people; what holds a group is a list of members all the same.
        (FindGroups::ByKey(_), _) => walk(query, search, Lists::OfMembers("member"), fresh, &mut all).await?,
    }
    let mut out: Vec<GroupFound> = all.found.into_values().collect();
    out.sort();
    Ok(out)
}

fn is(attribute: &str, value: &str) -> String {
    format!("({attribute}={})", ldap_escape(value))
}

/// The filter that holds for any of these values, with each escaped.
pub(super) fn any_is<'a>(attribute: &str, values: impl Iterator<Item = &'a str>) -> String {
    format!("(|{})", values.map(|v| is(attribute, v)).collect::<String>())
}

/// Groups under the base that a filter finds. One without a name cannot be asked about, and is left out.
async fn by_filter(query: &mut Query<'_>, search: &GroupSearch, filter: &str) -> Result<Vec<GroupFound>, LinkError> {
    let wanted = [search.name.as_str()];
    let ask = Ask { base: &search.base, scope: Scope::Subtree, filter, wanted: &wanted, max: GROUPS_MAX };
    let found = query.search(ask).await?;
    if found.more {
        return Err(LinkError::Unusable(format!("the group search under {} is cut short by a size limit", search.base)));
    }
    let named = |e: RawEntry| Some(GroupFound { name: e.text(&search.name)?, dn: e.dn, via: None });
    Ok(found.entries.into_iter().filter_map(named).collect())
}

/// Whether the server says that it matches in chains. One that does not would find nothing, and call that an answer.
pub(super) async fn in_chain(query: &mut Query<'_>) -> Result<bool, LinkError> {
    let wanted = ["supportedCapabilities"];
    let ask = Ask { base: "", scope: Scope::Base, filter: "(objectClass=*)", wanted: &wanted, max: 1 };
    let root = query.search(ask).await?;
    let able = root.entries.iter().any(|e| e.texts("supportedCapabilities").iter().any(|c| c == CAPABILITY));
    if !able {
        tracing::debug!(directory = query.directory.name, "the server does not match in chains: groups in groups are walked");
    }
    Ok(able)
}

/// Groups in groups in one search each: of the person, and of the primary group, which holds nobody as a member.
async fn chain(
    query: &mut Query<'_>,
    search: &GroupSearch,
    member: &str,
    person: &RawEntry,
    direct: &[GroupFound],
    all: &mut Closure,
) -> Result<(), LinkError> {
    let of = |dn: &str| format!("({member}:{IN_CHAIN}:={})", ldap_escape(dn));
    for group in by_filter(query, search, &of(&person.dn)).await? {
        // Through which of the direct ones the server does not say; that it is through one is certain.
        all.add(GroupFound { via: Some("…".to_owned()), ..group })?;
    }
    if search.primary != Primary::None {
        for through in direct {
            for group in by_filter(query, search, &of(&through.dn)).await? {
                all.add(GroupFound { via: Some(through.name.clone()), ..group })?;
            }
        }
    }
    Ok(())
}

/// Which lists lead from a group to those it is in.
enum Lists<'a> {
    /// At each group, of its members.
    OfMembers(&'a str),
    /// At the group, of those it is in.
    OfEntry(&'a str),
}

/// Groups in groups, level by level.
async fn walk(
    query: &mut Query<'_>,
    search: &GroupSearch,
    lists: Lists<'_>,
    mut frontier: Vec<GroupFound>,
    all: &mut Closure,
) -> Result<(), LinkError> {
    for _ in 0..LEVELS_MAX {
        frontier = match lists {
            Lists::OfMembers(member) => above_by_members(query, search, member, &frontier, all).await?,
            Lists::OfEntry(attribute) => above_by_entries(query, search, attribute, &frontier, all).await?,
        };
        if frontier.is_empty() {
            break;
        }
    }
    Ok(())
}

/// The groups new to us that hold any of these as members.
async fn above_by_members(
    query: &mut Query<'_>,
    search: &GroupSearch,
    member: &str,
    frontier: &[GroupFound],
    all: &mut Closure,
) -> Result<Vec<GroupFound>, LinkError> {
    let mut next = vec![];
    let any = |of: &[GroupFound]| any_is(member, of.iter().map(|g| g.dn.as_str()));
    for chunk in frontier.chunks(VALUES_A_SEARCH) {
        for group in by_filter(query, search, &any(chunk)).await? {
            if all.knows(&group.dn) {
                continue;
            }
            let via = through(query, &group.dn, chunk, &any).await?;
            let group = GroupFound { via: Some(via), ..group };
            if all.add(group.clone())? {
                next.push(group);
            }
        }
    }
    Ok(next)
}

/// The groups new to us that any of these lists at itself.
async fn above_by_entries(
    query: &mut Query<'_>,
    search: &GroupSearch,
    attribute: &str,
    frontier: &[GroupFound],
    all: &mut Closure,
) -> Result<Vec<GroupFound>, LinkError> {
    let mut next = vec![];
    for through in frontier {
        let listed = entry(query, &through.dn, &[attribute]).await?.map(|e| e.texts(attribute)).unwrap_or_default();
        let new: Vec<String> = listed.into_iter().filter(|dn| !all.knows(dn)).collect();
        for group in named(query, search, new).await? {
            let group = GroupFound { via: Some(through.name.clone()), ..group };
            if all.add(group.clone())? {
                next.push(group);
            }
        }
    }
    Ok(next)
}

/// Which of several groups is a member of another. Asked by halves: lists of members can be long, and need not be read.
async fn through(
    query: &mut Query<'_>,
    group: &str,
    members: &[GroupFound],
    any: &impl Fn(&[GroupFound]) -> String,
) -> Result<String, LinkError> {
    let mut left = members;
    while left.len() > 1 {
        let (one, other) = left.split_at(left.len() / 2);
        let ask = Ask { base: group, scope: Scope::Base, filter: &any(one), wanted: &["1.1"], max: 1 };
        left = if query.search(ask).await?.entries.is_empty() { other } else { one };
    }
    Ok(left.first().map(|g| g.name.clone()).unwrap_or_default())
}

/// Groups by their DNs, as a person's or a group's entry lists them. Those outside the base do not count.
async fn named(query: &mut Query<'_>, search: &GroupSearch, dns: Vec<String>) -> Result<Vec<GroupFound>, LinkError> {
    let mut out = vec![];
    for dn in dns.into_iter().filter(|dn| below(dn, &search.base)) {
        // The name mostly stands in the DN itself.
        let name = match first_rdn(&dn, &search.name) {
            Some(name) => Some(name),
            None => entry(query, &dn, &[&search.name]).await?.and_then(|e| e.text(&search.name)),
        };
        out.extend(name.map(|name| GroupFound { name, dn, via: None }));
        if out.len() > GROUPS_MAX {
            break;
        }
    }
    Ok(out)
}

/// One entry by its DN; none where it is not there any more, whoever still lists it.
async fn entry(query: &mut Query<'_>, dn: &str, wanted: &[&str]) -> Result<Option<RawEntry>, LinkError> {
    let ask = Ask { base: dn, scope: Scope::Base, filter: "(objectClass=*)", wanted, max: 1 };
    match query.search(ask).await {
        Ok(found) => Ok(found.entries.into_iter().next()),
        Err(LinkError::Unusable(words)) if words.contains("noSuchObject") => Ok(None),
        Err(e) => Err(e),
    }
}

/// The filter that finds the primary group; none where the entry names none. An entry that names one badly is no answer.
fn primary(kind: Primary, person: &RawEntry) -> Result<Option<String>, LinkError> {
    let unfit = |what: &str| LinkError::Unusable(format!("the primary group of {} cannot be told from its {what}", person.dn));
    match kind {
        Primary::None => Ok(None),
        Primary::GidNumber => match person.text("gidNumber") {
            None => Ok(None),
            Some(n) => n
                .parse::<u32>()
                .map(|n| Some(format!("(&(objectClass=posixGroup)(gidNumber={n}))")))
                .map_err(|_| unfit("gidNumber")),
        },
        Primary::Sid => {
            let Some(number) = person.text("primaryGroupID") else { return Ok(None) };
            let number: u32 = number.parse().map_err(|_| unfit("primaryGroupID"))?;
            let sid = person.bytes("objectSid").ok_or_else(|| unfit("objectSid"))?;
            // The last of the person's own sub-authorities gives way to the group's (MS-ADTS 3.1.1.4.5.15 and the like).
            let domain =
                sid.len().checked_sub(4).filter(|n| *n >= 8).and_then(|n| sid.get(..n)).ok_or_else(|| unfit("objectSid"))?;
            let bytes = domain.iter().chain(&number.to_le_bytes()).map(|b| format!("\\{b:02x}")).collect::<String>();
            Ok(Some(format!("(objectSid={bytes})")))
        }
    }
}

/// Whether a DN lies below another; case, and blanks around separators, do not matter. An escaped separator is none.
fn below(dn: &str, base: &str) -> bool {
    let (dn, base) = (parts(dn), parts(base));
    dn.len() > base.len() && dn.ends_with(&base)
}

fn parts(dn: &str) -> Vec<String> {
    let mut out = vec![String::new()];
    let mut escaped = false;
    for c in dn.chars() {
        match (out.last_mut(), c) {
            (Some(_), ',') if !escaped => out.push(String::new()),
            (Some(last), c) => last.push(c),
            (None, _) => {}
        }
        escaped = c == '\\' && !escaped;
    }
    out.iter().map(|p| p.trim().to_lowercase()).collect()
}

/// The value of the first part of a DN, where it is of this type.
fn first_rdn(dn: &str, kind: &str) -> Option<String> {
    dn.trim_start().get(..kind.len()).filter(|k| k.eq_ignore_ascii_case(kind))?;
    rdn(dn, kind)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn person(values: &[(&str, &[u8])]) -> RawEntry {
        let attributes = values.iter().map(|(n, v)| ((*n).to_owned(), vec![v.to_vec()])).collect();
        RawEntry { dn: "cn=a".into(), attributes }
    }

    #[test]
    fn a_primary_group_is_found_by_its_number() {
        let sid = [1, 2, 0, 0, 0, 0, 0, 5, 21, 0, 0, 0, 0x51, 4, 0, 0];
        let p = person(&[("objectsid", &sid), ("primarygroupid", b"513")]);
        let wanted = "(objectSid=\\01\\02\\00\\00\\00\\00\\00\\05\\15\\00\\00\\00\\01\\02\\00\\00)";
        assert_eq!(primary(Primary::Sid, &p).unwrap().as_deref(), Some(wanted));
        let gid = person(&[("gidnumber", b"700")]);
        let filter = primary(Primary::GidNumber, &gid).unwrap();
        assert_eq!(filter.as_deref(), Some("(&(objectClass=posixGroup)(gidNumber=700))"));
        assert_eq!(primary(Primary::Sid, &person(&[])).unwrap(), None);
        assert_eq!(primary(Primary::None, &p).unwrap(), None);
        // What is named and cannot be told is no answer: it may be the group a rule refuses.
        for bad in [
            person(&[("primarygroupid", b"513")]),
            person(&[("objectsid", &sid[..9]), ("primarygroupid", b"513")]),
            person(&[("objectsid", &sid), ("primarygroupid", b"x")]),
        ] {
            assert!(primary(Primary::Sid, &bad).is_err());
        }
        assert!(primary(Primary::GidNumber, &person(&[("gidnumber", b"7)(uid=*")])).is_err());
    }

    #[test]
    fn a_dn_lies_below_a_base_whatever_its_writing() {
        for (dn, base, is) in [
            ("cn=a,ou=groups,dc=x", "ou=groups,dc=x", true),
            ("CN=a, OU=Groups, DC=x", "ou=groups,dc=x", true),
            ("ou=groups,dc=x", "ou=groups,dc=x", false),
            ("cn=a,ou=othergroups,dc=x", "ou=groups,dc=x", false),
            ("cn=a,dc=x", "ou=groups,dc=x", false),
            ("cn=a\\,ou=groups,dc=x", "ou=groups,dc=x", false),
            ("cn=a\\\\,ou=groups,dc=x", "ou=groups,dc=x", true),
        ] {
            assert_eq!(below(dn, base), is, "{dn}");
        }
        assert_eq!(first_rdn("cn=Quay\\, north,ou=x", "CN").as_deref(), Some("Quay, north"));
        assert_eq!(first_rdn("ou=x,cn=a", "cn"), None);
        assert_eq!(first_rdn("é=x", "cn"), None);
    }
}
