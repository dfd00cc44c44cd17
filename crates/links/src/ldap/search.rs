//! The two searches: the person's entry, and the groups that hold it, level by level.

use std::collections::HashMap;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use ldap3::{Ldap, Scope, SearchEntry, SearchOptions, ldap_escape};
use passeur_core::Moment;
use passeur_core::evidence::{Entry, GroupFound, LookUpState};
use passeur_core::site::{Directory, GroupSearch};

use super::account;
use super::connect::{LinkError, result_words};

/// How many levels of groups in groups are followed; a person is rarely below the fourth.
const LEVELS_MAX: usize = 16;
/// The most groups of one person.
const GROUPS_MAX: usize = 5_000;
/// How many members one group search names.
const MEMBERS_A_SEARCH: usize = 50;

/// The filter that finds a person, with the value escaped (RFC 4515 3).
pub(super) fn person_filter(directory: &Directory, value: &str) -> String {
    format!("(&{}({}={}))", directory.filter, directory.key, ldap_escape(value))
}

/// Looks a person up by key and value.
pub(super) async fn person(ldap: &mut Ldap, directory: &Directory, value: &str, now: Moment) -> Result<LookUpState, LinkError> {
    if value.trim().is_empty() || value.len() > 256 {
        return Ok(LookUpState::NoEntry);
    }
    let mut wanted: Vec<&str> = directory.attributes.iter().map(|(_, name)| name.as_str()).collect();
    wanted.push(&directory.key);
    wanted.extend(account::ATTRIBUTES);
    let limit = directory.time_limit.to_std().unwrap_or(std::time::Duration::from_secs(3));
    // Two entries are enough to know that there are several; a few more make the finding useful.
    let options = SearchOptions::new().sizelimit(6).timelimit(limit.as_secs().max(1) as i32);
    let filter = person_filter(directory, value);
    let found =
        ldap.with_timeout(limit).with_search_options(options).search(&directory.base, Scope::Subtree, &filter, wanted).await?;
    let ldap3::SearchResult(entries, result) = found;
    if !matches!(result.rc, 0 | 4) {
        return Err(LinkError::Dead(format!(
            "the search under {} failed: {}",
            directory.base,
            result_words(result.rc, &result.text)
        )));
    }
    let entries: Vec<SearchEntry> =
        entries.into_iter().filter(|e| !e.is_ref() && !e.is_intermediate()).map(SearchEntry::construct).collect();
    if entries.len() > 1 || result.rc == 4 {
        return Ok(LookUpState::Several { dns: entries.into_iter().map(|e| e.dn).collect() });
    }
    let Some(found) = entries.into_iter().next() else { return Ok(LookUpState::NoEntry) };
    let mut entry = to_entry(directory, found);
    if !holds(&entry, &directory.key, value) {
        return Ok(LookUpState::NoEntry);
    }
    if let Some(groups) = &directory.groups {
        entry.groups = closure(ldap, groups, &entry.dn, limit).await?;
    }
    Ok(match account::unusable(&entry.attributes, now) {
        Some(why) => LookUpState::Disabled { entry: strip(entry, directory), why },
        None => LookUpState::Answered { entry: strip(entry, directory) },
    })
}

/// Values the site says are bytes are kept as such, whether or not they happen to be text as well.
fn to_entry(directory: &Directory, e: SearchEntry) -> Entry {
    let mut out = Entry { dn: e.dn, ..Entry::default() };
    for (name, values) in e.attrs {
        let key = name.to_ascii_lowercase();
        if directory.octets.contains_key(&key) {
            out.octets.entry(key).or_default().extend(values.iter().map(|v| STANDARD.encode(v)));
        } else {
            out.attributes.insert(key, values);
        }
    }
    for (name, values) in e.bin_attrs {
        let key = name.to_ascii_lowercase();
        if directory.octets.contains_key(&key) {
            out.octets.entry(key).or_default().extend(values.iter().map(|v| STANDARD.encode(v)));
        } else {
            out.binary.push(name);
        }
    }
    out
}

/// The directory's own matching may be looser than is safe (blanks, look-alikes): the entry must hold the value as it
/// is, letters compared without case.
fn holds(entry: &Entry, key: &str, value: &str) -> bool {
    let wanted = value.to_lowercase();
    entry.attributes.get(&key.to_ascii_lowercase()).is_some_and(|v| v.iter().any(|v| v.to_lowercase() == wanted))
}

