//! Past crossings and people against an edition: facts from the store, verdicts from core, nothing changed.
//!
//! Crossings are read page by page. Equal facts at the same gate are evaluated once; what became of them is added up by
//! person. The evaluating is done off the data path, one rehearsal of each engineer at a time.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Instant;

use chrono::{DateTime, Utc};
use passeur_api::Affected;
use passeur_core::Moment;
use passeur_core::circumstances::Circumstances;
use passeur_core::compare::ChangedSource;
use passeur_core::decide::RequestView;
use passeur_core::evidence::Evidence;
use passeur_core::rehearse::{Effects, because, effects, try_after, try_at};
use passeur_core::site::{Place, Site};
use passeur_core::step::Lang;
use passeur_core::tunnel::TunnelFacts;
use passeur_store::PastCrossing;

use crate::api::errors::ApiError;

use crate::app::App;
use crate::computing::off_the_data_path;

/// The most crossings of one rehearsal.
const CROSSINGS_MAX: usize = 1_000_000;
/// The most people kept of one kind, and shown of it.
const PEOPLE_MAX: usize = 20_000;
const SHOWN_MAX: usize = 500;

/// The editions that are tried against each other.
#[derive(Clone)]
pub struct Pair {
    pub before: Arc<Site>,
    pub after: Arc<Site>,
    /// Sources that are others in the one than in the other.
    pub changed: Arc<Vec<ChangedSource>>,
    pub lang: Lang,
}

/// What becomes of equal facts at a gate: found out once.
struct Fate {
    effects: Effects,
    now: String,
    then: String,
}

/// What was found, added up.
#[derive(Default)]
pub struct Sums {
    pub crossings: i64,
    pub distinct: i64,
    pub millis: u64,
    pub same: i64,
    pub refused: People,
    pub admitted: People,
    pub differs: People,
    pub not_known: People,
}

/// People of one kind.
#[derive(Default)]
pub struct People {
    pub crossings: i64,
    all: HashMap<(String, String, String), Affected>,
}

impl People {
    fn add(&mut self, of: &Past, fate: &Fate, lang: Lang) {
        self.crossings += 1;
        let key = (of.gate.clone(), of.provider.clone(), of.subject.clone());
        if self.all.len() >= PEOPLE_MAX && !self.all.contains_key(&key) {
            return;
        }
        let person = self.all.entry(key).or_insert_with(|| Affected {
            gate: of.gate.clone(),
            person: of.person.clone(),
            provider: of.provider.clone(),
            subject: of.subject.clone(),
            crossings: 0,
            last: DateTime::<Utc>::MIN_UTC,
            crossing: String::new(),
            now: String::new(),
            then: String::new(),
            what: vec![],
        });
        person.crossings += 1;
        if of.at >= person.last {
            (person.last, person.crossing) = (of.at, of.id.clone());
            (person.now, person.then, person.what) = (fate.now.clone(), fate.then.clone(), fate.effects.what(lang));
        }
    }

    /// Those with the most crossings first.
    pub fn shown(self) -> Vec<Affected> {
        let mut all: Vec<Affected> = self.all.into_values().collect();
        all.sort_by(|a, b| b.crossings.cmp(&a.crossings).then_with(|| (&a.person, &a.gate).cmp(&(&b.person, &b.gate))));
        all.truncate(SHOWN_MAX);
        all
    }
}

/// One past crossing, read.
struct Past {
    id: String,
    at: Moment,
    gate: String,
    person: String,
    provider: String,
    subject: String,
}

/// Gate, facts, how the request looks to both editions, and the moment where time decides.
type Alike = (String, [u8; 32], [u64; 2], i64);

/// Fates by what makes crossings alike.
#[derive(Default)]
struct Known {
    fates: HashMap<Alike, Arc<Fate>>,
    /// What the two editions' conditions ask of requests, by gate.
    views: HashMap<String, [RequestView; 2]>,
    sums: Sums,
}

impl Known {
    fn take(&mut self, pair: &Pair, page: Vec<PastCrossing>) {
        for row in page {
            // Evidence of a format that this binary does not know is passed over, as everywhere.
            let Some(evidence) = Evidence::from_stored_text(&row.evidence) else { continue };
            let path = row.target.trim_end_matches("?…");
            let tunnel = TunnelFacts::of_target(&row.method, &row.target);
            let at = Circumstances {
                now: row.at,
                address: row.address.parse().ok(),
                method: &row.method,
                path,
                tunnel: tunnel.as_ref(),
            };
            let place = Place::parse(&row.gate);
            let views = self
                .views
                .entry(row.gate.clone())
                .or_insert_with(|| [&pair.before, &pair.after].map(|site| RequestView::at(site, &place)));
            // Where time decides as well, no two crossings are alike for certain.
            let timed = views.iter().any(RequestView::is_timed);
            let facts = if timed { evidence.hash() } else { evidence.facts() };
            let moment = if timed { row.at.timestamp_millis() } else { 0 };
            let key = (row.gate.clone(), facts, views.each_ref().map(|v| v.look(&at)), moment);
            let fate = self.fates.entry(key).or_insert_with(|| {
                self.sums.distinct += 1;
                Arc::new(fate(pair, &place, &evidence, &at))
            });
            let fate = fate.clone();
            let past = Past {
                id: row.id,
                at: row.at,
                gate: row.gate,
                person: row.person,
                provider: evidence.provider,
                subject: evidence.subject,
            };
            self.sums.crossings += 1;
            let people = match fate.effects {
                Effects::Same => {
                    self.sums.same += 1;
                    continue;
                }
                Effects::Refused => &mut self.sums.refused,
                Effects::Admitted => &mut self.sums.admitted,
                Effects::Differs(_) => &mut self.sums.differs,
                Effects::NotKnown(_) => &mut self.sums.not_known,
            };
            people.add(&past, &fate, pair.lang);
        }
    }
}

fn fate(pair: &Pair, place: &Place, evidence: &Evidence, at: &Circumstances<'_>) -> Fate {
    let Pair { before, after, changed, lang } = pair;
    let then = try_after(after, changed, place, evidence, at);
    let effects = effects(&try_at(before, place, evidence, at), &then, *lang);
    // Most fare alike, and nobody asks why.
    let told = |site| if effects == Effects::Same { String::new() } else { because(site, place, evidence, at, *lang) };
    Fate { now: told(before), then: told(after), effects }
}

/// Rehearses every crossing since a moment on which rules decided. Page by page, so that a long one lets others' turn come.
pub async fn past(app: &App, whose: &str, pair: Pair, since: Moment, gate: Option<&str>) -> Result<Sums, ApiError> {
    let began = Instant::now();
    let mut known = Known::default();
    let mut pages = app.store.past_crossings(since, gate);
    let mut read = 0;
    while read < CROSSINGS_MAX
        && let Some(page) = pages.next().await?
    {
        read += page.len();
        let (pair, mut so_far) = (pair.clone(), std::mem::take(&mut known));
        known = off_the_data_path(app, whose, move || {
            so_far.take(&pair, page);
            so_far
        })
        .await?;
    }
    known.sums.millis = began.elapsed().as_millis() as u64;
    Ok(known.sums)
}
