//! The beginning: a live session is used, or a way in is taken.

use axum::response::Response;
use passeur_core::site::Place;
use passeur_core::step;
use passeur_engine::attempt::Attempt;
use passeur_engine::providers::ProviderLink;
use passeur_engine::sessions::Session;
use passeur_engine::tickets;

use super::{
    Again, Ask, Asked, Desk, Destination, Done, Journey, Known, Manner, Why, again, begin as beginning, choose, fresh, shared,
    wants_anew,
};
use crate::answer::answer;
use crate::journey::Incoming;
use crate::{local, oidc, route, saml, session, trial};

/// `GET /.passeur/sign-in?ask=…` from a gate, or `?for=console` and `?for=quay`.
pub async fn sign_in(incoming: Incoming) -> Response {
    let desk = incoming.desk();
    answer(match desk.visit.parameter("trial") {
        Some(token) => begin_trial(desk, token).await,
        None => begin(desk).await,
    })
    .await
}

/// Where the address leads.
fn destination(desk: &Desk<'_>) -> Option<Destination> {
    let visit = desk.visit;
    if let Some(text) = visit.parameter("ask") {
        return Ask::open(desk.engine, &text).map(Destination::Gate);
    }
    Some(match visit.parameter("for").as_deref() {
        Some("console") if again(visit) == Some(Again::Fresh) => Destination::ConsoleFresh,
        Some("console") => Destination::Console,
        Some("factors") => Destination::Factors,
        Some("tokens") => Destination::Tokens,
        Some("vouch") => {
            Destination::Vouch { code: passeur_core::text::shorten(&visit.parameter("code").unwrap_or_default(), 40) }
        }
        Some("device") => {
            let code = visit.parameter("user_code").unwrap_or_default();
            Destination::Device { code: passeur_core::text::shorten(&code, 40) }
        }
        _ => Destination::Quay,
    })
}

async fn begin(desk: Desk<'_>) -> Done<'_> {
    let Desk { engine, edition, visit } = desk;
    let site = desk.site();
    let Some(to) = destination(&desk) else {
        return Err(desk.stop(Why::ASK_UNREADABLE, step!(AskUnreadable)));
    };
    let mut journey = Journey::begin(desk, to).await?;
    // Whoever names a way in, or asks for another, wants to sign in by that.
    let wanted = visit.parameter("way");
    let anew = again(visit).is_some();
    let found = match session::of_browser(engine, edition, &visit.headers).await {
        Ok(found) => found,
        Err(e) => return Err(journey.stop(e)),
    };
    let will_do = |s: &Session, to: &Destination| {
        let is_fresh = !to.needs_fresh() || fresh::is_fresh(&s.evidence, engine.now());
        let by_that = wanted.as_deref().is_none_or(|way| way == s.evidence.way());
        let stays_longer = matches!(to, Destination::Gate(ask) if ask.anew);
        to.takes(site, &s.evidence) && !anew && !stays_longer && is_fresh && by_that
    };
    let Some(session) = found.filter(|s| will_do(s, &journey.to)) else {
        return take_a_way(journey).await;
    };
    if let Destination::Gate(ask) = &journey.to
        && tickets::lost(engine, site, &ask.gate, &session)
    {
        journey.step(|| step!(TicketLost { person: session.row.name.as_str() }));
        journey.attempt.is_of(&session.row);
        if let Err(e) = journey.note_before_asking("ticket").await {
            return Err(journey.stop(e));
        }
        return journey.by_way(session.evidence.way(), Manner::default()).await;
    }
    let since = session.row.began.format("%Y-%m-%d %H:%M UTC").to_string();
    journey.step(|| step!(SessionUsed { person: session.row.name.as_str(), since }));
    journey.with(Known(session)).go_on().await
}

/// By the way in that routes, the browser's memory or the person's own choice come to.
async fn take_a_way(mut journey: Journey<'_, Asked>) -> Done<'_> {
    let desk = journey.desk;
    shared(&desk).into_iter().for_each(|s| journey.step(|| s));
    match route::next(&desk, &journey.to, None) {
        route::Next::Way(way, manner) => {
            route::note(&mut journey, &manner);
            journey.by_way(&way, *manner).await
        }
        route::Next::Ask(ways, steps) => {
            steps.into_iter().for_each(|s| journey.step(|| s));
            Ok(choose::ask(journey, &ways))
        }
        route::Next::Name => Ok(route::ask_name(journey)),
        route::Next::Nothing => Err(journey.stop(Why::NotSetUp)),
    }
}

/// `GET /.passeur/sign-in?trial=…`: no session is looked at, and none begins.
async fn begin_trial(desk: Desk<'_>, token: String) -> Done<'_> {
    let row = match trial::find(desk.engine, &token).await {
        Ok(Some((_, row))) if row.result.is_none() => row,
        Ok(_) => return Err(desk.stop_plainly(Why::TrialOver)),
        Err(e) => return Err(desk.stop_plainly(e)),
    };
    let mut attempt = Attempt::begin(desk.engine, Place::Trial, &desk.visit.facts);
    attempt.step(|| beginning::trial_step(&row.begun_by, &row.provider, &row.source));
    let to = Destination::Trial { token, by: row.begun_by, source: row.source };
    Journey { desk, attempt, to, state: Asked }.by_provider(&row.provider, Manner::default()).await
}

impl<'a> Journey<'a, Asked> {
    /// On by a way in: to a provider, or to a form of ours.
    pub async fn by_way(self, name: &str, mut manner: Manner) -> Done<'a> {
        manner.anew |= self.to.needs_fresh();
        if self.wants_real_browser(name) {
            return Ok(self.ask_for_real_browser(name));
        }
        match self.site().way(name) {
            Some(way) => local::ask(self, way, manner),
            None => self.by_provider(name, manner).await,
        }
    }

    /// On to the provider; afresh where its own session there must not be enough.
    async fn by_provider(mut self, name: &str, mut manner: Manner) -> Done<'a> {
        self.attempt.provider = Some(name.to_owned());
        manner.anew |= wants_anew(&self.desk);
        let found = trial::link_of(self.desk.engine, &self.to, name).await;
        match self.go_on_with(found)? {
            (journey, Some(ProviderLink::Saml(link))) => saml::ask::to_provider(journey, &link, manner).await,
            (journey, Some(ProviderLink::Oidc(link))) => oidc::ask::to_provider(journey, &link, manner).await,
            (journey, None) => Err(journey.stop(Why::NotSetUp)),
        }
    }
}
