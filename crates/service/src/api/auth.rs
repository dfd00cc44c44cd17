//! Who is asking, and how far they may go.

use std::net::IpAddr;

use axum::extract::{FromRequestParts, State};
use http::request::Parts;
use http::{StatusCode, header};
use passeur_api::{Me, Role};
use passeur_core::Moment;
use passeur_core::acts::Personal;
use passeur_core::circumstances::Circumstances;
use passeur_core::decide::console_roles;
use passeur_core::evidence::Evidence;
use passeur_core::id::Token;
use passeur_core::step::{Lang, Silent};
use passeur_store::Recorded;

use super::extract::Json;
use super::{ApiError, problem};
use crate::app::App;
use crate::emergency::{self, AnyHost};
use crate::signin::{ClientAddress, evidence, session};

/// Somebody who may use the API.
pub struct Engineer {
    pub name: String,
    pub role: Role,
    by: &'static str,
    /// When they signed in; none for a token.
    pub began: Option<Moment>,
    /// What is known of them; none for a token.
    pub evidence: Option<Evidence>,
    /// Where they are; none where that is not known.
    pub address: Option<IpAddr>,
    /// The language their sentences are told in.
    pub lang: Lang,
}

impl Engineer {
    /// What conditions may ask of them now.
    pub fn circumstances(&self, app: &App) -> Circumstances<'static> {
        Circumstances { address: self.address, ..Circumstances::at(app.now()) }
    }

    /// An act of theirs, to record in the transaction that makes it.
    pub fn act<'a>(&self, app: &'a App, what: &str, about: serde_json::Value) -> Recorded<'a> {
        app.act(what, about, Personal { who: self.name.clone(), by: self.by.to_owned(), people: vec![] })
    }

    /// Lets on only those whose role reaches.
    pub fn may(&self, needed: Role) -> Result<(), ApiError> {
        if self.role >= needed {
            return Ok(());
        }
        let detail = format!(
            "This needs the role {}; {} has {}. The [engineers] rules of the site file give roles.",
            needed.word(),
            self.name,
            self.role.word()
        );
        Err(problem(StatusCode::FORBIDDEN, "role", "Not with this role", &detail))
    }
}

impl FromRequestParts<App> for Engineer {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Engineer, ApiError> {
        let lang =
            parts.headers.get(header::ACCEPT_LANGUAGE).and_then(|v| v.to_str().ok()).map(Lang::from_accept).unwrap_or_default();
        let any_host = parts.extensions.get::<AnyHost>().is_some();
        let address = parts.extensions.get::<ClientAddress>().map(|a| a.0);
        if let Some(address) = address
            && let Some(found) = emergency::session(app, &parts.headers, address, any_host).await?
        {
            let name = app.emergency.as_ref().map_or_else(String::new, |e| format!("emergency account {}", e.name));
            return Ok(Engineer {
                name,
                role: Role::Configure,
                by: "emergency",
                began: Some(found.began),
                evidence: None,
                address: Some(address),
                lang,
            });
        }
        if any_host {
            return Err(emergency_only());
        }
        if let Some(value) = parts.headers.get(header::AUTHORIZATION) {
            let text = value.to_str().unwrap_or_default();
            let bearer = text.split_once(' ').filter(|(scheme, _)| scheme.eq_ignore_ascii_case("bearer")).map(|(_, t)| t.trim());
            let Some(token) = bearer.and_then(Token::parse) else {
                return Err(unknown_token());
            };
            let row = app.store.token(&token.digest()).await?.ok_or_else(unknown_token)?;
            let role = Role::parse(&row.role).ok_or_else(unknown_token)?;
            return Ok(Engineer { name: row.name, role, by: "token", began: None, evidence: None, address, lang });
        }
        let offered = address.is_some_and(|a| app.emergency.as_ref().is_some_and(|e| e.is_offered_to(a)));
        let sign_in = || {
            let mut problem = problem(
                StatusCode::UNAUTHORIZED,
                "sign-in",
                "Sign-in needed",
                "Sign in to the console, or send Authorization: Bearer TOKEN.",
            );
            if offered {
                problem = problem.with_emergency();
            }
            problem
        };
        let Some(edition) = app.live.get() else {
            return Err(sign_in());
        };
        let Some(mut found) = session::of_browser(app, &edition, &parts.headers).await? else {
            return Err(sign_in());
        };
        if let Some(access) = &edition.site.engineers
            && evidence::lacks(&edition.site, access, &found.evidence)
        {
            evidence::complete(app, &edition.site, access, &mut found.evidence).await;
        }
        let at = Circumstances { address, ..Circumstances::at(app.now()) };
        let roles = console_roles(&edition.site, &found.evidence, &at, &mut Silent);
        let role = roles.iter().filter_map(|r| Role::parse(r)).max();
        let none = || {
            let detail = format!("{} is signed in, but no rule under [engineers] gives a role.", found.row.name);
            problem(StatusCode::FORBIDDEN, "role", "No role here", &detail)
        };
        Ok(Engineer {
            role: role.ok_or_else(none)?,
            name: found.row.name,
            by: "session",
            began: Some(found.row.began),
            evidence: Some(found.evidence),
            address,
            lang,
        })
    }
}

fn emergency_only() -> ApiError {
    let words = "No edition knows this host. Only the emergency account works here.";
    problem(StatusCode::UNAUTHORIZED, "sign-in", "Sign-in needed", words).with_emergency()
}

fn unknown_token() -> ApiError {
    problem(StatusCode::UNAUTHORIZED, "token", "Token not known", "The bearer token is not known or was revoked.")
}

/// Who is asking.
#[utoipa::path(get, path = "/me", responses((status = 200, body = Me), (status = 401, body = passeur_api::Problem)))]
pub async fn me(State(app): State<App>, who: Engineer) -> Result<Json<Me>, ApiError> {
    let live = app.live.get();
    let since = app.now() - chrono::Duration::days(7);
    let emergency = app.store.latest_act("emergency sign-in", since).await?;
    Ok(Json(Me {
        name: who.name,
        role: who.role,
        by: who.by.to_owned(),
        site: live.as_ref().map_or_else(|| "Passeur".to_owned(), |e| e.site.name.clone()),
        edition: live.map_or(0, |e| e.number),
        confirm_by: app.waits_for_confirmation(),
        trouble: app.trouble(),
        emergency,
        version: env!("CARGO_PKG_VERSION").to_owned(),
    }))
}
