//! A password in a Kerberos realm: the KDC is asked, and what it answers is proven with our own key. The person learns that it
//! worked or that it did not; why is for the crossing.

use std::time::Instant;

use axum::response::{IntoResponse, Response};
use passeur_core::crossing::Outcome;
use passeur_core::site::TicketWay;
use passeur_core::step::{Param, Step, StepCode};
use passeur_engine::attempt::Attempt;
use passeur_links::kerberos::{Refused, Why};

use super::password::FLOOR;
use super::{Asked, Entered, enter, limits, ticket};
use crate::pages::{self, Said};

pub(super) async fn tried(asked: &Asked<'_>, way: &TicketWay, mut attempt: Attempt, entered: &Entered) -> Response {
    let began = Instant::now();
    let (engine, site, lang) = (asked.engine, asked.site(), asked.visit.facts.lang);
    let principal = way.principal(&entered.name);
    let account = principal.as_deref().unwrap_or(entered.name.trim()).to_lowercase();
    let counted = match limits::allowed(asked, &mut attempt, &account, way.tries, |said| ticket::form(asked, said)).await {
        Ok(counted) => counted,
        Err(response) => return *response,
    };
    let realm = principal.as_deref().and_then(|p| p.rsplit_once('@')).map(|(_, r)| r.to_owned());
    let found = match (&principal, &realm, engine.tickets(&asked.way.name)) {
        (Some(p), Some(r), Some(link)) => link.check_password(r, p.clone(), entered.password.clone()).await,
        (Some(_), Some(_), None) => Err(Refused::NotNow("the way in is not in use on this node".to_owned())),
        _ => {
            let why = Param::reason("realm-name");
            return wrong(asked, attempt, Step::new(StepCode::RealmPasswordRefused).with("why", why), began).await;
        }
    };
    let (client, service) = match found {
        Ok(found) => found,
        Err(Refused::Account(why)) => {
            // A name that nobody has is not kept: it may be a password.
            let who = principal.filter(|_| why != Why::NoClient).unwrap_or_default();
            let why = Param::Reason { code: reason(why).into(), detail: who };
            return wrong(asked, attempt, Step::new(StepCode::RealmPasswordRefused).with("why", why), began).await;
        }
        Err(Refused::NotNow(how)) => {
            attempt.step(|| Step::new(StepCode::RealmSilent).with("realm", realm.unwrap_or_default()).with("how", how));
            return match asked.note(&mut attempt, Outcome::Failed).await {
                Ok(id) => ticket::form(asked, Said::NotNow { id }),
                Err(response) => *response,
            };
        }
    };
    let millis = i64::try_from(began.elapsed().as_millis()).unwrap_or(i64::MAX);
    attempt.step(|| {
        Step::new(StepCode::RealmPassword)
            .with("client", client.as_str())
            .with("service", service.as_str())
            .with("millis", millis)
    });
    if let Err(e) = limits::uncount(engine, &counted).await {
        return pages::store_failed(site, lang, &e).into_response();
    }
    // Whose ticket it is, is the KDC's word, not what was typed.
    match ticket::person(way, &client) {
        Ok(of) => {
            let proven = ticket::proven(&client, &of, None, None);
            enter(asked, attempt, proven).await
        }
        Err(why) => wrong(asked, attempt, ticket::nobody(&client, why), began).await,
    }
}

async fn wrong(asked: &Asked<'_>, mut attempt: Attempt, step: Step, began: Instant) -> Response {
    attempt.step(|| step);
    let id = match asked.note(&mut attempt, Outcome::CheckFailed).await {
        Ok(id) => id,
        Err(response) => return *response,
    };
    tokio::time::sleep(FLOOR.saturating_sub(began.elapsed())).await;
    ticket::form(asked, Said::Wrong { id })
}

fn reason(why: Why) -> &'static str {
    match why {
        Why::NoClient => "realm-nobody",
        Why::PasswordExpired => "password-expired",
        Why::Revoked => "realm-revoked",
        Why::Policy => "realm-policy",
        _ => "realm-password-wrong",
    }
}
