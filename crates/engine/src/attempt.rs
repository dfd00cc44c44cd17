//! An attempt while it happens: collects steps with their times, and becomes a recorded crossing exactly once.

use std::net::IpAddr;

use passeur_core::Moment;
use passeur_core::circumstances::RequestFacts;
use passeur_core::crossing::{Outcome, deciding};
use passeur_core::evidence::Evidence;
use passeur_core::id::CrossingId;
use passeur_core::recorder::Alike;
use passeur_core::site::Place;
use passeur_core::step;
use passeur_core::step::{Lang, Step, StepCode, Story, Witness};
use passeur_store::{NewCrossing, StoreError};
use uuid::Uuid;

use crate::engine::Engine;

/// Who it turned out to be.
#[derive(Clone, Debug)]
pub struct Who {
    pub provider: String,
    pub subject: String,
    pub name: String,
}

/// A crossing that has not ended.
pub struct Attempt {
    engine: Engine,
    pub id: CrossingId,
    began: Moment,
    pub place: Place,
    edition: i32,
    pub lang: Lang,
    pub address: IpAddr,
    pub agent: String,
    method: String,
    target: String,
    pub story: Story,
    pub who: Option<Who>,
    pub provider: Option<String>,
    pub session: Option<Uuid>,
    /// Where the person may choose another way in, where there is one.
    pub another: Option<String>,
    evidence: Option<Evidence>,
    /// What came back as received, where a trial wants it.
    raw: Option<Vec<(String, String)>>,
}

impl Attempt {
    /// Begins an attempt at a place with its first step.
    pub fn begin(engine: &Engine, place: Place, facts: &RequestFacts) -> Attempt {
        let arrived = arrived(&place, facts);
        let mut a = Attempt::resume(engine, place, facts, engine.new_crossing(), engine.now());
        a.step(|| arrived);
        if let Some(field) = facts.not_believed {
            a.step(|| {
                step!(ProxyFieldIgnored { field: field.name(), wanted: field.other().name(), address: facts.address.to_string() })
            });
        }
        a
    }

    /// An attempt that nobody made: what the service does to a session by itself.
    pub fn of_session(engine: &Engine, row: &passeur_store::SessionRow) -> Attempt {
        let address = row.address.parse().unwrap_or(IpAddr::from([0, 0, 0, 0]));
        let facts = RequestFacts::of_nobody(address, &row.agent);
        let mut a = Attempt::resume(engine, Place::SignIn, &facts, engine.new_crossing(), engine.now());
        a.is_of(row);
        a
    }

    /// Notes whose session it is of.
    pub fn is_of(&mut self, row: &passeur_store::SessionRow) {
        self.who = Some(Who { provider: row.provider.clone(), subject: row.subject.clone(), name: row.name.clone() });
        self.session = Some(row.id);
    }

    /// Goes on with an attempt that began in another request.
    pub fn resume(engine: &Engine, place: Place, facts: &RequestFacts, id: CrossingId, began: Moment) -> Attempt {
        Attempt {
            engine: engine.clone(),
            id,
            began,
            place,
            edition: engine.live.get().map_or(0, |e| e.number),
            lang: facts.lang,
            address: facts.address,
            agent: facts.agent.clone(),
            method: facts.method.clone(),
            target: strip_query(&facts.target),
            story: Story::default(),
            who: None,
            provider: None,
            session: None,
            another: None,
            evidence: None,
            raw: None,
        }
    }

    /// Makes of what came so far an attempt of its own, that begins now.
    pub fn apart(&mut self) {
        (self.id, self.began) = (self.engine.new_crossing(), self.engine.now());
        for step in &mut self.story.steps {
            step.at = 0;
        }
    }

    /// From now on what comes back is kept as received.
    pub fn keep_raw(&mut self) {
        self.raw = Some(vec![]);
    }

    /// Whether it is.
    pub fn keeps_raw(&self) -> bool {
        self.raw.is_some()
    }

    /// Keeps something as received, where that is wanted.
    pub fn received(&mut self, name: &str, text: impl FnOnce() -> String) {
        if let Some(raw) = &mut self.raw {
            raw.push((name.to_owned(), text()));
        }
    }

    /// What was kept.
    pub fn take_raw(&mut self) -> Vec<(String, String)> {
        self.raw.take().unwrap_or_default()
    }

    /// Puts the steps of an earlier request first.
    pub fn preface(&mut self, method: &str, target: &str, steps: Vec<Step>) {
        self.method = method.to_owned();
        self.target = strip_query(target);
        self.story.steps = steps;
    }

    /// The witness, with its time set.
    pub fn witness(&mut self) -> &mut Story {
        self.story.at = (self.engine.now() - self.began).num_milliseconds().clamp(0, i64::from(u32::MAX)) as u32;
        &mut self.story
    }

    /// Tells a step.
    pub fn step(&mut self, make: impl FnOnce() -> Step) {
        self.witness().step(make);
    }

    /// When it began.
    pub fn began(&self) -> Moment {
        self.began
    }

    /// Notes what is known of the person.
    pub fn set_evidence(&mut self, evidence: &Evidence) {
        self.evidence = Some(evidence.clone());
    }

