//! What every step of a sign-in stands on, and how a handler takes it from its request.

use std::sync::Arc;

use axum::extract::FromRequestParts;
use axum::response::{IntoResponse, Response};
use http::request::Parts;
use passeur_core::site::{Place, Site};
use passeur_core::step;
use passeur_core::step::{Lang, Step};
use passeur_engine::Engine;
use passeur_engine::attempt::Attempt;
use passeur_live::edition::Edition;

use super::stop::{Stop, Why};
use crate::{LiveEdition, Visit};

/// What every step of a sign-in stands on: the node, the edition that the request is answered under, and the request.
#[derive(Clone, Copy)]
pub struct Desk<'a> {
    pub engine: &'a Engine,
    pub edition: &'a Edition,
    pub visit: &'a Visit,
}

impl<'a> Desk<'a> {
    /// The site of the edition.
    pub fn site(&self) -> &'a Site {
        &self.edition.site
    }

    /// The language that the person reads.
    pub fn lang(&self) -> Lang {
        self.visit.facts.lang
    }

    /// An attempt that ends here, before anything is known of it, as a step says.
    pub fn stop(&self, why: Why, step: Step) -> Box<Stop<'a>> {
        let mut attempt = Attempt::begin(self.engine, Place::SignIn, &self.visit.facts);
        attempt.step(|| step);
        Box::new(Stop { desk: *self, attempt, to: None, why, cookies: vec![] })
    }

    /// What came back names no flow of ours: it is of nobody whom we sent.
    pub fn unreadable(&self) -> Box<Stop<'a>> {
        self.stop(Why::FAILED_CHECK, step!(StateUnreadable))
    }

    /// Stops before there is an attempt to tell of.
    pub fn stop_plainly(&self, why: impl Into<Why>) -> Box<Stop<'a>> {
        let attempt = Attempt::begin(self.engine, Place::SignIn, &self.visit.facts);
        Box::new(Stop { desk: *self, attempt, to: None, why: why.into(), cookies: vec![] })
    }
}

/// What every step of a sign-in stands on, taken from a request. Where nothing is published yet, the answer says so.
pub struct Incoming {
    pub engine: Engine,
    pub edition: Arc<Edition>,
    pub visit: Visit,
}

impl Incoming {
    /// Lent to the steps of a sign-in.
    pub fn desk(&self) -> Desk<'_> {
        Desk { engine: &self.engine, edition: &self.edition, visit: &self.visit }
    }
}

impl FromRequestParts<Engine> for Incoming {
    type Rejection = Response;

    async fn from_request_parts(parts: &mut Parts, engine: &Engine) -> Result<Incoming, Response> {
        let LiveEdition(edition) = <LiveEdition as FromRequestParts<Engine>>::from_request_parts(parts, engine).await?;
        let visit = Visit::from_request_parts(parts, engine).await.map_err(IntoResponse::into_response)?;
        Ok(Incoming { engine: engine.clone(), edition, visit })
    }
}
