//! Rights of live sessions, read again: by order of an engineer, and for connections that ask nothing more (streams, idle
//! ones), whose next request would otherwise be the moment.

use std::collections::HashMap;
use std::sync::Arc;

use chrono::Duration;
use passeur_api::{ReRead, ReReadDirectory};
use passeur_core::Moment;
use passeur_core::circumstances::Circumstances;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::Evidence;
use passeur_core::site::Access;
use passeur_core::step::{Param, Step, StepCode};
use passeur_engine::attempt::Attempt;
use passeur_engine::ending;
use passeur_engine::grants::glance;
use passeur_engine::look_up::{self, Again};
use passeur_gateway::admission::Admission;
use passeur_live::edition::Edition;
use passeur_store::{SessionRow, StoreError};
use uuid::Uuid;

use crate::app::App;
use crate::signin::session;

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
pub async fn one(app: &App, edition: &Edition, mut row: SessionRow) -> Result<ReRead, StoreError> {
    loop {
        let mut answer = ReRead { session: row.id, name: row.name.clone(), ended: false, directories: vec![] };
        let Some(mut known) = session::read_evidence(&row) else { return Ok(answer) };
        let before = known.facts();
        let steps = ask_again(app, edition, &mut known, &mut answer).await;
        if answer.ended {
            ending::end(app, &[row.id], "the directory", None).await?;
            tell_end(app, &row, steps).await?;
            return Ok(answer);
        }
        if session::keep_evidence(app, &mut row, &known).await? {
            if known.facts() != before {
                changed(app, row.id).await?;
            }
            return Ok(answer);
        }
        // Somebody stored newer meanwhile: that is what is asked about.
        match app.store.session(row.id).await?.filter(|r| r.ended_at.is_none()) {
            Some(newer) => row = newer,
            None => return Ok(ReRead { ended: true, ..answer }),
        }
    }
}

/// Asks every directory that knows of somebody again; the steps that tell of it.
async fn ask_again(app: &App, edition: &Edition, known: &mut Evidence, answer: &mut ReRead) -> Vec<Step> {
    let mut steps = vec![];
    for access in asking(edition, known) {
        let Some(again) = look_up::again(app, &edition.site, access, known, edition.since, true).await else {
            continue;
        };
        steps.push(again.step(&edition.site));
        answer.ended |= again.is_gone(access);
        answer.directories.push(match &again {
            Again::Answered { before, now } => {
                let (gained, lost) = now.moved_since(before, edition.site.directory(&now.directory));
                ReReadDirectory { directory: now.directory.clone(), state: now.state.code().to_owned(), gained, lost }
            }
            Again::Kept { before, .. } => {
                ReReadDirectory { directory: before.directory.clone(), state: "dead".to_owned(), gained: vec![], lost: vec![] }
            }
        });
    }
    steps
}

/// What is known of a session changed: every node decides anew, and looks at what is open.
pub async fn changed(app: &App, id: Uuid) -> Result<(), StoreError> {
    app.store.rights_changed(&[id]).await?;
    app.catch_up().await
}

/// Looks at what connections and streams hold of sessions whose rights changed, and takes back what would not be given now.
/// An open stream asks nothing more, so nothing else would.
pub async fn review(app: &App, held: Vec<Arc<Admission>>) {
    let Some(edition) = app.live.get() else { return };
    let mut by_session: HashMap<Uuid, Vec<Arc<Admission>>> = HashMap::new();
    for a in held {
        by_session.entry(a.session.id).or_default().push(a);
    }
    for (id, admissions) in by_session {
        let row = match app.store.session(id).await {
            Ok(row) => row,
            Err(e) => {
                tracing::warn!(error = %e, "a session whose rights changed cannot be read; what is open on it is cut");
                None
            }
        };
        let known = row.and_then(|r| session::read_evidence(&r));
        for admission in admissions {
            if !known.as_ref().is_some_and(|k| still(app, &edition, &admission, k)) {
                admission.withdraw();
            }
        }
    }
}

/// Whether a gate would still let somebody in as it did. Where that depends on the single request, which nobody kept, the
/// connection is cut: it asks again, and is decided for what it asks.
fn still(app: &App, edition: &Edition, admission: &Admission, evidence: &Evidence) -> bool {
    let (site, name) = (&edition.site, admission.entry.gate());
    let (Some(gate), Some(view)) = (site.gate(name), edition.view(name)) else { return false };
    let at = Circumstances::at(app.now());
    view.is_blind() && glance(site, gate, evidence, &at).admits
}

/// The crossing of a session that the directory ended.
async fn tell_end(app: &App, row: &SessionRow, steps: Vec<Step>) -> Result<(), StoreError> {
    let mut attempt = Attempt::of_session(app, row);
    for step in steps {
        attempt.step(|| step);
    }
    attempt.step(|| Step::new(StepCode::SignedOut).with("by", Param::reason("directory")).with("who", row.name.as_str()));
    attempt.record(Outcome::SignedOut).await
}

/// Sessions that were looked after, and when.
pub type LookedAfter = HashMap<Uuid, Moment>;

/// Looks after sessions that somebody holds a connection for and that are due: ends those whose person is gone, and lets
/// the others be decided anew.
pub async fn look_after(app: &App, done: &mut LookedAfter) -> Result<(), StoreError> {
    let Some(edition) = app.live.get() else { return Ok(()) };
    let now = app.now();
    done.retain(|_, at| *at > now - Duration::days(1));
    let mut due: Vec<Uuid> = vec![];
    for admission in app.table.held() {
        let Some(gate) = edition.site.gate(admission.entry.gate()) else { continue };
        let id = admission.session.id;
        let passed = admission.good_until.is_some_and(|until| until <= now);
        let rested = done.get(&id).is_none_or(|at| *at + gate.access.re_read <= now);
        if !gate.access.directories.is_empty() && passed && rested && !due.contains(&id) && due.len() < AT_A_TIME {
            due.push(id);
        }
    }
    for id in due {
        done.insert(id, now);
        if let Some(row) = app.store.session(id).await?.filter(|r| r.ended_at.is_none()) {
            one(app, &edition, row).await?;
        }
    }
    Ok(())
}
