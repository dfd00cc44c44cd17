//! Proving a factor of our own because a rule asks for it, or before factors are changed.

use axum::extract::Form;
use axum::response::{IntoResponse, Response};
use chrono::Duration;
use http::StatusCode;
use passeur_core::crossing::Outcome;
use passeur_core::step;
use passeur_core::step::Param;
use passeur_engine::factors::{TRIES, forgive};
use passeur_engine::tries;
use passeur_engine::tries::slow;
use passeur_store::StoreError;
use serde::Deserialize;

use super::outside::{self, Tried, name_outside};
use super::{Holds, Kind, More, account, ceremony, note};
use passeur_engine::sessions::Session;

use crate::answer::answer;
use crate::journey::Incoming;
use crate::journey::flow::{Factor, Flow, SEALED_MAX};
use crate::journey::{Answered, Desk, Destination, Done, Journey, Known, Manner, Why};
use crate::local::{after_form, limits};
use crate::pages::{self, FactorForm, Said};
use crate::{browser_binding, session};

/// How long the form may stay open.
const OPEN_MINUTES: i64 = 15;

/// What the form sends.
#[derive(Deserialize)]
pub struct Entered {
    flow: String,
    #[serde(default)]
    code: String,
    #[serde(default)]
    ceremony: String,
    #[serde(default)]
    credential: String,
    /// What a server for codes asked for besides.
    #[serde(default)]
    outside: String,
}

/// Asks for a factor, on the way to somewhere. `wanted` are methods of which one is needed.
pub async fn ask(journey: Journey<'_, Known>, wanted: Vec<String>) -> Done<'_> {
    let desk = journey.desk;
    let found = Holds::of(desk.engine, &journey.state.0.row.person()).await;
    let (mut journey, holds) = journey.go_on_with(found)?;
    let holds = holds.known_outside_as(name_outside(desk.site(), &journey.to, &journey.state.0.evidence));
    let kinds = holds.kinds(&wanted);
    if kinds.is_empty() {
        journey.step(|| step!(FactorNone { wanted }));
        if let Err(e) = journey.attempt.record(Outcome::Refused).await {
            return Err(journey.stop(e));
        }
        let mut refused = pages::Refused::of_step(&journey.attempt, journey.attempt.id, None);
        refused.enrol = true;
        return Ok(pages::refused(desk.site(), desk.lang(), StatusCode::FORBIDDEN, &refused).into_response());
    }
    let (browser, set) = browser_binding(desk.engine, &desk.visit.headers, &desk.site().address, "flow");
    let by = Factor { way: journey.state.0.row.provider.clone(), wanted };
    let (journey, sealed) = journey.send(by, &browser, Manner::default(), SEALED_MAX);
    let said = if holds.guessed { Said::TwoCodes { wrong: None } } else { Said::Nothing };
    Ok(pages::with_cookie(form(desk, &journey.to, &sealed, &kinds, said), set.as_deref()))
}

fn form(desk: Desk<'_>, to: &Destination, sealed: &str, kinds: &[Kind], said: Said<'_>) -> Response {
    form_with(desk, to, (sealed, None), kinds, said)
}

/// The same, with what a server for codes asks for besides.
fn form_with(
    desk: Desk<'_>,
    to: &Destination,
    (sealed, more): (&str, Option<&More>),
    kinds: &[Kind],
    said: Said<'_>,
) -> Response {
    let site = desk.site();
    FactorForm { site, lang: desk.lang(), place: to.title(site), flow: sealed, kinds, said, more }.page().into_response()
}

/// `POST /.passeur/factor`. The guard has checked where it comes from.
pub async fn post(incoming: Incoming, Form(entered): Form<Entered>) -> Response {
    let desk = incoming.desk();
    answer(posted(desk, &entered).await).await
}

async fn posted<'a>(desk: Desk<'a>, entered: &Entered) -> Done<'a> {
    let flow = Flow::<Factor>::open(desk.engine, &entered.flow);
    let found = session::of_browser(desk.engine, desk.edition, &desk.visit.headers).await;
    let (Some(flow), Some(session)) = (flow, found.map_err(|e| desk.stop_plainly(e))?) else {
        return Err(desk.unreadable());
    };
    let mut journey = Journey::resume(desk, flow, None).await?;
    journey.attempt.is_of(&session.row);
    journey.attempt.set_evidence(&session.evidence);
    let proved = proved(&mut journey, session, entered).await;
    Ok(journey.go_on_with(proved)?.1)
}

