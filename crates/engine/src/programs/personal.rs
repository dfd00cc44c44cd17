//! Personal tokens: they stand for their owner, as the provider named them last.

use passeur_core::evidence::{Factors, WayIn};
use passeur_core::id::Token;
use passeur_core::site::{Callers, Gate, PERSONAL_TOKEN, Site};
use passeur_core::step;
use passeur_store::StoreError;

use super::{Found, Good, bad};
use crate::engine::Engine;
use crate::look_up;

/// What a personal token stands for at a gate.
pub async fn check(engine: &Engine, site: &Site, gate: &Gate, callers: &Callers, secret: &str) -> Result<Found, StoreError> {
    let now = engine.now();
    let Some(token) = Token::parse(secret) else { return Ok(bad("token", "no token of ours", "a good one").into()) };
    let Some(row) = engine.store.personal_token(&token.digest(), now).await? else {
        return Ok(bad("token", "one that is not known, was revoked or has run out", "a good one").into());
    };
    if !row.gates.contains(&gate.name) {
        return Ok(bad("gate", gate.name.as_str(), row.gates.join(", ")).into());
    }
    if !site.knows(&row.provider, &row.person()) {
        let wanted = site.authority(&row.provider).unwrap_or_else(|| "nobody: the site has no such provider".to_owned());
        return Ok(bad("owner", row.authority, wanted).into());
    }
    let Some((known, claimed)) = look_up::last_of_provider(engine, &row.person()).await? else {
        return Ok(bad("owner", "nobody known", "somebody who signed in").into());
    };
    if now >= claimed + callers.owner_seen {
        let seen = format!("signed in {}", claimed.format("%Y-%m-%d"));
        return Ok(bad("owner", seen, format!("within {} days", callers.owner_seen.num_days())).into());
    }
    // Nobody is there to prove anything: what rules ask of a sign-in, a token does not give.
    let evidence = known.standing(WayIn::PersonalToken, PERSONAL_TOKEN, claimed, Factors::default(), row.unasked);
    let step = step!(PersonalTokenRight {
        name: row.name.as_str(),
        provider: row.provider.as_str(),
        at: claimed.format("%Y-%m-%d %H:%M UTC").to_string(),
        expires: row.expires_at.format("%Y-%m-%d %H:%M UTC").to_string()
    });
    let thing = token.digest();
    let (expires, personal) = (row.expires_at, Some(row.id));
    Ok(Found::Good(Box::new(Good { evidence, expires, thing, ends: expires, paths: row.paths, personal, step })))
}