    fn row(&self, outcome: Outcome) -> NewCrossing {
        let steps = &self.story.steps;
        NewCrossing {
            day: self.id.day(),
            id: self.id.to_string(),
            at: self.began,
            ended_at: self.engine.now(),
            gate: self.place.to_string(),
            edition: self.edition,
            node: self.engine.node.clone(),
            outcome: outcome.code().to_owned(),
            provider: self.who.as_ref().map(|w| w.provider.clone()).or_else(|| self.provider.clone()),
            subject: self.who.as_ref().map(|w| w.subject.clone()),
            person: self.who.as_ref().map(|w| w.name.clone()),
            session_id: self.session,
            address: self.address.to_string(),
            method: self.method.clone(),
            target: passeur_core::text::shorten(&self.target, 500),
            steps: serde_json::to_value(steps).unwrap_or_default(),
            deciding: deciding(steps).or(steps.len().checked_sub(1)).and_then(|i| serde_json::to_value(&steps[i]).ok()),
            evidence: self.evidence.as_ref().map(|e| e.hash().to_vec()),
        }
    }

    /// Records an attempt with a proven identity or a provider's answer, before the person sees anything.
    ///
    /// # Errors
    /// When it cannot be written: the caller refuses then.
    pub async fn record(&mut self, outcome: Outcome) -> Result<(), StoreError> {
        let evidence = self.evidence.as_ref().map(|e| (e.hash(), serde_json::to_value(e).unwrap_or_default()));
        let mut done = self.engine.recorder.durable(self.row(outcome), evidence.clone()).await;
        if let Err(StoreError::Conflict) = done {
            // The page was loaded again and its attempt is recorded already: this is another one.
            self.id = self.engine.new_crossing();
            done = self.engine.recorder.durable(self.row(outcome), evidence).await;
        }
        done.inspect_err(|e| {
            tracing::error!(error = %e, crossing = %self.id, "a crossing could not be recorded; the attempt is refused");
        })
    }

    /// Whether a step was taken.
    pub fn has_step(&self, code: StepCode) -> bool {
        self.story.steps.iter().any(|s| s.code == code)
    }

    /// Records an attempt that now waits for the provider.
    pub fn record_waiting(&self) {
        // What is waited for is part of it: a sign-in that goes on is told as far as it came.
        let last = self.story.steps.last().map_or(StepCode::Arrived, |s| s.code);
        let alike = Alike::new(&self.place.to_string(), &format!("waiting {}", last.spec().code), self.address);
        self.engine.recorder.waiting(alike, self.id, self.engine.now(), || self.row(Outcome::Waiting));
    }

    /// Records an attempt that ended. With an identity it is durable. Without one it is durable as well, up to a number
    /// a minute: whoever holds a browser can make a provider refuse as often as they like, and may not fill the store.
    pub async fn record_ended(&mut self, outcome: Outcome) -> Result<CrossingId, StoreError> {
        if self.who.is_some() || self.engine.recorder.may_write_unidentified(self.address, self.engine.now()) {
            self.record(outcome).await.map(|()| self.id)
        } else {
            Ok(self.record_anonymous(outcome))
        }
    }

    /// Records an anonymous attempt through the bounded recorder. Returns the crossing to name.
    pub fn record_anonymous(&self, outcome: Outcome) -> CrossingId {
        self.record_alike(outcome, "")
    }

    /// The same, where only what was done with the same thing counts as alike: a token's owner is told of their own attempts.
    pub fn record_alike(&self, outcome: Outcome, thing: &str) -> CrossingId {
        let last = self.story.steps.last();
        let mut reason = last.map_or(StepCode::Arrived, |s| s.code).spec().code.to_owned();
        // An upstream that fails in another way, or another upstream, is another story.
        for name in ["upstream", "how", "check"] {
            if let Some(p) = last.and_then(|s| s.params.get(name)) {
                reason.push('|');
                reason.push_str(&passeur_core::step::param_text(p, Lang::En));
            }
        }
        reason.push_str(thing);
        let alike = Alike::new(&self.place.to_string(), &reason, self.address);
        self.engine.recorder.anonymous(alike, self.id, self.engine.now(), || self.row(outcome))
    }
}

/// Adds steps to a recorded crossing, at the time that passed since it began.
///
/// # Errors
/// They could not be written.
pub async fn extend(engine: &Engine, id: CrossingId, mut steps: Vec<Step>) -> Result<(), StoreError> {
    let now = engine.now();
    if let Some((line, _, _)) = engine.store.crossing(id).await? {
        let at = (now - line.at).num_milliseconds().clamp(0, i64::from(u32::MAX)) as u32;
        steps.iter_mut().for_each(|s| s.at = at);
    }
    engine.store.extend(id, serde_json::to_value(&steps).unwrap_or_default(), now).await
}

/// The first step of an attempt at a place.
pub fn arrived(place: &Place, facts: &RequestFacts) -> Step {
    step!(Arrived {
        method: facts.method.as_str(),
        target: passeur_core::text::shorten(&strip_query(&facts.target), 500),
        gate: place.to_string(),
        address: facts.address.to_string(),
        agent: facts.agent.as_str()
    })
}

/// The path without its query: queries carry what people search for, and sometimes secrets.
fn strip_query(target: &str) -> String {
    match target.split_once('?') {
        Some((path, _)) => format!("{path}?…"),
        None => target.to_owned(),
    }
}
