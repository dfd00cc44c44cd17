//! A directory's password, wherever somebody shows it: on a page of ours, or by a RADIUS client. Whoever shows it learns that it worked or that it
//! did not; why is for the crossing.

use std::time::{Duration, Instant};

use passeur_core::evidence::LookUpState;
use passeur_core::site::PasswordWay;
use passeur_core::step;
use passeur_core::step::{Param, Step};
use passeur_links::ldap::NotBound;
use serde_json::{Map, Value};

use crate::Engine;

/// What did not work is answered this long after it was asked, whatever was wrong: how long a directory takes tells whether it
/// knows a name.
pub const FLOOR: Duration = Duration::from_millis(400);

/// Whose password it is.
#[derive(Debug)]
pub struct Owner {
    pub subject: String,
    /// The name, as the directory spells it.
    pub name: String,
    pub claims: Map<String, Value>,
    pub step: Step,
}

/// Why it opens nothing.
#[derive(Debug)]
pub struct NotTheirs {
    pub step: Step,
    /// Whether it could not be asked, so that it may be right all the same.
    pub is_not_now: bool,
}

/// Whether a password is that of a name. Tries are counted before.
///
/// # Errors
/// It is not, or nobody can say just now.
pub async fn check(engine: &Engine, way: &PasswordWay, name: &str, password: &str) -> Result<Owner, NotTheirs> {
    let began = Instant::now();
    let found = match engine.directory(&way.directory) {
        Some(link) => link.check_password(name, password, &way.subject, engine.now()).await,
        None => Err(NotBound::NotNow(LookUpState::Dead { detail: "the directory is not in use on this node".into() })),
    };
    match found {
        Ok(bound) => {
            let millis = began.elapsed().as_millis().min(u128::from(u32::MAX)) as i64;
            let step = step!(PasswordRight { directory: way.directory.as_str(), dn: bound.dn.as_str(), millis });
            let mut claims = Map::new();
            claims.insert("user".into(), bound.key.clone().into());
            claims.insert("dn".into(), bound.dn.into());
            Ok(Owner { subject: bound.subject, name: bound.key, claims, step })
        }
        Err(why) => {
            let is_not_now = matches!(why, NotBound::NotNow(_));
            Err(NotTheirs { step: step_of(&way.directory, &way.subject, name, why), is_not_now })
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
