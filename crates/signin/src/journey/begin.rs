//! The first state: where a sign-in leads, and what was told of it before.

use passeur_core::site::{Place, Site};
use passeur_core::step;
use passeur_core::step::{Param, Step};
use passeur_engine::attempt::{self, Attempt};
use passeur_engine::{entrance_trials, tunnel};

use super::{Ask, Asked, Desk, Destination, Done, Journey, Why, choose};
use crate::Visit;

impl<'a> Journey<'a, Asked> {
    /// A sign-in that leads somewhere. It stops where the edition has no such place.
    pub async fn begin(desk: Desk<'a>, to: Destination) -> Done<'a, Journey<'a, Asked>> {
        let Desk { engine, visit, .. } = desk;
        let site = desk.site();
        let unreadable = || desk.stop(Why::ASK_UNREADABLE, step!(AskUnreadable));
        let mut attempt = match &to {
            Destination::Gate(ask) => {
                let (Some(gate), Some(began)) = (site.gate(&ask.gate), ask.began_at()) else { return Err(unreadable()) };
                let mut attempt = Attempt::resume(engine, Place::gate(&ask.gate), &visit.facts, ask.crossing, began);
                attempt.preface("GET", &ask.target, steps_before(&desk, ask).await);
                // What an engineer tries an entrance out for is told from here on.
                if let Ok(Some((_, of))) = tunnel::asked(engine, gate, ask.return_path().as_str()).await {
                    entrance_trials::note(engine, &of.trials, attempt.id, None).await;
                }
                attempt
            }
            Destination::Console | Destination::ConsoleFresh | Destination::Device { .. } if site.engineers.is_none() => {
                return Err(unreadable());
            }
            // No gate is meant yet.
            Destination::Unasked { .. } => Attempt::begin(engine, Place::Quay, &visit.facts),
            to => Attempt::begin(engine, to.place(), &visit.facts),
        };
        attempt.another = choose::another(engine, site, &to);
        Ok(Journey { desk, attempt, to, state: Asked })
    }
}

/// What happened before, told again: from what was recorded of a crossing, where it goes on after more was asked for, and otherwise from what
/// the gate sealed.
pub async fn steps_before(desk: &Desk<'_>, ask: &Ask) -> Vec<Step> {
    // What cannot be read is not told again: the crossing then begins with its first steps.
    if !ask.asked.is_empty()
        && let Ok(Some((_, told, _))) = desk.engine.store.crossing(ask.crossing).await
        && let Ok(told) = serde_json::from_value(told)
    {
        return told;
    }
    first_steps(desk.site(), ask, desk.visit)
}

/// The steps that happened at the gate.
fn first_steps(site: &Site, ask: &Ask, visit: &Visit) -> Vec<Step> {
    let mut facts = visit.facts.clone();
    facts.method = "GET".to_owned();
    facts.target = ask.target.clone();
    let mut steps = vec![attempt::arrived(&Place::gate(&ask.gate), &facts)];
    if let Some(kept) = &ask.form {
        steps.push(step!(FormKept { kept: Param::reason(kept) }));
    }
    if ask.cut {
        steps.push(step!(ReturnCut));
    }
    steps.push(step!(NoSession { why: Param::reason(&ask.why) }));
    steps.push(step!(SentToSignIn { to: site.address.at("/.passeur/sign-in") }));
    steps
}

/// The first step of a trial.
pub fn trial_step(by: &str, provider: &str, source: &str) -> Step {
    step!(TrialBegan { by, provider, source })
}
