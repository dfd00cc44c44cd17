//! A sign-in as a value. [`Journey`] is one attempt to sign in, and its state is a type that holds exactly what is then known:
//!
//! ```text
//!            by a gate's ask, or from the quay and the console
//!                               │
//!                               ▼            a live session will do
//!                            [Asked] ─────────────────────────────────┐
//!                               │ a way in: route, choice, or the     │
//!                               │ one that is missing something       │
//!                               ▼                                     │
//!    to a provider or a     [OnTheWay<B>]   sealed into the browser   │
//!    form of ours               │                                     │
//!                               ▼  same browser, in time, once        │
//!                          [Answered<B>]                              │
//!                               │ checked: the provider's word,       │
//!                               │ a password, a code, a ticket        │
//!                               ▼                                     ▼
//!    a provider's own word → [Proven] ── a session begins ─────→ [Known]
//!                                                                     │ look-up, rules (engine::grants)
//!              more is missing: back to [Asked] ←─────────────────────┤
//!                                                                     ▼
//!                                                             [HandedBack]
//! ```
//!
//! `B` is the kind of leg ([`flow`]): OpenID Connect, SAML, a form of ours, the page for a name, a factor of our own. Whatever goes wrong
//! is a [`Why`], which `?` carries up to where the journey is; that makes a [`Stop`] of both, and [`crate::answer`] is the one function
//! that turns it into what the browser sees.

pub mod begin;
pub mod choose;
mod desk;
pub mod destination;
pub mod enter;
pub mod flow;
pub mod fresh;
pub mod hand_back;
pub mod routed;
pub mod start;
pub mod step_up;
mod stop;

use chrono::{DateTime, Duration, Utc};
use passeur_core::address::neighbourhood;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::Evidence;
use passeur_core::site::Site;
use passeur_core::step;
use passeur_core::step::{Step, StepCode};
use passeur_engine::Engine;
use passeur_engine::attempt::Attempt;
use passeur_engine::sessions::Session;
use passeur_http::cookies::{self, Found};
use passeur_store::StoreError;

pub use desk::{Desk, Incoming};
pub use destination::{Again, Ask, Destination};
pub use enter::ProviderSession;
pub use flow::{Flow, Kind, Leg, Manner};
pub use stop::{Stop, Why};

use crate::Visit;

/// What a step of a journey comes to.
pub type Done<'a, T = axum::response::Response> = Result<T, Box<Stop<'a>>>;

/// An attempt to sign in; `S` says how far it has come.
pub struct Journey<'a, S> {
    pub desk: Desk<'a>,
    pub attempt: Attempt,
    pub to: Destination,
    pub state: S,
}

/// Where it leads is known. Who comes is not.
pub struct Asked;

/// The browser was sent to a provider, or shown a form of ours, and this is sealed into it.
pub struct OnTheWay<B>(pub Leg<B>);

/// The browser came back with what was sealed into it.
pub struct Answered<B>(pub Leg<B>);

/// Who comes is proven.
pub struct Proven {
    pub evidence: Evidence,
    /// What a session keeps of its counterpart.
    pub provider: ProviderSession,
}

/// A live session here is of this person.
pub struct Known(pub Session);

/// The gate takes the browser back with the one-time code in this address.
pub struct HandedBack {
    pub address: String,
}

