//! Asking the directory, so that evidence holds what a gate needs.

use passeur_core::evidence::{Evidence, LookUp, LookUpState};
use passeur_core::identity::identify;
use passeur_core::site::{Access, Site};
use passeur_core::step::Silent;

use crate::app::App;

/// Looks the person up in the directory of a gate (or of the console) and puts the answer into the evidence. Nothing is
/// asked when none is named.
pub async fn complete(app: &App, site: &Site, access: &Access, evidence: &mut Evidence) {
    let Some(directory) = access.directory.as_ref().and_then(|d| site.directory(d)) else {
        return;
    };
    let who = identify(site, access, evidence, &mut Silent);
    let key = match who.attribute(directory.fed_by).values() {
        Ok([one]) => Ok(one.clone()),
        Ok(_) => Err("several-values".to_owned()),
        Err(absence) => Err(absence.code().to_owned()),
    };
    let look_up = match (key, app.directory(&directory.name)) {
        (Ok(value), Some(link)) => link.look_up(&value).await,
        (key, link) => LookUp {
            directory: directory.name.clone(),
            key: directory.key.clone(),
            value: key.clone().ok(),
            at: app.now(),
            millis: 0,
            cached: false,
            asked: None,
            state: match (key, link) {
                (Err(absence), _) => LookUpState::NoKey { absence },
                (Ok(_), _) => LookUpState::Dead { detail: "the directory is not in use on this node".into() },
            },
        },
    };
    evidence.look_ups.retain(|l| l.directory != directory.name);
    evidence.look_ups.push(look_up);
}

/// Whether the evidence lacks a look-up that the gate needs, or the look-up lacks what is asked for by now.
pub fn lacks(site: &Site, access: &Access, evidence: &Evidence) -> bool {
    let directory = access.directory.as_ref().and_then(|d| site.directory(d));
    directory.is_some_and(|d| !evidence.look_up(&d.name).is_some_and(|l| l.covers(d)))
}
