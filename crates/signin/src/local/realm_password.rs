//! A password in a Kerberos realm: the KDC is asked, and what it answers is proven with our own key. The person learns that it
//! worked or that it did not; why is for the crossing.

use std::time::Instant;

use passeur_core::crossing::Outcome;
use passeur_core::site::TicketWay;
use passeur_core::step;
use passeur_core::step::{Param, Step};
use passeur_engine::passwords::FLOOR;
use passeur_links::kerberos::{Refused, Why};

use super::{Came, Entered, Try, limits, ticket};
use crate::journey::Why as Stops;
use crate::pages::Said;

pub(super) async fn tried(tried: &mut Try<'_>, way: &TicketWay, entered: &Entered) -> Result<Came, Stops> {
    let began = Instant::now();
    let engine = tried.engine();
    let principal = way.principal(&entered.name);
    let account = principal.as_deref().unwrap_or(entered.name.trim()).to_lowercase();
    let counted = limits::allowed(tried, &account, way.tries, ticket::form).await?;
    let realm = principal.as_deref().and_then(|p| p.rsplit_once('@')).map(|(_, r)| r.to_owned());
    let found = match (&principal, &realm, engine.tickets(&tried.way.name)) {
        (Some(p), Some(r), Some(link)) => link.check_password(r, p.clone(), entered.password.clone()).await,
        (Some(_), Some(_), None) => Err(Refused::NotNow("the way in is not in use on this node".to_owned())),
        _ => {
            let why = Param::reason("realm-name");
            return wrong(tried, step!(RealmPasswordRefused { why }), began).await;
        }
    };
    let (client, service) = match found {
        Ok(found) => found,
        Err(Refused::Account(why)) => {
            // A name that nobody has is not kept: it may be a password.
            let who = principal.filter(|_| why != Why::NoClient).unwrap_or_default();
            let why = Param::Reason { code: reason(why).into(), detail: who };
            return wrong(tried, step!(RealmPasswordRefused { why }), began).await;
        }
        Err(Refused::NotNow(how)) => {
            tried.step(|| step!(RealmSilent { realm: realm.unwrap_or_default(), how }));
            let id = tried.note(Outcome::Failed).await?;
            return Ok(ticket::form(tried, Said::NotNow { id }).into());
        }
    };
    let millis = i64::try_from(began.elapsed().as_millis()).unwrap_or(i64::MAX);
    tried.step(|| step!(RealmPassword { client: client.as_str(), service: service.as_str(), millis }));
    limits::uncount(engine, &counted).await?;
    // Whose ticket it is, is the KDC's word, not what was typed.
    match ticket::person(way, &client) {
        Ok(of) => tried.prove(ticket::proven(&client, &of, None, None)).await,
        Err(why) => wrong(tried, ticket::nobody(&client, why), began).await,
    }
}

async fn wrong(tried: &mut Try<'_>, step: Step, began: Instant) -> Result<Came, Stops> {
    tried.step(|| step);
    let id = tried.note(Outcome::CheckFailed).await?;
    tokio::time::sleep(FLOOR.saturating_sub(began.elapsed())).await;
    Ok(ticket::form(tried, Said::Wrong { id }).into())
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
