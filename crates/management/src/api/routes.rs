//! Sign-in routes: what there is, and which would decide.

use axum::extract::State;
use http::StatusCode;
use passeur_api::{Problem, Route as ApiRoute, RouteTried, TryRoutes};
use passeur_core::role::Role;
use passeur_core::route::{self, Choice, Device, Facts, Suffix};
use passeur_core::site::{Place, Site};
use passeur_core::step;

use super::auth::Engineer;
use super::crossings::show;
use super::errors::{ApiError, bad, no_edition, problem};
use super::extract::Json;
use super::sites::{document, sound};
use crate::app::App;
use passeur_signin::journey::destination;
use passeur_signin::journey::routed::steps_of;
use passeur_signin::route::look_up;

/// Routes of the live edition, in order.
#[utoipa::path(get, operation_id = "routes", path = "/routes", responses((status = 200, body = Vec<ApiRoute>)))]
pub async fn routes(State(app): State<App>, who: Engineer) -> Result<Json<Vec<ApiRoute>>, ApiError> {
    who.may(Role::View)?;
    let edition = app.live.get().ok_or_else(no_edition)?;
    let site = &edition.site;
    let one = |r: &route::Route| ApiRoute { name: r.name.clone(), sentence: r.sentence(site, who.lang), ways: r.ways.clone() };
    Ok(Json(site.routes.iter().map(one).collect()))
}

/// Ways in that are taken at a place.
fn offered<'s>(site: &'s Site, place: &Place) -> Option<Vec<&'s str>> {
    match place {
        Place::Quay => Some(destination::of_site(site)),
        place => site.access_at(place).map(|a| destination::of_access(site, a)),
    }
}

/// Which route would decide for somebody, and why not the others. A name is looked up as it would be then.
#[utoipa::path(post, operation_id = "try_routes", path = "/routes/try", request_body = TryRoutes,
    responses((status = 200, body = RouteTried), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn try_routes(State(app): State<App>, who: Engineer, Json(ask): Json<TryRoutes>) -> Result<Json<RouteTried>, ApiError> {
    who.may(Role::View)?;
    let document = document(&app, ask.source).await?;
    let site = sound(&app, &who, &document).await?;
    let place = Place::parse(&ask.gate);
    let Some(offered) = offered(&site, &place) else {
        let words = format!("There is no gate \"{}\", and it is neither console nor quay.", ask.gate);
        return Err(problem(StatusCode::NOT_FOUND, "no-gate", "No such gate", &words));
    };
    let address = ask.address.as_deref().map(str::trim).filter(|a| !a.is_empty()).map(str::parse).transpose();
    let address = address.map_err(|_| bad("address is an IP address."))?;
    let device = Device::of(ask.agent.as_deref().unwrap_or_default(), None, None);
    let facts = Facts { place: &place, address, device, offered: &offered };
    let typed = match ask.name.as_deref().map(str::trim).filter(|n| !n.is_empty()) {
        None => None,
        Some(name) => {
            let suffix = Suffix::of(&site.routes, name);
            let questions = route::questions(&site.routes, &facts, &suffix);
            Some(look_up(&app, &site, name, suffix, &questions).await?)
        }
    };
    // Whoever is not asked for a name types none.
    let first = route::choose(&site.routes, &facts, None);
    let choice = match (&first, &typed) {
        (Choice::NameWanted { .. }, Some(typed)) => route::choose(&site.routes, &facts, Some(typed)),
        _ => first.clone(),
    };
    let by_name = matches!(first, Choice::NameWanted { .. });
    let (steps, route, ways, asked) = match choice {
        Choice::NameWanted { ways } => (vec![step!(NameAsked)], None, ways, false),
        Choice::Decided(d) => (steps_of(&d, by_name, false), d.route, d.ways, d.ask),
    };
    let last = steps.len().saturating_sub(1);
    Ok(Json(RouteTried {
        source: document.name,
        name_wanted: by_name && typed.is_none(),
        route,
        ways,
        asked,
        steps: steps.iter().enumerate().map(|(i, s)| show(i, s, i == last, who.lang)).collect(),
    }))
}
