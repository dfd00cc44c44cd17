//! Who is asking, and how far they may go.

use axum::extract::{FromRequestParts, State};
use http::request::Parts;
use http::{StatusCode, header};
use passeur_api::{Me, Role};
use passeur_core::decide::console_roles;
use passeur_core::id::Token;
use passeur_core::step::{Lang, Silent};

use super::extract::Json;
use super::{ApiError, problem};
use crate::app::App;
use crate::signin::{evidence, session};

/// Somebody who may use the API.
pub struct Engineer {
    pub name: String,
    pub role: Role,
    by: &'static str,
    /// The language their sentences are told in.
    pub lang: Lang,
}

impl Engineer {
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
        if let Some(value) = parts.headers.get(header::AUTHORIZATION) {
            let text = value.to_str().unwrap_or_default();
            let bearer = text.split_once(' ').filter(|(scheme, _)| scheme.eq_ignore_ascii_case("bearer")).map(|(_, t)| t.trim());
            let Some(token) = bearer.and_then(Token::parse) else {
                return Err(unknown_token());
            };
            let row = app.store.token(&token.digest()).await?.ok_or_else(unknown_token)?;
            let role = Role::parse(&row.role).ok_or_else(unknown_token)?;
            return Ok(Engineer { name: row.name, role, by: "token", lang });
        }
        let sign_in = || {
            problem(
                StatusCode::UNAUTHORIZED,
                "sign-in",
                "Sign-in needed",
                "Sign in to the console, or send Authorization: Bearer TOKEN.",
            )
        };
        let Some(edition) = app.live.get() else {
            return Err(sign_in());
        };
        let Some(mut found) = session::of_browser(app, &edition, &parts.headers).await? else {
            return Err(sign_in());
        };
        if let Some(access) = &edition.site.engineers
            && evidence::lacks(access, &found.evidence)
        {
            evidence::complete(app, &edition.site, access, &mut found.evidence).await;
        }
        let roles = console_roles(&edition.site, &found.evidence, &mut Silent);
        let role = roles.iter().filter_map(|r| Role::parse(r)).max();
        let none = || {
            let detail = format!("{} is signed in, but no rule under [engineers] gives a role.", found.row.name);
            problem(StatusCode::FORBIDDEN, "role", "No role here", &detail)
        };
        Ok(Engineer { role: role.ok_or_else(none)?, name: found.row.name, by: "session", lang })
    }
}

fn unknown_token() -> ApiError {
    problem(StatusCode::UNAUTHORIZED, "token", "Token not known", "The bearer token is not known or was revoked.")
}

/// Who is asking.
#[utoipa::path(get, path = "/me", responses((status = 200, body = Me), (status = 401, body = passeur_api::Problem)))]
pub async fn me(State(app): State<App>, who: Engineer) -> Json<Me> {
    let live = app.live.get();
    Json(Me {
        name: who.name,
        role: who.role,
        by: who.by.to_owned(),
        site: live.as_ref().map_or_else(|| "Passeur".to_owned(), |e| e.site.name.clone()),
        edition: live.map_or(0, |e| e.number),
        version: env!("CARGO_PKG_VERSION").to_owned(),
    })
}