impl<'a, S> Journey<'a, S> {
    /// The same journey, in another state.
    pub fn with<T>(self, state: T) -> Journey<'a, T> {
        self.turn(|_| state)
    }

    /// The same journey, in a state that comes of the one before.
    pub fn turn<T>(self, next: impl FnOnce(S) -> T) -> Journey<'a, T> {
        let Journey { desk, attempt, to, state } = self;
        Journey { desk, attempt, to, state: next(state) }
    }

    /// The node.
    pub fn engine(&self) -> &'a Engine {
        self.desk.engine
    }

    /// The site of the edition.
    pub fn site(&self) -> &'a Site {
        self.desk.site()
    }

    /// Tells a step.
    pub fn step(&mut self, make: impl FnOnce() -> Step) {
        self.attempt.step(make);
    }

    /// Ends the journey.
    pub fn stop(self, why: impl Into<Why>) -> Box<Stop<'a>> {
        Box::new(Stop { desk: self.desk, attempt: self.attempt, to: Some(self.to), why: why.into(), cookies: vec![] })
    }

    /// Goes on with what was found, or ends the journey.
    pub fn go_on_with<T>(self, found: Result<T, impl Into<Why>>) -> Done<'a, (Journey<'a, S>, T)> {
        match found {
            Ok(found) => Ok((self, found)),
            Err(why) => Err(self.stop(why)),
        }
    }

    /// Computes what somebody who has proved nothing can ask for: see [`passeur_engine::workers`]. Where it is not computed, that is told.
    pub async fn compute<T: Send + 'static>(&mut self, task: impl FnOnce() -> T + Send + 'static) -> Result<T, Why> {
        compute(self.desk.engine, &mut self.attempt, task).await
    }

    /// Seals a leg that begins now, in the browser that holds this binding. Where the text is longer than `max`, the address asked for is
    /// given up for the front page.
    pub fn send<B: Kind>(self, by: B, browser: &str, manner: Manner, max: usize) -> (Journey<'a, OnTheWay<B>>, String) {
        let leg = Leg::begin(self.desk.engine, by, browser, manner);
        let mut journey = self.with(OnTheWay(leg));
        let sealed = Flow::seal(journey.desk.engine, &journey.attempt, &mut journey.to, &journey.state.0, max);
        (journey, sealed)
    }

    /// Writes what was told so far before somebody who is known is sent to be asked for more, so that it is told when they come back.
    ///
    /// # Errors
    /// When it cannot be written: nobody is sent anywhere then.
    pub async fn note_before_asking(&mut self, what: &str) -> Result<(), StoreError> {
        let Destination::Gate(ask) = &mut self.to else { return Ok(()) };
        ask.asked.push(what.to_owned());
        self.attempt.record(Outcome::Waiting).await?;
        // A page that was loaded again is another crossing.
        ask.crossing = self.attempt.id;
        Ok(())
    }
}

/// See [`Journey::compute`].
pub async fn compute<T: Send + 'static>(
    engine: &Engine,
    attempt: &mut Attempt,
    task: impl FnOnce() -> T + Send + 'static,
) -> Result<T, Why> {
    engine.workers.run(attempt.address, task).await.map_err(|_| {
        attempt.step(|| step!(Overloaded));
        Why::UNAVAILABLE
    })
}

impl<B: Kind> Journey<'_, OnTheWay<B>> {
    /// Records that a provider's answer is waited for.
    pub fn waits(&self, provider: &str) {
        self.attempt.record_waiting();
        let engine = self.desk.engine;
        let sent = DateTime::from_timestamp_millis(self.state.0.sent).unwrap_or_else(|| engine.now());
        engine.recorder.flow(provider, sent, 1, 0);
    }
}

impl<'a, B: Kind> Journey<'a, Answered<B>> {
    /// The journey of a flow, with the steps that came before told again. `sent` says where the person was sent.
    pub async fn resume(desk: Desk<'a>, flow: Flow<B>, sent: Option<Step>) -> Done<'a, Journey<'a, Answered<B>>> {
        let Flow { to, crossing, began: began_ms, leg } = flow;
        let Some(began) = DateTime::from_timestamp_millis(began_ms) else { return Err(desk.unreadable()) };
        let Desk { engine, edition, visit } = desk;
        let site = desk.site();
        let (target, mut steps) = match &to {
            Destination::Gate(ask) => (ask.target.as_str(), begin::steps_before(&desk, ask).await),
            Destination::Console | Destination::ConsoleFresh => ("/console/", vec![]),
            Destination::Quay | Destination::Unasked { .. } => ("/", vec![]),
            Destination::Device { .. } => ("/.passeur/device", vec![]),
            Destination::Tokens => ("/.passeur/tokens", vec![]),
            Destination::Vouch { .. } => ("/.passeur/sponsor", vec![]),
            Destination::Factors => ("/.passeur/factors", vec![]),
            Destination::Trial { by, source, .. } => ("/", vec![begin::trial_step(by, leg.by.way().unwrap_or_default(), source)]),
        };
        if !steps.iter().any(|s| s.code == StepCode::SharedNetwork) {
            steps.extend(shared(&desk));
        }
        steps.extend(leg.manner.routed.iter().flat_map(|r| r.steps(edition, &to)));
        // What was recorded may end with it already.
        if let Some(mut sent) = sent.filter(|s| steps.last().is_none_or(|l| l.code != s.code)) {
            sent.at = (leg.sent - began_ms).clamp(0, i64::from(u32::MAX)) as u32;
            steps.push(sent);
        }
        let mut attempt = Attempt::resume(engine, to.place(), &visit.facts, crossing, began);
        attempt.preface("GET", target, steps);
        attempt.provider = leg.by.way().map(str::to_owned);
        attempt.another = choose::another(engine, site, &to);
        if matches!(to, Destination::Trial { .. }) {
            attempt.keep_raw();
        }
        Ok(Journey { desk, attempt, to, state: Answered(leg) })
    }

    /// The leg that was gone.
    pub fn leg(&self) -> &Leg<B> {
        &self.state.0
    }

