//! A passkey as a way in of its own. It stands for the person who enrolled it, as their provider named them last: what the
//! provider said then counts for as long as the site says, and the directory is asked anew as always.

use axum::response::{IntoResponse, Response};
use passeur_core::Moment;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::{Evidence, Factors, WayIn};
use passeur_core::identity::display_name;
use passeur_core::site::{PASSKEY_PROVES, PasskeyWay};
use passeur_core::step::{Param, Step, StepCode};
use passeur_engine::attempt::{Attempt, Who};
use passeur_engine::look_up;
use passeur_store::{FactorRow, StoreError};

use super::{Asked, Entered, after_form};
use crate::enter::{self, AtProvider};
use crate::factors::ceremony;
use crate::flow::{self, failed_check, refuse};
use crate::pages::{self, Said};

pub(super) async fn tried(asked: &Asked<'_>, way: &PasskeyWay, mut attempt: Attempt, entered: &Entered) -> Response {
    let (engine, site, lang) = (asked.engine, asked.site(), asked.visit.facts.lang);
    let failed = |e: StoreError| pages::store_failed(site, lang, &e).into_response();
    let came = match ceremony::came(engine, site, asked.visit, &entered.ceremony, &entered.credential).await {
        Ok(Ok(row)) => known(asked, way, row).await,
        Ok(Err(why)) => Ok(Err(why)),
        Err(e) => Err(e),
    };
    let (row, evidence, claimed) = match came {
        Ok(Ok(found)) => found,
        Ok(Err(why)) => {
            attempt.step(|| Step::new(StepCode::PasskeyRefused).with("why", Param::reason(why)));
            let id = match asked.note(&mut attempt, Outcome::CheckFailed).await {
                Ok(id) => id,
                Err(response) => return *response,
            };
            return asked.form(Said::Wrong { id }, |f| f.passkey());
        }
        Err(e) => return failed(e),
    };
    match flow::use_up(engine, &mut attempt, asked.flow, asked.way.answer_within).await {
        Ok(true) => {}
        Ok(false) => return refuse(asked.edition, attempt, failed_check()).await,
        Err(e) => return failed(e),
    }
    attempt.step(|| {
        Step::new(StepCode::PasskeyRight)
            .with("name", row.name)
            .with("provider", evidence.provider.as_str())
            .with("at", claimed.format("%Y-%m-%d %H:%M UTC").to_string())
    });
    let name = display_name(&evidence);
    attempt.who = Some(Who { provider: evidence.provider.clone(), subject: evidence.subject.clone(), name });
    let nobody = AtProvider { hint: String::new(), name: None, session: None, kept: None, sent: None, until: None };
    let response = enter::begin(engine, asked.edition, attempt, asked.visit, evidence, nobody, asked.flow.to.clone()).await;
    after_form(site, asked.visit, response)
}

/// Who holds a passkey, as their provider named them last, and when that was.
async fn known(
    asked: &Asked<'_>,
    way: &PasskeyWay,
    row: FactorRow,
) -> Result<Result<(FactorRow, Evidence, Moment), &'static str>, StoreError> {
    if !way.of.contains(&row.provider) || !asked.site().knows(&row.provider, &row.person()) {
        return Ok(Err("passkey-not-taken"));
    }
    let now = asked.engine.now();
    let found = look_up::last_of_provider(asked.engine, &row.person()).await?;
    let Some((known, claimed)) = found.filter(|(_, claimed)| now < *claimed + way.renew) else {
        return Ok(Err("passkey-claims-old"));
    };
    let amr = PASSKEY_PROVES.iter().map(|m| (*m).to_owned()).collect();
    let unasked = row.unasked;
    let factors = Factors { acr: None, amr, auth_time: Some(now), own: vec![] };
    Ok(Ok((row, known.standing(WayIn::Passkey, &asked.way.name, claimed, factors, unasked), claimed)))
}
