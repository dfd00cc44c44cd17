//! Back to the gate: rules, then a one-time code. What was decided is written before the browser is sent anywhere.

use std::net::IpAddr;

use axum::response::{IntoResponse, Response};
use chrono::Duration;
use http::StatusCode;
use passeur_core::Moment;
use passeur_core::circumstances::Circumstances;
use passeur_core::condition::Need;
use passeur_core::crossing::Outcome;
use passeur_core::step;
use passeur_core::step::Param;
use passeur_core::tunnel::TunnelFacts;
use passeur_engine::grants::{self, Asking, Carriage, Decided};
use passeur_engine::{entrance_trials, tunnel};
use passeur_store::NewCode;

use super::{Asked, Destination, Done, HandedBack, Journey, Known, Manner, Why, step_up};
use crate::pages::{self, redirect};

/// How long a hand-back code is good for, in seconds.
const CODE_SECONDS: i64 = 60;

/// The request that a person came with, as conditions see it: what they wanted to read, from where they are.
pub fn first_request(target: &str, address: IpAddr, now: Moment) -> Circumstances<'_> {
    let path = target.split('?').next().unwrap_or("/");
    Circumstances { now, address: Some(address), method: "GET", path, tunnel: None }
}

impl<'a> Journey<'a, Known> {
    /// To the gate, if its rules let the person in; to be asked for more, where they miss something that can be asked for.
    pub(super) async fn hand_back(self) -> Done<'a> {
        let asked = match &self.to {
            Destination::Gate(ask) => match self.site().gate(&ask.gate) {
                Some(gate) => tunnel::asked(self.engine(), gate, ask.return_path().as_str()).await,
                None => Ok(None),
            },
            _ => Ok(None),
        };
        let (journey, asked) = self.go_on_with(asked)?;
        let of = asked.map(|(_, of)| of);
        if let Some(of) = &of {
            let whose = &journey.state.0.row;
            entrance_trials::note(journey.engine(), &of.trials, journey.attempt.id, Some((&whose.subject, &whose.name))).await;
        }
        journey.hand_back_with(of.as_ref().map(|of| &of.facts)).await
    }

    /// The same with what conditions may ask of the tunnel for which the person signs in, where they do so for one.
    async fn hand_back_with(mut self, tunnel: Option<&TunnelFacts>) -> Done<'a> {
        let (engine, site, edition) = (self.engine(), self.site(), self.desk.edition);
        let Destination::Gate(ask) = &self.to else { return Err(self.stop(Why::NotSetUp)) };
        let Some(gate) = site.gate(&ask.gate) else { return Err(self.stop(Why::NotSetUp)) };
        let target = ask.return_path();
        let mut at = first_request(target.as_str(), self.attempt.address, engine.now());
        if let Some((path, method)) = &ask.request {
            (at.path, at.method) = (path, method);
        }
        at.tunnel = tunnel;
        let session = &self.state.0;
        let asking = Asking { edition, gate, evidence: &session.evidence, at };
        let may_ask = |need: &Need| step_up::next(site, session.evidence.way(), need, &ask.asked).is_some();
        let decided = grants::decide(engine, asking, Carriage::Code(session), &mut self.attempt, may_ask).await;
        let (mut journey, decided) = self.go_on_with(decided)?;
        match decided {
            Decided::Granted(granted) => journey.with_code(gate, &granted).await.map(Journey::redirect),
            Decided::More(need) => journey.step_up(&need).await,
            Decided::Afresh(over) => {
                journey.step(|| step!(NoSession { why: Param::reason(over.code()) }));
                if let Err(e) = journey.note_before_asking("time").await {
                    return Err(journey.stop(e));
                }
                let way = journey.state.0.evidence.way().to_owned();
                journey.with(Asked).by_way(&way, Manner::anew()).await
            }
            Decided::Refused(refusal, crossing) => {
                let status = if refusal.outcome == Outcome::Failed { StatusCode::BAD_GATEWAY } else { StatusCode::FORBIDDEN };
                let refused = pages::Refused::of_step(&journey.attempt, crossing, refusal.words);
                Ok(pages::refused(site, journey.desk.lang(), status, &refused).into_response())
            }
        }
    }

    /// Keeps the code by which the gate takes the browser back.
    async fn with_code(self, gate: &passeur_core::site::Gate, granted: &grants::Granted) -> Done<'a, Journey<'a, HandedBack>> {
        let engine = self.engine();
        let Destination::Gate(ask) = &self.to else { return Err(self.stop(Why::NotSetUp)) };
        let code = engine.new_token();
        let row = NewCode {
            digest: code.digest().to_vec(),
            session_id: self.state.0.row.id,
            gate: gate.name.clone(),
            binding: ask.binding.clone().into_bytes(),
            target: ask.return_path().as_str().to_owned(),
            crossing: granted.crossing().to_string(),
            expires_at: engine.now() + Duration::seconds(CODE_SECONDS),
        };
        let kept = engine.store.add_code(row).await;
        let (journey, ()) = self.go_on_with(kept)?;
        Ok(journey.with(HandedBack { address: gate.address.at(&format!("/.passeur/arrive?code={}", code.reveal())) }))
    }
}

impl Journey<'_, HandedBack> {
    /// The answer that sends the browser there.
    fn redirect(self) -> Response {
        redirect(&self.state.address, None)
    }
}
