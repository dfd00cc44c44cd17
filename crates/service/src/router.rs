//! The sign-in host: pages, console and management API.

use axum::Router;
use axum::extract::{DefaultBodyLimit, State};
use axum::middleware;
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use http::{StatusCode, header};
use passeur_core::circumstances::Circumstances;
use passeur_core::decide::console_roles;
use passeur_core::identity::identify;
use passeur_core::site::Access;
use passeur_core::step::Silent;
use passeur_engine::grants::{Glance, glance};
use passeur_engine::look_up;
use passeur_gateway::bodies::Bound;

use crate::api::problem;
use crate::app::App;
use crate::pages::{self, Quay, QuayGate};
use crate::signin::{LiveEdition, Visit, answer, device, ended, local, out, published, route, saml, session, start, tokens};
use crate::{api, console, emergency, factors, guard};

/// The largest body of a call of the API: a site file is the largest thing anybody sends. Nothing of it is read before the caller is
/// known.
const CALL_MAX: usize = 5 << 20;
/// The largest body of a page: forms of a few fields, and tokens of providers.
const PAGE_MAX: usize = 64 * 1024;
/// The largest body at an address that takes SAML messages (in base64, in a form).
const SAML_MAX: usize = 512 * 1024;

/// What is read of a body at a path of the sign-in host.
pub fn bound(path: &str) -> Bound {
    let (max, known) = match path {
        p if p.starts_with("/api/") => (CALL_MAX, true),
        p if p.starts_with("/.passeur/saml/") => (SAML_MAX, false),
        _ => (PAGE_MAX, false),
    };
    Bound { max, known }
}

/// How many changes of somebody's roles the quay shows.
const CHANGES_SHOWN: i64 = 3;

/// Everything on the sign-in host.
pub fn router(app: &App) -> Router {
    Router::new()
        .route("/", get(quay))
        .route("/.passeur/sign-in", get(start::sign_in))
        .route("/.passeur/oidc/{provider}/answer", get(answer::answer))
        .route("/.passeur/oidc/{provider}/trial", get(answer::of_trial))
        .route("/.passeur/oidc/{provider}/keys", get(published::client_keys))
        .route("/.well-known/oauth-authorization-server", get(published::authorization_server))
        .route("/.passeur/saml/metadata", get(saml::metadata::serve))
        .route("/.passeur/saml/{provider}/answer", get(saml::answer::answer))
        .route("/.passeur/factors", get(factors::page::show).post(factors::page::change))
        .route("/.passeur/factor", post(factors::prove::post))
        .route("/.passeur/passkey", post(factors::ceremony::begin))
        .route("/.passeur/passkey.js", get(factors::script))
        .route("/.passeur/device", get(device::show).post(device::answer))
        .route("/.passeur/tokens", get(tokens::show).post(tokens::change))
        .route("/.passeur/name", post(route::post))
        .route("/.passeur/way/{name}", post(local::post))
        .route("/.passeur/way/{name}/ticket", get(local::ticket::negotiate))
        .route("/.passeur/sign-out", get(out::ask).post(out::sign_out))
        .route("/.passeur/signed-out", get(out::signed_out))
        .route("/.passeur/emergency", get(emergency::show).post(emergency::sign_in))
        .route("/.passeur/page.css", get(style))
        .nest("/api/v1", api::router(app))
        .merge(console::router())
        .fallback(async || problem(StatusCode::NOT_FOUND, "not-found", "Nothing is here", "There is no such page."))
        .layer(middleware::from_fn_with_state(app.clone(), guard::check))
        // Below the guard: a provider's page posts these. None is acted on by the cookies it comes with.
        .route("/.passeur/oidc/{provider}/answer", post(answer::post))
        .route("/.passeur/oidc/{provider}/trial", post(answer::post_of_trial))
        .route("/.passeur/oidc/{provider}/back-channel", post(ended::back_channel))
        .route("/.passeur/oidc/{provider}/front-channel", get(ended::front_channel))
        .route("/.passeur/device/authorize", post(device::begin))
        .route("/.passeur/device/token", post(device::poll))
        .route("/.passeur/saml/{provider}/answer", post(saml::answer::post))
        .route("/.passeur/saml/{provider}/sign-out", get(saml::out::message).post(saml::out::message))
        // Every body is bounded by its place before it comes here: see [`bound`].
        .layer(DefaultBodyLimit::disable())
        .with_state(app.clone())
}

/// The stylesheet of pages.
pub async fn style() -> impl IntoResponse {
    let cache = "public, max-age=300";
    ([(header::CONTENT_TYPE, "text/css; charset=utf-8"), (header::CACHE_CONTROL, cache)], pages::STYLE)
}

async fn quay(State(app): State<App>, edition: Option<LiveEdition>, visit: Visit) -> Response {
    let lang = visit.facts.lang;
    let Some(LiveEdition(edition)) = edition else {
        return pages::not_set_up(lang).into_response();
    };
    let site = &edition.site;
    let mut session = match session::of_browser(&app, &edition, &visit.headers).await {
        Ok(Some(s)) => s,
        Ok(None) => return pages::quay(site, lang, None).into_response(),
        Err(e) => return pages::store_failed(site, lang, &e).into_response(),
    };
    let wanted: Vec<&Access> = site.gates.iter().map(|g| &g.access).filter(|a| a.takes(site, &session.evidence)).collect();
    for access in &wanted {
        look_up::fill(&app, site, access, &mut session.evidence).await;
    }
    let at = Circumstances::at(app.now()).from(visit.facts.address);
    let gates: Vec<QuayGate> = site
        .gates
        .iter()
        .map(|g| {
            let Glance { admits, messages, roles, .. } = glance(site, g, &session.evidence, &at);
            QuayGate { title: g.title.clone(), address: g.address.at("/"), open: admits, messages, roles }
        })
        .collect();
    let changes = match app.store.role_changes(&session.evidence.person(), CHANGES_SHOWN).await {
        Ok(changes) => changes,
        Err(e) => return pages::store_failed(site, lang, &e).into_response(),
    };
    let nobody = Access {
        ways: vec![session.evidence.way().to_owned()],
        directories: vec![],
        groups: passeur_core::site::GroupsFrom::Directory,
        without_directory: false,
        disabled: passeur_core::site::Disabled::Refuse,
        re_read: chrono::Duration::minutes(5),
        dead: passeur_core::site::Dead::Keep,
        mappings: vec![],
        unasked: true,
        callers: None,
        rules: passeur_core::site::Rules::default(),
    };
    let seen_as = wanted.first().copied().or(site.engineers.as_ref()).unwrap_or(&nobody);
    let who = identify(site, seen_as, &session.evidence, &mut Silent);
    let console = !console_roles(site, &session.evidence, &at, &mut Silent).is_empty();
    pages::quay(site, lang, Some(&Quay { session: &session, who: &who, gates: &gates, console, changes: &changes }))
        .into_response()
}