/// What was tried, as far as it came.
async fn tried(
    journey: &mut Journey<'_, Answered<Factor>>,
    s: &Session,
    (holds, kinds): (&Holds, &[Kind]),
    entered: &Entered,
) -> Result<Tried, StoreError> {
    let desk = journey.desk;
    let (engine, site) = (desk.engine, desk.site());
    if !entered.credential.is_empty() {
        let row = ceremony::proven(desk, s, &entered.ceremony, &entered.credential).await?;
        return Ok(Tried::Done(Kind::Passkey, row.map(|r| r.name).ok_or("passkey-verification")));
    }
    // A code of ours, used or not, is not told to others.
    if entered.outside.is_empty() {
        let (kind, done) = holds.typed(engine, site, (&s.row.provider, &s.row.person()), &entered.code).await?;
        if done != Err("code-wrong") || !kinds.contains(&Kind::Outside) {
            return Ok(Tried::Done(kind, done));
        }
    }
    let of = site.factors.as_ref().and_then(|f| f.outside.as_ref());
    let (Some(of), Some(user)) = (of, &holds.outside) else { return Ok(Tried::Done(Kind::Outside, Err("code-wrong"))) };
    Ok(outside::judged(journey, s, of, user, (&entered.code, &entered.outside)).await)
}

async fn proved(journey: &mut Journey<'_, Answered<Factor>>, mut s: Session, entered: &Entered) -> Result<Response, Why> {
    let (desk, engine) = (journey.desk, journey.engine());
    let limit = Duration::minutes(OPEN_MINUTES);
    journey.check_open(limit)?;
    let name = name_outside(desk.site(), &journey.to, &s.evidence);
    let holds = Holds::of(engine, &s.row.person()).await?.known_outside_as(name);
    let kinds = holds.kinds(&journey.leg().by.wanted);
    let account = account(&s.row.person());
    // Whether what is typed may be a code of ours, which whoever guesses would guess at as well.
    let ours = !holds.rows.is_empty() || holds.recovery > 0;
    if !tries::count_plain(engine, &mut journey.attempt, "factor", &account, TRIES).await? {
        journey.attempt.apart();
        journey.attempt.record(Outcome::CheckFailed).await?;
        let said = Said::Wait { minutes: passeur_core::site::TRIES_MINUTES };
        return Ok(limits::wait(form(desk, &journey.to, &entered.flow, &kinds, said)));
    }
    let (kind, done) = match tried(journey, &s, (&holds, &kinds), entered).await? {
        Tried::Done(kind, done) => (kind, done),
        Tried::More(more) => {
            journey.attempt.apart();
            journey.attempt.record(Outcome::Waiting).await?;
            return Ok(form_with(desk, &journey.to, (&entered.flow, Some(&more)), &[Kind::Outside], Said::Nothing));
        }
        Tried::Silent => {
            // Nobody guessed anything, unless at a code of ours.
            if !ours {
                tries::uncount_plain(engine, "factor", &account).await?;
            }
            journey.attempt.apart();
            journey.attempt.record(Outcome::Failed).await?;
            return Ok(form(desk, &journey.to, &entered.flow, &kinds, Said::NotNow { id: journey.attempt.id }));
        }
    };
    let done = done.and_then(|name| if kinds.contains(&kind) { Ok(name) } else { Err("code-wrong") });
    let why = match done {
        Ok(name) => {
            journey.use_up(limit).await?;
            forgive(engine, &account).await?;
            journey.step(|| step!(FactorRight { kind: Param::reason(kind.code()), name }));
            note(engine, &mut s, kind).await?;
            journey.attempt.set_evidence(&s.evidence);
            let is_there = journey.to == Destination::Factors;
            journey.attempt.record(if is_there { Outcome::Admitted } else { Outcome::Waiting }).await?;
            let to = if is_there { "/.passeur/factors".to_owned() } else { journey.to.onward(engine) };
            return Ok(after_form(desk.site(), desk.visit, pages::redirect(&to, None)));
        }
        Err(why) => why,
    };
    journey.step(|| step!(FactorWrong { kind: Param::reason(kind.code()), why: Param::reason(why) }));
    journey.attempt.apart();
    journey.attempt.record(Outcome::CheckFailed).await?;
    let id = journey.attempt.id;
    if !ours {
        // The server that judges these codes keeps its own count, and knows nothing of two in a row.
        return Ok(form(desk, &journey.to, &entered.flow, &kinds, Said::Wrong { id }));
    }
    slow::count(engine, "factor", &account).await?;
    let said = match slow::is_guessed(engine, "factor", &account).await? {
        true => Said::TwoCodes { wrong: Some(id) },
        false => Said::Wrong { id },
    };
    Ok(form(desk, &journey.to, &entered.flow, &kinds, said))
}
