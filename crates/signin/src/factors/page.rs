//! The page on which people see, enrol and remove their factors.

use axum::extract::Form;
use axum::response::{IntoResponse, Response};
use http::StatusCode;
use passeur_core::crossing::Outcome;
use passeur_core::seal::Purpose;
use passeur_core::site::{OwnFactors, Place};
use passeur_core::step;
use passeur_core::step::{Param, Step};
use passeur_engine::attempt::Attempt;
use passeur_engine::random::{new_uuid, random};
use passeur_store::{FactorRow, StoreError};
use serde::Deserialize;
use uuid::Uuid;

use super::{Kind, NotNow, authenticator, ceremony, may_change, new_recovery, new_row, note, prove};
use crate::answer::answer;
use crate::journey::Incoming;
use crate::journey::{Desk, Destination, Done, Journey, Known};
use crate::pages::{FactorsPage, Shown, redirect};
use crate::session;
use passeur_engine::sessions::Session;

/// What forms of the page send.
#[derive(Deserialize)]
pub struct Sent {
    what: String,
    #[serde(default)]
    name: String,
    #[serde(default)]
    secret: String,
    #[serde(default)]
    code: String,
    #[serde(default)]
    ceremony: String,
    #[serde(default)]
    credential: String,
    id: Option<Uuid>,
}

struct At<'a> {
    desk: Desk<'a>,
    own: &'a OwnFactors,
    s: Session,
    rows: Vec<FactorRow>,
}

impl At<'_> {
    fn may(&self) -> Result<(), NotNow> {
        let address = self.desk.visit.facts.address;
        may_change(self.own, &self.s.evidence, !self.rows.is_empty(), address, self.desk.engine.now())
    }

    fn page(&self, left: i64, shown: Shown<'_>, status: StatusCode) -> Response {
        let (site, lang) = (self.desk.site(), self.desk.visit.facts.lang);
        let may = self.may();
        FactorsPage { site, lang, own: self.own, rows: &self.rows, recovery: left, may, shown }.page(status).into_response()
    }

    async fn show(&self, shown: Shown<'_>, status: StatusCode) -> Result<Response, StoreError> {
        let left = self.desk.engine.store.recovery_codes_left(&self.s.row.person()).await?;
        Ok(self.page(left, shown, status))
    }

    /// Records what a person did with their factors.
    async fn record(&self, step: Step) -> Result<(), StoreError> {
        let mut attempt = Attempt::begin(self.desk.engine, Place::Quay, &self.desk.visit.facts);
        attempt.is_of(&self.s.row);
        attempt.set_evidence(&self.s.evidence);
        attempt.step(|| step);
        attempt.record(Outcome::Admitted).await
    }
}

