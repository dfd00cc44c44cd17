//! What is asked before an edition is published whose sources are others: what cannot be known of them, and what a trial finds.

use std::collections::BTreeSet;

use futures_util::future::join_all;
use http::StatusCode;
use passeur_api::{CheckVerdict, DirectoryTrial, ProviderTrial, TrialCheck};
use passeur_core::compare::{ChangedSource, users_words};
use passeur_core::site::Site;
use passeur_core::step::Lang;

use super::super::auth::Engineer;
use super::super::errors::ApiError;
use super::publish::{NAMED, unless_named};
use crate::app::App;
use crate::trials::{self, Under};

/// The most sources that are tried for one publishing; the rest is for trials of their own.
const TRIED_MAX: usize = 12;

/// What everything else stands on and would be another: nothing that is recorded tells who comes in then, so that the publisher is asked
/// by name.
pub(super) fn ask_about_sources(before: &Site, after: &Site, changed: &[ChangedSource]) -> Result<(), ApiError> {
    let mut told = vec![];
    let (was, is) = (before.address.origin(), after.address.origin());
    if was != is {
        told.push(format!(
            "the sign-in host was {was} and becomes {is}, and with it every redirect address, the entity id and the console: providers must know these first"
        ));
    }
    for c in changed.iter() {
        let trial = match c.kind {
            "directory" => format!(" (passeur trial directory {})", c.name),
            "provider" => format!(" (passeur trial sign-in {} --draft)", c.name),
            _ => String::new(),
        };
        let (users, stand) = (users_words(&c.users, NAMED, Lang::En), if c.users.len() == 1 { "stands" } else { "stand" });
        told.push(format!("{} {} would be another, and {users} {stand} on it: try it{trial}", c.kind, c.name));
    }
    if told.is_empty() {
        return Ok(());
    }
    let detail = format!("What was recorded does not tell who comes in under it: {}. Nothing was changed.", told.join("; "));
    Err(unless_named(StatusCode::CONFLICT, "other-source", "Other sources", &detail))
}

/// A provider or directory to try.
type Part<'a> = (&'static str, &'a str);

/// Sources that gates of a site stand on, and that are new in it or others than before. Where the sign-in host is another, every
/// provider is: it must know another redirect address.
fn to_try<'a>(before: &Site, after: &'a Site, changed: &[ChangedSource]) -> Vec<Part<'a>> {
    let is_changed = |kind: &str, name: &str| changed.iter().any(|c| c.kind == kind && c.name == name);
    let moved = before.address.origin() != after.address.origin();
    let mut used: BTreeSet<Part<'a>> = BTreeSet::new();
    for access in after.accesses() {
        let ways = after.providers.iter().filter(|p| access.is_of(after, &p.name));
        used.extend(ways.map(|p| ("provider", p.name.as_str())));
        used.extend(access.directories.iter().map(|d| ("directory", d.as_str())));
    }
    used.retain(|(kind, name)| match *kind {
        "provider" => moved || before.provider(name).is_none() || is_changed(kind, name),
        _ => before.directory(name).is_none() || is_changed(kind, name),
    });
    used.into_iter().take(TRIED_MAX).collect()
}

/// Tries every source that is new or another, and asks where a trial finds something wrong. A stored secret goes only where the live edition
/// sends it, or for whoever stored it: what cannot be tried so is left to the question about sources.
pub(super) async fn ask_about_trials(
    app: &App,
    who: &Engineer,
    before: &Site,
    after: &Site,
    changed: &[ChangedSource],
) -> Result<(), ApiError> {
    let under = Under { site: after, live: Some(before), who: Some(who) };
    let tries = to_try(before, after, changed).into_iter().map(|(kind, name)| async move {
        let answer = match kind {
            "provider" => trials::provider(app, under, &ProviderTrial::named(name)).await,
            _ => trials::directory(app, under, &DirectoryTrial::named(name)).await,
        };
        let wrong = |c: TrialCheck| (c.verdict == CheckVerdict::Wrong).then_some(c.words);
        let found: Vec<String> = match answer {
            Ok(answer) => answer.checks.into_iter().filter_map(wrong).collect(),
            Err(lacking) => vec![lacking.0],
        };
        (!found.is_empty()).then(|| format!("{kind} {name}: {}", found.join(", ")))
    });
    let wrong: Vec<String> = join_all(tries).await.into_iter().flatten().collect();
    if wrong.is_empty() {
        return Ok(());
    }
    let detail = format!(
        "What it would stand on was tried, and does not work: {}. Nobody comes in by what does not work. Nothing was changed.",
        wrong.join("; ")
    );
    Err(unless_named(StatusCode::CONFLICT, "trial-failed", "A trial failed", &detail))
}