/// Keeps only what the site maps, and the key: evidence holds no more of a person than it needs.
fn strip(mut entry: Entry, directory: &Directory) -> Entry {
    let keep = |name: &String| {
        name.eq_ignore_ascii_case(&directory.key) || directory.attributes.iter().any(|(_, n)| n.eq_ignore_ascii_case(name))
    };
    entry.attributes.retain(|name, _| keep(name));
    entry.binary.retain(keep);
    entry
}

/// All groups a DN is in, following groups in groups; each is visited once, so loops end.
async fn closure(
    ldap: &mut Ldap,
    groups: &GroupSearch,
    dn: &str,
    limit: std::time::Duration,
) -> Result<Vec<GroupFound>, LinkError> {
    let mut found: HashMap<String, GroupFound> = HashMap::new();
    let mut frontier: Vec<(String, Option<String>)> = vec![(dn.to_owned(), None)];
    for _ in 0..LEVELS_MAX {
        let mut next = vec![];
        for chunk in frontier.chunks(MEMBERS_A_SEARCH) {
            for (group, member) in groups_of(ldap, groups, chunk, limit).await? {
                let key = group.dn.to_lowercase();
                if found.contains_key(&key) {
                    continue;
                }
                let via = chunk.iter().find(|(dn, _)| dn.eq_ignore_ascii_case(&member)).and_then(|(_, name)| name.clone());
                next.push((group.dn.clone(), Some(group.name.clone())));
                found.insert(key, GroupFound { via, ..group });
                if found.len() > GROUPS_MAX {
                    return Err(LinkError::Dead(format!("the person is in more than {GROUPS_MAX} groups")));
                }
            }
        }
        if next.is_empty() || !groups.nested {
            break;
        }
        frontier = next;
    }
    let mut out: Vec<GroupFound> = found.into_values().collect();
    out.sort();
    Ok(out)
}

/// Groups that hold any of these members, each with the member it was found by.
async fn groups_of(
    ldap: &mut Ldap,
    groups: &GroupSearch,
    members: &[(String, Option<String>)],
    limit: std::time::Duration,
) -> Result<Vec<(GroupFound, String)>, LinkError> {
    let conditions: String = members.iter().map(|(dn, _)| format!("({}={})", groups.member, ldap_escape(dn.as_str()))).collect();
    let filter = if members.len() == 1 { conditions } else { format!("(|{conditions})") };
    // With one member asked for, who was found is known; otherwise the group's own list says.
    let wanted: Vec<&str> = if members.len() == 1 { vec![&groups.name] } else { vec![&groups.name, &groups.member] };
    let options = SearchOptions::new().sizelimit(GROUPS_MAX as i32 + 1).timelimit(limit.as_secs().max(1) as i32);
    let ldap3::SearchResult(entries, result) =
        ldap.with_timeout(limit).with_search_options(options).search(&groups.base, Scope::Subtree, &filter, wanted).await?;
    if result.rc != 0 {
        // Part of the groups is no answer: a refusing rule might look for one that is missing.
        let words = result_words(result.rc, &result.text);
        return Err(LinkError::Dead(format!("the group search under {} failed: {words}", groups.base)));
    }
    let mut out = vec![];
    for e in entries.into_iter().filter(|e| !e.is_ref() && !e.is_intermediate()).map(SearchEntry::construct) {
        let values =
            |name: &str| e.attrs.iter().find(|(k, _)| k.eq_ignore_ascii_case(name)).map(|(_, v)| v.as_slice()).unwrap_or(&[]);
        let Some(name) = values(&groups.name).first().cloned() else { continue };
        let held = values(&groups.member);
        let member = members
            .iter()
            .map(|(dn, _)| dn)
            .find(|dn| members.len() == 1 || held.iter().any(|h| h.eq_ignore_ascii_case(dn)))
            .cloned()
            .unwrap_or_default();
        out.push((GroupFound { name, dn: e.dn, via: None }, member));
    }
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_entry_must_hold_the_value_itself() {
        let entry = Entry { attributes: [("uid".to_owned(), vec!["Anouk".to_owned()])].into(), ..Entry::default() };
        assert!(holds(&entry, "UID", "anouk"));
        assert!(!holds(&entry, "uid", "anouk "));
        assert!(!holds(&entry, "uid", "anou"));
        assert!(!holds(&entry, "mail", "anouk"));
    }
}
