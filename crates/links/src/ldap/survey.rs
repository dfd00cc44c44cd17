//! A look at a directory as a whole, for the survey: every server, the account, the bases, somebody who came of late, and
//! whether the groups that rules name are there.

use std::collections::BTreeSet;

use ldap3::Scope;
use passeur_core::Moment;
use passeur_core::evidence::LookUpState;
use passeur_core::site::{GroupSearch, Nested};

use super::connect::{LinkError, ServerLook, bind, open_each};
use super::query::{Ask, Query};
use super::trial::base_exists;
use super::{DirectoryLink, groups, person};

/// What was seen.
#[derive(Clone, Debug, Default)]
pub struct DirectoryLook {
    pub servers: Vec<ServerLook>,
    /// Binding the account at the first server that answers.
    pub account: Option<Result<(), String>>,
    /// Bases that are not there, or may not be read.
    pub bases: Vec<String>,
    pub sample: Option<Result<(), String>>,
    /// Groups that are not there, by the name rules know them by.
    pub missing_groups: Vec<String>,
    /// Whether it says that it matches in chains; none where nobody wants that.
    pub chain: Option<bool>,
}

impl DirectoryLink {
    /// Looks at the directory on connections of its own. `named` are the groups that rules name.
    pub async fn look(&self, sample: Option<&str>, named: &BTreeSet<String>, now: Moment) -> DirectoryLook {
        let mut out = DirectoryLook::default();
        let directory = &self.directory;
        let (servers, answering) = open_each(directory).await;
        out.servers = servers;
        let Some(mut ldap) = answering else { return out };
        // The password in use alone: each refusal counts towards the account being locked.
        if let Err(e) = bind(&mut ldap, directory, self.passwords.first().map(String::as_str)).await {
            out.account = Some(Err(e.to_string()));
            return out;
        }
        out.account = Some(Ok(()));
        let mut query = Query::new(ldap, directory, &self.passwords);
        for base in [Some(&directory.base), directory.groups.as_ref().map(|g| &g.base)].into_iter().flatten() {
            out.bases.extend(base_exists(&mut query.ldap, base, directory).await.err());
        }
        if let Some(value) = sample {
            out.sample = Some(match person::find(&mut query, value, now).await.unwrap_or_else(LinkError::state) {
                LookUpState::Answered { .. } | LookUpState::Disabled { .. } => Ok(()),
                LookUpState::NoEntry => Err(format!("{} finds nothing", person::filter(directory, value))),
                LookUpState::Several { dns } => Err(format!("several entries: {}", dns.join("; "))),
                LookUpState::BindRefused { detail } | LookUpState::Dead { detail } | LookUpState::Unusable { detail } => {
                    Err(detail)
                }
                LookUpState::NoKey { absence } => Err(absence),
            });
        }
        if let Some(search) = directory.groups.as_ref().filter(|_| out.bases.is_empty()) {
            match missing(&mut query, search, named).await {
                Ok(missing) => out.missing_groups = missing,
                Err(e) => out.bases.push(e.to_string()),
            }
            if search.nested == Nested::Chain {
                out.chain = groups::in_chain(&mut query).await.ok();
            }
        }
        let _ = query.ldap.unbind().await;
        out
    }
}

/// Groups that the directory does not have. Names of another directory, by prefix and suffix, are not asked for.
async fn missing(query: &mut Query<'_>, search: &GroupSearch, named: &BTreeSet<String>) -> Result<Vec<String>, LinkError> {
    let strip = |name: &str| -> Option<String> {
        let (prefix, suffix) = (search.prefix.to_lowercase(), search.suffix.to_lowercase());
        let name = name.to_lowercase();
        name.strip_prefix(&prefix)?.strip_suffix(&suffix).map(str::to_owned)
    };
    let mut out: Vec<String> = vec![];
    let mut mine: Vec<(&String, String)> = vec![];
    for name in named {
        match strip(name) {
            Some(bare) => mine.push((name, bare)),
            None => out.push(name.clone()),
        }
    }
    for chunk in mine.chunks(groups::VALUES_A_SEARCH) {
        let filter = groups::any_is(&search.name, chunk.iter().map(|(_, bare)| bare.as_str()));
        let wanted = [search.name.as_str()];
        let ask = Ask { base: &search.base, scope: Scope::Subtree, filter: &filter, wanted: &wanted, max: 1_000 };
        let found = query.search(ask).await?;
        let there: BTreeSet<String> =
            found.entries.iter().flat_map(|e| e.texts(&search.name)).map(|n| n.to_lowercase()).collect();
        out.extend(chunk.iter().filter(|(_, bare)| !there.contains(bare)).map(|(name, _)| (*name).clone()));
    }
    Ok(out)
}
