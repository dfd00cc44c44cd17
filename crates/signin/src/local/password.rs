//! A directory's password. The person learns that it worked or that it did not; why is for the crossing.

use std::time::{Duration, Instant};

use axum::response::{IntoResponse, Response};
use passeur_core::crossing::Outcome;
use passeur_core::evidence::{LookUpState, WayIn};
use passeur_core::site::{Gate, PasswordWay};
use passeur_core::step;
use passeur_core::step::{Param, Step};
use passeur_links::ldap::NotBound;
use serde_json::Map;

use super::{Came, Entered, Person, Try, limits};
use crate::journey::Why;
use crate::pages::Said;

/// What did not work is answered this long after it was asked, whatever was wrong: how long a directory takes tells whether it
/// knows a name.
pub(super) const FLOOR: Duration = Duration::from_millis(400);

pub(super) async fn tried(tried: &mut Try<'_>, way: &PasswordWay, entered: &Entered) -> Result<Came, Why> {
    let began = Instant::now();
    let (engine, site) = (tried.engine(), tried.site());
    let name = entered.name.trim();
    let account = name.to_lowercase();
    let page = |tried: &Try<'_>, said: Said<'_>| -> Response { tried.form(said, |f| f.password(name)).into_response() };
    let counted = limits::allowed(tried, &account, way.tries, page).await?;
    let found = match engine.directory(&way.directory) {
        Some(link) => link.check_password(name, &entered.password, &way.subject, engine.now()).await,
        None => Err(NotBound::NotNow(LookUpState::Dead { detail: "the directory is not in use on this node".into() })),
    };
    match found {
        Ok(bound) => {
            let millis = began.elapsed().as_millis().min(u128::from(u32::MAX)) as i64;
            tried.step(|| step!(PasswordRight { directory: way.directory.as_str(), dn: bound.dn.as_str(), millis }));
            limits::uncount(engine, &counted).await?;
            let mut claims = Map::new();
            claims.insert("user".into(), bound.key.clone().into());
            claims.insert("dn".into(), bound.dn.into());
            // RFC 7617 2: a user name with a colon cannot be told from a password.
            let asked_for = |g: &Gate| g.hand_over().is_some() && g.access.ways.contains(&tried.way.name);
            let kept = (site.gates.iter().any(asked_for) && !bound.key.contains(':'))
                .then(|| format!("{}:{}", bound.key, entered.password));
            let person = Person {
                way_in: WayIn::Password,
                subject: bound.subject,
                name: bound.key,
                claims,
                account,
                kept,
                method: None,
                at: None,
                sent: None,
            };
            tried.prove(person).await
        }
        Err(why) => {
            let not_now = matches!(why, NotBound::NotNow(_));
            tried.step(|| step_of(&way.directory, &way.subject, name, why));
            let outcome = if not_now { Outcome::Failed } else { Outcome::CheckFailed };
            let id = tried.note(outcome).await?;
            tokio::time::sleep(FLOOR.saturating_sub(began.elapsed())).await;
            let said = if not_now { Said::NotNow { id } } else { Said::Wrong { id } };
            Ok(page(tried, said).into())
        }
    }
}

/// Why it did not work, for engineers. A name that nobody has is not kept.
fn step_of(directory: &str, subject: &str, name: &str, why: NotBound) -> Step {
    match why {
        NotBound::NoPerson(state) => {
            step!(PasswordNobody { directory, characters: name.chars().count() as i64, why: Param::reason(state.code()) })
        }
        NotBound::Wrong { dn } => step!(PasswordWrong { directory, dn }),
        NotBound::Unusable { dn, why, detail } => {
            step!(PasswordUnusable { directory, dn, why: Param::Reason { code: why.code().into(), detail } })
        }
        NotBound::NoSubject { dn } => step!(PasswordNoSubject { directory, dn, attribute: subject }),
        NotBound::NotNow(state) => {
            let how = match state {
                LookUpState::BindRefused { detail } | LookUpState::Dead { detail } | LookUpState::Unusable { detail } => detail,
                other => other.code().to_owned(),
            };
            step!(PasswordNotAsked { directory, how })
        }
    }
}
