//! A password on a form of ours, a directory's or a realm's: see [`passeur_engine::passwords`].

use std::time::Instant;

use axum::response::{IntoResponse, Response};
use passeur_core::crossing::Outcome;
use passeur_core::site::{Gate, PasswordOf};
use passeur_engine::passwords::{self, FLOOR, METHOD};

use super::{Came, Entered, Person, Try, limits, ticket};
use crate::journey::Why;
use crate::pages::Said;

pub(super) async fn tried(tried: &mut Try<'_>, of: PasswordOf<'_>, entered: &Entered) -> Result<Came, Why> {
    let began = Instant::now();
    let (engine, site, way) = (tried.engine(), tried.site(), tried.way);
    let name = entered.name.trim();
    let account = of.account(name);
    let page = |tried: &Try<'_>, said: Said<'_>| -> Response {
        match of {
            PasswordOf::Directory(_) => tried.form(said, |f| f.password(name)).into_response(),
            PasswordOf::Realm(_) => ticket::form(tried, said),
        }
    };
    let counted = limits::allowed(tried, &account, of.tries(), page).await?;
    match passwords::check(engine, way, of, name, &entered.password).await {
        Ok(owner) => {
            tried.step(|| owner.step);
            limits::uncount(engine, &counted).await?;
            // RFC 7617 2: a user name with a colon cannot be told from a password.
            let asked_for = |g: &Gate| g.hand_over().is_some() && g.access.ways.contains(&way.name);
            let kept = (matches!(of, PasswordOf::Directory(_)) && site.gates.iter().any(asked_for) && !owner.name.contains(':'))
                .then(|| format!("{}:{}", owner.name, entered.password));
            let person = Person {
                way_in: owner.way_in,
                subject: owner.subject,
                name: owner.name,
                claims: owner.claims,
                account,
                kept,
                // That somebody typed a password is another method than that their machine held a ticket.
                method: Some(METHOD),
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
