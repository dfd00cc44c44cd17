//! Rights of live sessions, read again: by order of an engineer, and for connections that ask nothing more (streams, idle
//! ones), whose next request would otherwise be the moment.

use std::collections::HashMap;

use crate::attempt::Attempt;
use crate::devices;
use crate::ending;
use crate::look_up::{self, Again, Recall};
use chrono::Duration;
use passeur_core::Moment;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::{Evidence, LookUpState};
use passeur_core::site::Access;
use passeur_core::step;
use passeur_core::step::{Param, Step};
use passeur_live::edition::Edition;
use passeur_store::{SessionRow, StoreError};
use uuid::Uuid;

use crate::engine::{Engine, Holders};
use crate::sessions;

/// What reading the rights of a session again brought.
pub struct ReRead {
    pub session: Uuid,
    /// What the person is called.
    pub name: String,
    /// Whether the person is gone from a directory, or the session was ended by somebody else meanwhile.
    pub ended: bool,
    pub directories: Vec<AskedAgain>,
}

/// What a directory said when it was asked again; what it said before still counts where it did not answer.
pub struct AskedAgain {
    pub directory: String,
    /// None where it did not answer.
    pub state: Option<LookUpState>,
    pub gained: Vec<String>,
    pub lost: Vec<String>,
}

/// The most sessions looked after at a time.
const AT_A_TIME: usize = 200;

/// Accesses of the edition that ask a directory for somebody, each directory once.
fn asking<'a>(edition: &'a Edition, known: &Evidence) -> Vec<&'a Access> {
    let site = &edition.site;
    let mut seen: Vec<&str> = vec![];
    let mut out: Vec<&Access> = vec![];
    for access in site.accesses().filter(|a| a.takes(site, known)) {
        let Some(directory) = access.asked(site, known) else { continue };
        if !seen.contains(&directory.name.as_str()) {
            seen.push(&directory.name);
            out.push(access);
        }
    }
    out
}

/// Reads the rights of a session again now. Every node decides anew; a session whose person is gone is ended everywhere.
pub async fn one(engine: &Engine, edition: &Edition, mut row: SessionRow) -> Result<ReRead, StoreError> {
    loop {
        let mut answer = ReRead { session: row.id, name: row.name.clone(), ended: false, directories: vec![] };
        let Some(mut known) = sessions::read_evidence(&row) else { return Ok(answer) };
        let before = known.facts();
        let steps = ask_again(engine, edition, &mut known, &mut answer).await;
        devices::again(engine, &edition.site, &mut known).await;
        if answer.ended {
            ending::end(engine, &[row.id], "the directory", None).await?;
            record_end(engine, &row, steps).await?;
            return Ok(answer);
        }
        if sessions::keep_evidence(engine, &mut row, &known).await? {
            if known.facts() != before {
                changed(engine, row.id).await?;
            }
            return Ok(answer);
        }
        // Somebody stored newer meanwhile: that is what is asked about.
        match engine.store.session(row.id).await?.filter(|r| r.ended_at.is_none()) {
            Some(newer) => row = newer,
            None => return Ok(ReRead { ended: true, ..answer }),
        }
    }
}

/// Asks every directory that knows of somebody again; the steps that tell of it.
async fn ask_again(engine: &Engine, edition: &Edition, known: &mut Evidence, answer: &mut ReRead) -> Vec<Step> {
    let mut steps = vec![];
    for access in asking(edition, known) {
        let Some(again) = look_up::again(engine, &edition.site, access, known, edition.since, Recall::Anew).await else {
            continue;
        };
        steps.push(again.step(&edition.site));
        answer.ended |= again.is_gone(access);
        answer.directories.push(match &again {
            Again::Answered { before, now } => {
                let (gained, lost) = now.moved_since(before, edition.site.directory(&now.directory));
                AskedAgain { directory: now.directory.clone(), state: Some(now.state.clone()), gained, lost }
            }
            Again::Kept { before, .. } => {
                AskedAgain { directory: before.directory.clone(), state: None, gained: vec![], lost: vec![] }
            }
        });
    }
    steps
}

/// What is known of a session changed: every node decides anew, and looks at what is open.
pub async fn changed(engine: &Engine, id: Uuid) -> Result<(), StoreError> {
    engine.store.rights_changed(&[id]).await?;
    engine.catch_up().await
}

/// The crossing of a session that the directory ended.
async fn record_end(engine: &Engine, row: &SessionRow, steps: Vec<Step>) -> Result<(), StoreError> {
    let mut attempt = Attempt::of_session(engine, row);
    for step in steps {
        attempt.step(|| step);
    }
    attempt.step(|| step!(SignedOut { by: Param::reason("directory"), who: row.name.as_str() }));
    attempt.record(Outcome::SignedOut).await
}

/// Sessions that were looked after, and when.
pub type LookedAfter = HashMap<Uuid, Moment>;

/// Looks after sessions that somebody holds a connection for and that are due: ends those whose person is gone, and lets
/// the others be decided anew.
pub async fn look_after(engine: &Engine, done: &mut LookedAfter) -> Result<(), StoreError> {
    let Some(edition) = engine.live.get() else { return Ok(()) };
    let now = engine.now();
    done.retain(|_, at| *at > now - Duration::days(1));
    let mut due: Vec<Uuid> = vec![];
    for held in engine.holders().map(Holders::held).unwrap_or_default() {
        let Some(gate) = edition.site.gate(&held.gate) else { continue };
        let id = held.session;
        let passed = held.good_until.is_some_and(|until| until <= now);
        let rested = done.get(&id).is_none_or(|at| *at + gate.access.re_read <= now);
        if passed && rested && !due.contains(&id) && due.len() < AT_A_TIME && gate.access.is_read_again() {
            due.push(id);
        }
    }
    for id in due {
        done.insert(id, now);
        if let Some(row) = engine.store.session(id).await?.filter(|r| r.ended_at.is_none()) {
            one(engine, &edition, row).await?;
        }
    }
    Ok(())
}
