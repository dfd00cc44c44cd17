//! The look-up of a person: the entry by its key, whether its account may be used, and its groups.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use ldap3::{Scope, ldap_escape};
use passeur_core::Moment;
use passeur_core::evidence::{Entry, LookUpState};
use passeur_core::site::Directory;

use super::account;
use super::connect::LinkError;
use super::groups;
use super::query::{Ask, Query, RawEntry};

/// The filter that finds a person, with the value escaped (RFC 4515 3).
pub(super) fn filter(directory: &Directory, value: &str) -> String {
    format!("(&{}({}={}))", directory.filter, directory.key, ldap_escape(value))
}

/// Looks a person up by key and value.
pub(super) async fn find(query: &mut Query<'_>, value: &str, now: Moment) -> Result<LookUpState, LinkError> {
    let directory = query.directory;
    let mut wanted: Vec<&str> = directory.attributes.iter().map(|(_, name)| name.as_str()).collect();
    wanted.extend(directory.groups.iter().flat_map(groups::of_person));
    let raw = match find_one(query, value, &wanted).await? {
        Ok(raw) => raw,
        Err(state) => return Ok(state),
    };
    let mut entry = to_entry(directory, &raw);
    if let Some(search) = &directory.groups {
        entry.groups = groups::find(query, search, &raw).await?;
    }
    Ok(match unusable(&raw, now) {
        Some(why) => LookUpState::Disabled { entry, why },
        None => LookUpState::Answered { entry },
    })
}

/// Why an entry's account may not be used, where it says so.
pub(super) fn unusable(raw: &RawEntry, now: Moment) -> Option<String> {
    let texts = account::ATTRIBUTES.iter().map(|name| (name.to_ascii_lowercase(), raw.texts(name))).collect();
    account::unusable(&texts, now)
}

/// The one entry that holds a value of the key, with these attributes beside the key and what tells of the account; or the
/// state that says why there is none.
pub(super) async fn find_one(
    query: &mut Query<'_>,
    value: &str,
    attributes: &[&str],
) -> Result<Result<RawEntry, LookUpState>, LinkError> {
    let directory = query.directory;
    if value.trim().is_empty() || value.len() > 256 {
        return Ok(Err(LookUpState::NoEntry));
    }
    let mut wanted = attributes.to_vec();
    wanted.push(&directory.key);
    wanted.extend(account::ATTRIBUTES);
    // Two entries are enough to know that there are several; a few more make the finding useful.
    let filter = filter(directory, value);
    let ask = Ask { base: &directory.base, scope: Scope::Subtree, filter: &filter, wanted: &wanted, max: 5 };
    let found = query.search(ask).await?;
    if found.entries.len() > 1 || found.more {
        return Ok(Err(LookUpState::Several { dns: found.entries.into_iter().map(|e| e.dn).collect() }));
    }
    let Some(raw) = found.entries.into_iter().next() else {
        return match found.passed_over.is_empty() {
            true => Ok(Err(LookUpState::NoEntry)),
            // Nobody here; whether there, nobody asked. Saying which server it is makes the remedy short.
            false => Err(LinkError::Unusable(format!(
                "nobody is found, and the directory refers to {}, which is not followed",
                found.passed_over.join(" ")
            ))),
        };
    };
    Ok(if holds(&raw, &directory.key, value) { Ok(raw) } else { Err(LookUpState::NoEntry) })
}

/// Keeps only what the site maps, and the key: evidence holds no more of a person than it needs. Values the site says are
/// bytes are kept as such, whether or not they happen to be text as well.
fn to_entry(directory: &Directory, raw: &RawEntry) -> Entry {
    let mut out = Entry { dn: raw.dn.clone(), ..Entry::default() };
    let wanted = directory.attributes.iter().map(|(_, name)| name).chain([&directory.key]);
    for name in wanted.map(|n| n.to_ascii_lowercase()) {
        let Some(values) = raw.attributes.get(&name) else { continue };
        let texts: Option<Vec<String>> = values.iter().map(|v| String::from_utf8(v.clone()).ok()).collect();
        match texts {
            _ if directory.is_bytes(&name) => {
                out.octets.insert(name, values.iter().map(|v| STANDARD.encode(v)).collect());
            }
            Some(texts) => {
                out.attributes.insert(name, texts);
            }
            None if out.binary.contains(&name) => {}
            None => out.binary.push(name),
        }
    }
    out
}

/// The directory's own matching may be looser than is safe (blanks, look-alikes): the entry must hold the value as it
/// is, letters compared without case.
fn holds(entry: &RawEntry, key: &str, value: &str) -> bool {
    let wanted = value.to_lowercase();
    entry.texts(key).iter().any(|v| v.to_lowercase() == wanted)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_entry_must_hold_the_value_itself() {
        let entry = RawEntry { dn: String::new(), attributes: [("uid".to_owned(), vec![b"Anouk".to_vec()])].into() };
        assert!(holds(&entry, "UID", "anouk"));
        assert!(!holds(&entry, "uid", "anouk "));
        assert!(!holds(&entry, "uid", "anou"));
        assert!(!holds(&entry, "mail", "anouk"));
    }
}
