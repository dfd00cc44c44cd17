//! A trial of a directory on values that are not saved: one check after the other, each named, the first failure says
//! which value is wrong.

use ldap3::{Scope, SearchOptions};
use passeur_core::Moment;
use passeur_core::evidence::LookUpState;
use passeur_core::site::Directory;

use super::connect::{LinkError, bind, limit, open_each, result_words};
use super::person;
use super::query::Query;

/// What was tried.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum DirectoryCheck {
    Address,
    Account,
    Base,
    GroupBase,
    Person,
}

/// One check of a trial.
#[derive(Clone, Debug, PartialEq)]
pub struct DirectoryTrial {
    pub check: DirectoryCheck,
    pub outcome: Result<String, String>,
    /// For the sample person: what the look-up brought.
    pub look_up: Option<LookUpState>,
}

/// Tries address and TLS of every server; then, at the first that answers, the account, the bases, and a sample person where
/// one is given.
pub async fn try_directory(
    directory: &Directory,
    password: Option<&str>,
    sample: Option<&str>,
    now: Moment,
) -> Vec<DirectoryTrial> {
    let mut out = vec![];
    let mut note = |check, outcome, look_up| out.push(DirectoryTrial { check, outcome, look_up });
    let (servers, answering) = open_each(directory).await;
    for s in servers {
        let outcome = match s.answer {
            Ok(()) => Ok(format!("{} answers", s.address)),
            Err(e) => Err(format!("{}: {e}", s.address)),
        };
        note(DirectoryCheck::Address, outcome, None);
    }
    let Some(mut ldap) = answering else { return out };
    match bind(&mut ldap, directory, password).await {
        Ok(()) => {
            let who = directory.account.as_deref().unwrap_or("anonymous");
            note(DirectoryCheck::Account, Ok(format!("bound as {who}")), None);
        }
        Err(e) => {
            note(DirectoryCheck::Account, Err(e.to_string()), None);
            return out;
        }
    }
    let passwords: Vec<String> = password.map(str::to_owned).into_iter().collect();
    let mut query = Query::new(ldap, directory, &passwords);
    let mut good = true;
    let bases =
        [Some((DirectoryCheck::Base, &directory.base)), directory.groups.as_ref().map(|g| (DirectoryCheck::GroupBase, &g.base))];
    for (check, base) in bases.into_iter().flatten() {
        let outcome = base_exists(&mut query.ldap, base, directory).await;
        good &= outcome.is_ok();
        note(check, outcome, None);
    }
    if let Some(value) = sample.filter(|_| good) {
        let state = person::find(&mut query, value, now).await.unwrap_or_else(LinkError::state);
        let filter = person::filter(directory, value);
        let outcome = match &state {
            LookUpState::Answered { entry } => Ok(format!("{}, in {} groups", entry.dn, entry.groups.len())),
            LookUpState::Disabled { entry, why } => Ok(format!("{}, but {why}", entry.dn)),
            LookUpState::Several { dns } => Err(format!("{filter} finds {} entries: {}", dns.len(), dns.join("; "))),
            LookUpState::NoEntry => Err(format!("{filter} finds nothing under {}", directory.base)),
            LookUpState::BindRefused { detail } | LookUpState::Dead { detail } | LookUpState::Unusable { detail } => {
                Err(detail.clone())
            }
            LookUpState::NoKey { absence } => Err(absence.clone()),
        };
        note(DirectoryCheck::Person, outcome, Some(state));
    }
    out
}

pub(super) async fn base_exists(ldap: &mut ldap3::Ldap, base: &str, directory: &Directory) -> Result<String, String> {
    let limit = limit(directory);
    let options = SearchOptions::new().sizelimit(1);
    let found =
        ldap.with_timeout(limit).with_search_options(options).search(base, Scope::Base, "(objectClass=*)", vec!["1.1"]).await;
    match found {
        Ok(ldap3::SearchResult(_, r)) if matches!(r.rc, 0 | 4) => Ok(format!("{base} is there")),
        Ok(ldap3::SearchResult(_, r)) => Err(format!("{base}: {}", result_words(r.rc, &r.text))),
        Err(e) => Err(LinkError::from(e).to_string()),
    }
}
