//! Asking the directory, so that evidence holds what a gate needs.

use std::sync::Arc;

use passeur_core::Moment;
use passeur_core::evidence::{Evidence, LookUp, LookUpState, PersonKey};
use passeur_core::site::{Access, Asking, Dead, Disabled, Site};
use passeur_core::step;
use passeur_core::step::Step;
use passeur_links::ldap::DirectoryLink;
pub use passeur_links::ldap::Recall;
use passeur_store::StoreError;

use crate::engine::Engine;

/// What a person's provider said of them last, by itself, and from when that is.
pub async fn last_of_provider(engine: &Engine, person: &PersonKey) -> Result<Option<(Evidence, Moment)>, StoreError> {
    Ok(engine.store.latest_own_evidence(person).await?.map(|(e, recorded)| {
        let claimed = e.claimed(recorded);
        (e, claimed)
    }))
}

/// Looks the person up in the directory of a gate (or of the console) and puts the answer into the evidence. Nothing is
/// asked when none is named.
pub async fn complete(engine: &Engine, site: &Site, access: &Access, evidence: &mut Evidence) {
    ask(engine, site, access, evidence, Recall::Kept).await;
}

async fn ask(engine: &Engine, site: &Site, access: &Access, evidence: &mut Evidence, recall: Recall) {
    let Some(Asking { directory, .. }) = access.asking(site, evidence) else { return };
    let link = engine.directory(&directory.name);
    ask_by(engine, site, access, evidence, (link, recall)).await;
}

/// The same by a link to a directory that is not the live edition's.
pub async fn complete_by(
    engine: &Engine,
    site: &Site,
    access: &Access,
    evidence: &mut Evidence,
    link: Option<Arc<DirectoryLink>>,
) {
    ask_by(engine, site, access, evidence, (link, Recall::Kept)).await;
}

async fn ask_by(
    engine: &Engine,
    site: &Site,
    access: &Access,
    evidence: &mut Evidence,
    (link, recall): (Option<Arc<DirectoryLink>>, Recall),
) {
    let Some(Asking { directory, value, .. }) = access.asking(site, evidence) else { return };
    let look_up = match (value, link) {
        (Ok(value), Some(link)) => link.find(&value, recall).await,
        (key, link) => LookUp {
            directory: directory.name.clone(),
            key: directory.key.clone(),
            value: key.clone().ok(),
            at: engine.now(),
            millis: 0,
            cached: false,
            tried: vec![],
            asked: None,
            state: match (key, link) {
                (Err(absence), _) => LookUpState::NoKey { absence },
                (Ok(_), _) => LookUpState::Dead { detail: "the directory is not in use on this node".into() },
            },
        },
    };
    evidence.put_look_up(look_up);
}

/// Looks the person up where the evidence lacks what the gate needs. Whether it did.
pub async fn fill(engine: &Engine, site: &Site, access: &Access, evidence: &mut Evidence) -> bool {
    let lacks = lacks(site, access, evidence);
    if lacks {
        complete(engine, site, access, evidence).await;
    }
    lacks
}

/// What asking a directory again brought.
pub enum Again {
    /// Its answer counts now.
    Answered { before: Box<LookUp>, now: Box<LookUp> },
    /// It did not answer; what it said before still counts.
    Kept { before: Box<LookUp>, how: String },
}

impl Again {
    /// The step that tells of it.
    pub fn step(&self, site: &Site) -> Step {
        match self {
            Again::Answered { before, now } => {
                let (gained, lost) = now.moved_since(before, site.directory(&now.directory));
                step!(RightsReRead { directory: now.directory.as_str(), gained, lost })
            }
            Again::Kept { before, how } => step!(RightsKept {
                directory: before.directory.as_str(),
                how: how.as_str(),
                at: before.at.format("%H:%M:%S UTC").to_string()
            }),
        }
    }

    /// Whether the person is not in the directory any more, or may not be let in: a session on that is over.
    pub fn is_gone(&self, access: &Access) -> bool {
        let Again::Answered { now, .. } = self else { return false };
        match now.state {
            LookUpState::NoEntry => !access.without_directory,
            LookUpState::Disabled { .. } => access.disabled == Disabled::Refuse,
            _ => false,
        }
    }
}

/// Asks a gate's directory again: when what it said is older than the gate allows, or than the edition, and in any case when it is to be
/// asked anew. None where there was nothing to ask.
pub async fn again(
    engine: &Engine,
    site: &Site,
    access: &Access,
    evidence: &mut Evidence,
    since: Moment,
    recall: Recall,
) -> Option<Again> {
    let before = evidence.look_up(&access.asked(site, evidence)?.name)?.clone();
    let now = engine.now();
    if recall == Recall::Kept && now < before.at + access.re_read && before.at >= since {
        return None;
    }
    ask(engine, site, access, evidence, recall).await;
    let found = evidence.look_up(&before.directory)?.clone();
    let how = match &found.state {
        LookUpState::Dead { detail } | LookUpState::BindRefused { detail } | LookUpState::Unusable { detail } => detail.clone(),
        _ => return Some(Again::Answered { before: before.into(), now: found.into() }),
    };
    let counts = match access.dead {
        Dead::Keep => true,
        Dead::EndAfter(limit) => now < before.at + limit,
    };
    if counts && before.state.entry().is_some() {
        evidence.put_look_up(before.clone());
        return Some(Again::Kept { before: before.into(), how });
    }
    Some(Again::Answered { before: before.into(), now: found.into() })
}

/// Whether the evidence lacks a look-up that the gate needs, or the look-up lacks what is asked for by now.
fn lacks(site: &Site, access: &Access, evidence: &Evidence) -> bool {
    let asking = access.asking(site, evidence);
    asking.is_some_and(|a| !evidence.look_up(&a.directory.name).is_some_and(|l| l.covers(a.directory) && l.is_for(&a)))
}
