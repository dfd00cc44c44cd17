//! A directory's password on a form of ours: see [`passeur_engine::passwords`].

use std::time::Instant;

use axum::response::{IntoResponse, Response};
use passeur_core::crossing::Outcome;
use passeur_core::evidence::WayIn;
use passeur_core::site::{Gate, PasswordWay};
use passeur_engine::passwords::{self, FLOOR};

use super::{Came, Entered, Person, Try, limits};
use crate::journey::Why;
use crate::pages::Said;

pub(super) async fn tried(tried: &mut Try<'_>, way: &PasswordWay, entered: &Entered) -> Result<Came, Why> {
    let began = Instant::now();
    let (engine, site) = (tried.engine(), tried.site());
    let name = entered.name.trim();
    let account = name.to_lowercase();
    let page = |tried: &Try<'_>, said: Said<'_>| -> Response { tried.form(said, |f| f.password(name)).into_response() };
    let counted = limits::allowed(tried, &account, way.tries, page).await?;
    match passwords::check(engine, way, name, &entered.password).await {
        Ok(owner) => {
            tried.step(|| owner.step);
            limits::uncount(engine, &counted).await?;
            // RFC 7617 2: a user name with a colon cannot be told from a password.
            let asked_for = |g: &Gate| g.hand_over().is_some() && g.access.ways.contains(&tried.way.name);
            let kept = (site.gates.iter().any(asked_for) && !owner.name.contains(':'))
                .then(|| format!("{}:{}", owner.name, entered.password));
            let person = Person {
                way_in: WayIn::Password,
                subject: owner.subject,
                name: owner.name,
                claims: owner.claims,
                account,
                kept,
                method: None,
                at: None,
                sent: None,
            };
            tried.prove(person).await
        }
        Err(why) => {
            tried.step(|| why.step);
            let outcome = if why.is_not_now { Outcome::Failed } else { Outcome::CheckFailed };
            let id = tried.note(outcome).await?;
            tokio::time::sleep(FLOOR.saturating_sub(began.elapsed())).await;
            let said = if why.is_not_now { Said::NotNow { id } } else { Said::Wrong { id } };
            Ok(page(tried, said).into())
        }
    }
}
