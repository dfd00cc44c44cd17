//! Whether anybody could still configure the service under a draft: those known to be engineers are tried on it.

use std::net::IpAddr;

use chrono::Duration;
use passeur_core::Moment;
use passeur_core::circumstances::Circumstances;
use passeur_core::evidence::Evidence;
use passeur_core::rehearse::{CONSOLE, Verdict, because, try_at};
use passeur_core::site::Site;
use passeur_core::step::Lang;
use passeur_store::StoreError;

use crate::app::App;

/// How far back engineers are looked for.
const LOOK_BACK_DAYS: i64 = 30;

fn configures(site: &Site, evidence: &Evidence, at: &Circumstances<'_>) -> bool {
    matches!(try_at(site, CONSOLE, evidence, at).verdict, Verdict::In(given) if given.roles.iter().any(|r| r == "configure"))
}

/// Why engineers would be locked out, in words; none when the publisher, if they signed in, and at least one other known
/// engineer could still configure. Where no engineer ever signed in, nothing can be said, and nothing is refused.
pub async fn check(
    app: &App,
    publisher: Option<&Evidence>,
    at: &Circumstances<'_>,
    site: &Site,
) -> Result<Option<String>, StoreError> {
    if let Some(evidence) = publisher {
        if configures(site, evidence, at) {
            return Ok(None);
        }
        let why = because(site, CONSOLE, evidence, at, Lang::En);
        return Ok(Some(format!("You could not configure Passeur any more under it. {why} Nothing was changed.")));
    }
    let live = app.live.get();
    // As they came: from where they came, when they came.
    let as_then = |at: &Moment, address: &Option<IpAddr>| Circumstances { address: *address, ..Circumstances::at(*at) };
    let since = app.now() - Duration::days(LOOK_BACK_DAYS);
    let mut engineers: Vec<(String, Evidence, Moment, Option<IpAddr>)> = vec![];
    let mut pages = app.store.past_crossings(since, Some(CONSOLE));
    while let Some(page) = pages.next().await? {
        for row in page {
            let Some(evidence) = Evidence::from_stored_text(&row.evidence) else { continue };
            let address = row.address.parse().ok();
            let same = |e: &Evidence| (&e.provider, &e.subject) == (&evidence.provider, &evidence.subject);
            // As they came last; and only who may configure today can lose it.
            engineers.retain(|(_, e, ..)| !same(e));
            if live.as_ref().is_some_and(|l| configures(&l.site, &evidence, &as_then(&row.at, &address))) {
                engineers.push((row.person, evidence, row.at, address));
            }
        }
    }
    engineers.reverse();
    if engineers.is_empty() || engineers.iter().any(|(_, e, at, from)| configures(site, e, &as_then(at, from))) {
        return Ok(None);
    }
    let names: Vec<&str> = engineers.iter().take(8).map(|(n, ..)| n.as_str()).collect();
    let why =
        engineers.first().map(|(_, e, at, from)| because(site, CONSOLE, e, &as_then(at, from), Lang::En)).unwrap_or_default();
    Ok(Some(format!(
        "No engineer who signed in within {LOOK_BACK_DAYS} days could configure Passeur under it: {}. {why} Nothing was changed.",
        names.join(", ")
    )))
}
