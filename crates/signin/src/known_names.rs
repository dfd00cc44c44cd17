//! Names by which people came in before, as far as routes ask: kept as MACs, so that nobody reads them.

use passeur_core::evidence::Evidence;
use passeur_core::identity::from_claims;
use passeur_core::route::ByName;
use passeur_core::site::Site;
use passeur_engine::Engine;
use passeur_store::StoreError;

/// What a name is kept as, before the MAC.
pub fn known(attribute: &str, value: &str) -> String {
    format!("{attribute}\0{}", value.trim().to_lowercase())
}

/// Notes by which names somebody came in, as far as routes ask.
pub async fn remember(engine: &Engine, site: &Site, evidence: &Evidence) -> Result<(), StoreError> {
    let asked = site.routes.iter().filter_map(|r| match &r.by {
        Some(ByName::Known { attribute }) => Some(attribute.as_str()),
        _ => None,
    });
    let mut names = vec![];
    for attribute in asked {
        let fed = site.fed_by_sign_in(&evidence.provider).iter().find(|(id, _)| site.attribute_name(*id) == attribute);
        let Some((_, claim)) = fed else { continue };
        for value in from_claims(evidence, claim).values().unwrap_or_default() {
            names.push(engine.ring.mac("known-name", known(attribute, value).as_bytes()));
        }
    }
    engine.store.note_known_names(&names, evidence.way(), engine.now()).await
}
