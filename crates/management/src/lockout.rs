//! Whether anybody could still configure the service under a draft: those known to be engineers are tried on it.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::Arc;

use chrono::Duration;
use passeur_core::Moment;
use passeur_core::circumstances::Circumstances;
use passeur_core::evidence::Evidence;
use passeur_core::rehearse::{Verdict, because, try_at};
use passeur_core::site::{Place, Site};
use passeur_core::step::Lang;
use passeur_engine::look_up::complete_by;
use passeur_store::PastCrossing;

use crate::api::auth::Engineer;
use crate::api::errors::ApiError;
use crate::app::App;
use crate::computing::off_the_data_path;
use crate::trials::Under;

/// How far back engineers are looked for.
const LOOK_BACK_DAYS: i64 = 30;

fn configures(site: &Site, evidence: &Evidence, at: &Circumstances<'_>) -> bool {
    matches!(try_at(site, &Place::Console, evidence, at).verdict, Verdict::In(given) if given.roles.iter().any(|r| r == "configure"))
}

/// Why engineers would be locked out, in words; none when the publisher, if they signed in, and at least one other known
/// engineer could still configure. Where no engineer ever signed in, nothing can be said, and nothing is refused.
pub async fn check(app: &App, who: &Engineer, site: &Arc<Site>) -> Result<Option<String>, ApiError> {
    if let Some(mut evidence) = who.evidence.clone() {
        ask_anew(app, who, site, &mut evidence).await;
        let (at, site) = (who.circumstances(app), site.clone());
        return off_the_data_path(app, &who.name, move || publisher(&site, &evidence, &at)).await;
    }
    let Some(live) = app.live.get() else { return Ok(None) };
    let since = app.now() - Duration::days(LOOK_BACK_DAYS);
    let mut engineers = Engineers::default();
    let console = Place::Console.to_string();
    let mut pages = app.store.past_crossings(since, Some(&console));
    while let Some(page) = pages.next().await? {
        let (live, mut so_far) = (live.clone(), engineers);
        engineers = off_the_data_path(app, &who.name, move || {
            so_far.take(&live.site, page);
            so_far
        })
        .await?;
    }
    let site = site.clone();
    off_the_data_path(app, &who.name, move || engineers.left_out(&site)).await
}

/// Asks the directories that the console would stand on and that are others than today's: what today's say of the publisher tells nothing
/// of them. Where one cannot be asked, what is known stays, and publishing asks about the source by name.
async fn ask_anew(app: &App, who: &Engineer, site: &Arc<Site>, evidence: &mut Evidence) {
    let (Some(live), Some(access)) = (app.live.get(), &site.engineers) else { return };
    let under = Under { site, live: Some(&live.site), who: Some(who) };
    let Some(asking) = access.asking(site, evidence) else { return };
    let name = asking.directory.name.clone();
    if live.site.directory(&name) == site.directory(&name) {
        return;
    }
    if let Some(link) = under.directory(app, &name).await {
        complete_by(app, site, access, evidence, Some(link)).await;
    }
}

/// Why the publisher would be.
fn publisher(site: &Site, evidence: &Evidence, at: &Circumstances<'_>) -> Option<String> {
    if configures(site, evidence, at) {
        return None;
    }
    let why = because(site, &Place::Console, evidence, at, Lang::En);
    Some(format!("You could not configure Passeur any more under it. {why} Nothing was changed."))
}

/// Somebody who may configure today, as they came last: when, and from where.
struct Came {
    name: String,
    evidence: Evidence,
    at: Moment,
    address: Option<IpAddr>,
}

impl Came {
    fn circumstances(&self) -> Circumstances<'static> {
        Circumstances { address: self.address, ..Circumstances::at(self.at) }
    }
}

/// Engineers by who they are.
#[derive(Default)]
struct Engineers(HashMap<(String, String), Came>);

impl Engineers {
    /// Reads a page of crossings, older ones first. Only who may configure today can lose it.
    fn take(&mut self, live: &Site, page: Vec<PastCrossing>) {
        for row in page {
            let Some(evidence) = Evidence::from_stored_text(&row.evidence) else { continue };
            let who = (evidence.provider.clone(), evidence.subject.clone());
            let came = Came { name: row.person, evidence, at: row.at, address: row.address.parse().ok() };
            if configures(live, &came.evidence, &came.circumstances()) {
                self.0.insert(who, came);
            } else {
                self.0.remove(&who);
            }
        }
    }

    /// Why all of them would be; none where one would not, or where there are none.
    fn left_out(self, site: &Site) -> Option<String> {
        let mut all: Vec<Came> = self.0.into_values().collect();
        if all.is_empty() || all.iter().any(|c| configures(site, &c.evidence, &c.circumstances())) {
            return None;
        }
        all.sort_by_key(|c| std::cmp::Reverse(c.at));
        let names: Vec<&str> = all.iter().take(8).map(|c| c.name.as_str()).collect();
        let why =
            all.first().map(|c| because(site, &Place::Console, &c.evidence, &c.circumstances(), Lang::En)).unwrap_or_default();
        Some(format!(
            "No engineer who signed in within {LOOK_BACK_DAYS} days could configure Passeur under it: {}. {why} Nothing was changed.",
            names.join(", ")
        ))
    }
}
