//! A password, wherever somebody shows it: on a page of ours, or by a RADIUS client. A directory is asked by a bind as the person, a realm's KDC
//! for a ticket, which is proven with our own key. Whoever shows it learns that it worked or that it did not; why is for the crossing.

use std::time::{Duration, Instant};

use passeur_core::evidence::{LookUpState, WayIn};
use passeur_core::site::{PasswordOf, PasswordWay, TicketWay, Way};
use passeur_core::step;
use passeur_core::step::{Param, Step};
use passeur_links::kerberos::{Refused, Why};
use passeur_links::ldap::NotBound;
use serde_json::{Map, Value};

use crate::Engine;
use crate::tickets;

/// What did not work is answered this long after it was asked, whatever was wrong: how long a directory takes tells whether it
/// knows a name.
pub const FLOOR: Duration = Duration::from_millis(400);

/// Whose password it is.
#[derive(Debug)]
pub struct Owner {
    pub way_in: WayIn,
    pub subject: String,
    /// The name, as the directory spells it or the realm's principal says it.
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

/// The method that a password proves, whoever was asked (RFC 8176).
pub const METHOD: &str = "pwd";

/// Whether a password is that of a name, by a way in. Tries are counted before.
///
/// # Errors
/// It is not, or nobody can say just now.
pub async fn check(engine: &Engine, way: &Way, of: PasswordOf<'_>, name: &str, password: &str) -> Result<Owner, NotTheirs> {
    match of {
        PasswordOf::Directory(directory) => in_directory(engine, directory, name, password).await,
        PasswordOf::Realm(realm) => in_realm(engine, &way.name, realm, name, password).await,
    }
}

async fn in_directory(engine: &Engine, way: &PasswordWay, name: &str, password: &str) -> Result<Owner, NotTheirs> {
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
            Ok(Owner { way_in: WayIn::Password, subject: bound.subject, name: bound.key, claims, step })
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

async fn in_realm(engine: &Engine, name_of: &str, way: &TicketWay, name: &str, password: &str) -> Result<Owner, NotTheirs> {
    let began = Instant::now();
    let not_now = |realm: &str, how: String| NotTheirs { step: step!(RealmSilent { realm, how }), is_not_now: true };
    let wrong = |step: Step| NotTheirs { step, is_not_now: false };
    let principal = way.principal(name);
    let Some((principal, realm)) = principal.as_deref().and_then(|p| Some((p, p.rsplit_once('@')?.1))) else {
        let why = Param::reason("realm-name");
        return Err(wrong(step!(RealmPasswordRefused { why })));
    };
    let Some(link) = engine.tickets(name_of) else {
        return Err(not_now(realm, "the way in is not in use on this node".to_owned()));
    };
    let (client, service) = match link.check_password(realm, principal.to_owned(), password.to_owned()).await {
        Ok(found) => found,
        Err(Refused::Account(why)) => {
            // A name that nobody has is not kept: it may be a password.
            let who = if why == Why::NoClient { String::new() } else { principal.to_owned() };
            let why = Param::Reason { code: reason(why).into(), detail: who };
            return Err(wrong(step!(RealmPasswordRefused { why })));
        }
        Err(Refused::NotNow(how)) => return Err(not_now(realm, how)),
    };
    // Whose ticket it is, is the KDC's word, not what was typed.
    let of = match way.person(&client) {
        Ok(of) => of,
        Err(why) => {
            let why = Param::reason(why.code());
            return Err(wrong(step!(TicketNobody { client: client.as_str(), why })));
        }
    };
    let millis = i64::try_from(began.elapsed().as_millis()).unwrap_or(i64::MAX);
    let step = step!(RealmPassword { client: client.as_str(), service: service.as_str(), millis });
    let (claims, name) = (tickets::claims(&client, &of, false), of.user);
    Ok(Owner { way_in: WayIn::Ticket, subject: client, name, claims, step })
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