    /// How long ago the person was sent, in seconds.
    pub fn after(&self) -> i64 {
        (self.desk.engine.now().timestamp_millis() - self.leg().sent) / 1000
    }

    /// Whether it is the same browser, and not too late.
    pub fn check_open(&mut self, limit: Duration) -> Result<(), Why> {
        let leg = &self.state.0;
        if !self.desk.visit.holds(&self.desk.site().address, "flow", leg.browser.as_bytes()) {
            self.attempt.step(|| step!(StateOtherBrowser));
            // The crossing belongs to the browser that was sent; this is another attempt.
            self.attempt.apart();
            return Err(Why::FAILED_CHECK);
        }
        let age = self.desk.engine.now().timestamp_millis() - leg.sent;
        if age > limit.num_milliseconds() {
            let minutes = limit.num_minutes();
            self.attempt.step(|| step!(StateTooOld { minutes: age / 60_000, limit: minutes }));
            return Err(Why::FAILED_CHECK);
        }
        Ok(())
    }

    /// Uses the flow up. It is an attempt of its own where it was used before, or where too many of that network are kept.
    pub async fn use_up(&mut self, limit: Duration) -> Result<(), Why> {
        let engine = self.desk.engine;
        let until = engine.now() + limit + Duration::minutes(5);
        let network = neighbourhood(self.attempt.address).to_string();
        match engine.store.use_flow(&self.state.0.id(), until, (&network, engine.now())).await? {
            Ok(true) => return Ok(()),
            Ok(false) => self.attempt.step(|| step!(StateReplayed)),
            Err(limit) => self.attempt.step(|| step!(FlowsFull { limit })),
        }
        self.attempt.apart();
        Err(Why::FAILED_CHECK)
    }

    /// Same browser, in time, and not used before: from now on it is. For answers of providers, whose people are counted.
    pub async fn check_flow(&mut self, limit: Duration) -> Result<(), Why> {
        self.check_open(limit)?;
        self.use_up(limit).await.map_err(|why| self.note_store_failure(why))?;
        let (engine, leg) = (self.desk.engine, &self.state.0);
        let sent = DateTime::from_timestamp_millis(leg.sent).unwrap_or_else(|| engine.now());
        engine.recorder.flow(leg.by.way().unwrap_or_default(), sent, 0, 1);
        Ok(())
    }

    /// Where the store did not answer in the middle of checks, the crossing tells of it.
    pub fn note_store_failure(&mut self, why: Why) -> Why {
        match why {
            Why::Store(e) => {
                self.attempt.step(|| step!(StoreFailed { how: e.to_string() }));
                Why::UNAVAILABLE
            }
            why => why,
        }
    }

    /// Where the person was to prove anew who they are: whether the proof is of after they were sent, to the second in which providers
    /// tell it. `issued` is when the provider made its answer, by its own clock.
    pub fn check_afresh(&mut self, proven: Option<DateTime<Utc>>, issued: Option<DateTime<Utc>>) -> Result<(), Why> {
        let leg = &self.state.0;
        let sent = leg.sent.div_euclid(1000);
        let wanted = leg.manner.anew || self.desk.site().is_shared(self.attempt.address);
        if !wanted || proven.is_some_and(|p| p.timestamp() >= sent) {
            return Ok(());
        }
        let show = |t: DateTime<Utc>| t.format("%Y-%m-%d %H:%M:%S UTC").to_string();
        let seen = proven.map_or_else(|| "a time that it does not say".to_owned(), show);
        // What was made in answer to us cannot be older than our asking, by one clock.
        let behind = issued.map_or(0, |i| sent - i.timestamp()).max(0);
        let provider = leg.by.way().unwrap_or_default().to_owned();
        self.attempt.step(|| {
            step!(NotAfresh { provider, seen, sent: DateTime::from_timestamp(sent, 0).map(show).unwrap_or_default(), behind })
        });
        Err(Why::FAILED_CHECK)
    }
}

/// Why somebody who has a session is to sign in again, by what the address says.
pub fn again(visit: &Visit) -> Option<Again> {
    Again::asked(|name| visit.parameter(name).is_some())
}

/// Whether somebody must prove anew who they are: who signed out here, or sits at a machine that others use, is not signed in by the
/// provider's own session without a word.
pub fn wants_anew(desk: &Desk<'_>) -> bool {
    let site = desk.site();
    cookies::find(&desk.visit.headers, &site.address.cookie("left").0) != Found::None || site.is_shared(desk.visit.facts.address)
}

/// Says so where people share the machine.
pub fn shared(desk: &Desk<'_>) -> Option<Step> {
    let network = desk.site().network_of(desk.visit.facts.address).filter(|n| n.shared)?;
    Some(step!(SharedNetwork { network: network.name.as_str() }))
}