/// Who is there, with their factors; otherwise where they go instead.
async fn at(desk: Desk<'_>) -> Result<Result<At<'_>, Response>, StoreError> {
    let Some(own) = &desk.site().factors else { return Ok(Err(redirect("/", None))) };
    let Some(s) = session::of_browser(desk.engine, desk.edition, &desk.visit.headers).await? else {
        return Ok(Err(redirect("/.passeur/sign-in?for=factors", None)));
    };
    let rows = desk.engine.store.factors(&s.row.person()).await?;
    Ok(Ok(At { desk, own, s, rows }))
}

/// `GET /.passeur/factors`; with `?prove=1` a factor is asked for first.
pub async fn show(incoming: Incoming) -> Response {
    let desk = incoming.desk();
    answer(shown(desk).await).await
}

async fn shown(desk: Desk<'_>) -> Done<'_> {
    let failed = |e: StoreError| desk.stop_plainly(e);
    match at(desk).await.map_err(failed)? {
        Ok(at) if desk.visit.parameter("prove").is_some() && at.may() == Err(NotNow::Prove) => {
            let mut attempt = Attempt::begin(desk.engine, Place::Quay, &desk.visit.facts);
            attempt.is_of(&at.s.row);
            prove::ask(Journey { desk, attempt, to: Destination::Factors, state: Known(at.s) }, vec![]).await
        }
        Ok(at) => at.show(Shown::Nothing, StatusCode::OK).await.map_err(failed),
        Err(elsewhere) => Ok(elsewhere),
    }
}

/// `POST /.passeur/factors`. The guard has checked where it comes from.
pub async fn change(incoming: Incoming, Form(sent): Form<Sent>) -> Response {
    let desk = incoming.desk();
    let done = async {
        match at(desk).await? {
            Ok(at) => changed(at, sent).await,
            Err(elsewhere) => Ok(elsewhere),
        }
    };
    answer(done.await.map_err(|e: StoreError| desk.stop_plainly(e))).await
}

async fn changed(mut at: At<'_>, sent: Sent) -> Result<Response, StoreError> {
    if at.may().is_err() {
        return at.show(Shown::Nothing, StatusCode::FORBIDDEN).await;
    }
    let name = passeur_core::text::shorten(sent.name.trim(), 60);
    match sent.what.as_str() {
        "totp" if at.own.totp => {
            let secret = random::<20>();
            let sealed = seal(&at, secret);
            show_secret(&at, secret, &sealed, false).await
        }
        "totp-code" if at.own.totp => {
            let Some(secret) = open(&at, &sent.secret) else { return at.show(Shown::Nothing, StatusCode::BAD_REQUEST).await };
            let digits: String = sent.code.chars().filter(|c| !c.is_whitespace()).collect();
            let now = at.desk.engine.now();
            let totp = authenticator(at.desk.site(), &at.s.row.name, secret);
            let Some(step) = totp.and_then(|t| t.check(&digits, now.timestamp().max(0).unsigned_abs())) else {
                return show_secret(&at, secret, &sent.secret, true).await;
            };
            let (engine, id) = (at.desk.engine, new_uuid());
            let name = if name.is_empty() { "authenticator".to_owned() } else { name };
            let sealed = (id, engine.ring.seal(Purpose::Factor, id.as_bytes(), random(), &secret));
            let (used_at, last_step) = (Some(now), Some(step as i64));
            let row = FactorRow { used_at, last_step, ..new_row(engine, &at.s, Kind::Totp, name, sealed) };
            enrolled(&mut at, row, Kind::Totp).await
        }
        "passkey" if at.own.passkeys => {
            let name = if name.is_empty() { "passkey" } else { &name };
            match ceremony::enrolled(at.desk, &at.s, &sent.ceremony, &sent.credential, name).await? {
                Some(row) => enrolled(&mut at, row, Kind::Passkey).await,
                None => at.show(Shown::NotEnrolled, StatusCode::BAD_REQUEST).await,
            }
        }
        "recovery" if !at.rows.is_empty() => {
            let Some(codes) = new_recovery(at.desk.engine, &at.s).await? else { return Ok(redirect("/.passeur/factors", None)) };
            at.record(step!(RecoveryMade { count: codes.len() as i64 })).await?;
            at.show(Shown::Recovery(&codes), StatusCode::OK).await
        }
        "remove" => {
            let Some(id) = sent.id else { return at.show(Shown::Nothing, StatusCode::BAD_REQUEST).await };
            let gone = at.desk.engine.store.remove_factors(&at.s.row.person(), Some(id), None).await?;
            for row in gone {
                let kind = Param::reason(&row.kind);
                at.record(step!(FactorRemoved { kind, name: row.name })).await?;
            }
            Ok(redirect("/.passeur/factors", None))
        }
        _ => at.show(Shown::Nothing, StatusCode::BAD_REQUEST).await,
    }
}

async fn enrolled(at: &mut At<'_>, row: FactorRow, kind: Kind) -> Result<Response, StoreError> {
    let first = at.rows.is_empty();
    if !at.desk.engine.store.add_factor(row.clone(), at.s.row.id).await? {
        return at.show(Shown::TooMany, StatusCode::CONFLICT).await;
    }
    note(at.desk.engine, &mut at.s, kind).await?;
    at.record(step!(FactorEnrolled { kind: Param::reason(kind.code()), name: row.name.as_str() })).await?;
    at.rows.push(row);
    // Whoever has a first factor may lose it: recovery codes come with it.
    if first {
        let Some(codes) = new_recovery(at.desk.engine, &at.s).await? else { return Ok(redirect("/.passeur/factors", None)) };
        return at.show(Shown::Recovery(&codes), StatusCode::OK).await;
    }
    Ok(redirect("/.passeur/factors", None))
}

/// A secret on its way through the form, bound to the session.
fn seal(at: &At<'_>, secret: [u8; 20]) -> String {
    let bound = [at.s.row.id.as_bytes().as_slice(), &at.desk.engine.now().timestamp().to_be_bytes(), &secret].concat();
    at.desk.engine.ring.seal_text(Purpose::Ceremony, random(), &bound)
}

fn open(at: &At<'_>, sealed: &str) -> Option<[u8; 20]> {
    let plain = at.desk.engine.ring.open_text(Purpose::Ceremony, sealed, 400).ok()?;
    let (id, rest) = plain.split_at_checked(16)?;
    let (time, secret) = rest.split_at_checked(8)?;
    let age = at.desk.engine.now().timestamp() - i64::from_be_bytes(time.try_into().ok()?);
    let fits = id == at.s.row.id.as_bytes() && (-300..900).contains(&age);
    fits.then(|| secret.try_into().ok()).flatten()
}

async fn show_secret(at: &At<'_>, secret: [u8; 20], sealed: &str, wrong: bool) -> Result<Response, StoreError> {
    let url = authenticator(at.desk.site(), &at.s.row.name, secret).and_then(|t| t.to_url().ok());
    let Some(url) = url else { return at.show(Shown::NotEnrolled, StatusCode::INTERNAL_SERVER_ERROR).await };
    let drawn = qrcode::QrCode::new(url.as_bytes()).ok().map(|code| {
        let (dark, light) = (qrcode::render::svg::Color("#000000"), qrcode::render::svg::Color("#ffffff"));
        code.render::<qrcode::render::svg::Color<'_>>().min_dimensions(220, 220).dark_color(dark).light_color(light).build()
    });
    // An inline drawing is a part of the page; the declaration before it would not be.
    let drawn = drawn.map(|svg| svg.find("<svg").map(|i| svg[i..].to_owned()).unwrap_or_default()).unwrap_or_default();
    let status = if wrong { StatusCode::FORBIDDEN } else { StatusCode::OK };
    let text = url.split("secret=").nth(1).and_then(|s| s.split('&').next()).unwrap_or_default().to_owned();
    at.show(Shown::Secret { svg: &drawn, text: &text, sealed, wrong }, status).await
}
