//! Who is asking, and how far they may go.

use std::net::IpAddr;

use axum::extract::{FromRequestParts, State};
use http::request::Parts;
use http::{StatusCode, header};
use passeur_api::{KnownBy, Me};
use passeur_core::Moment;
use passeur_core::acts::Personal;
use passeur_core::circumstances::Circumstances;
use passeur_core::evidence::{Evidence, PersonKey};
use passeur_core::id::Token;
use passeur_core::identity::Person;
use passeur_core::likeness::Likeness;
use passeur_core::role::Role;
use passeur_core::step::Lang;
use passeur_engine::{console, look_up};
use passeur_store::{Recorded, SecretVersion, StoreError};

use super::errors::{ApiError, problem};
use super::extract::Json;
use crate::app::App;
use crate::emergency::{self, AnyHost};
use passeur_signin::journey::fresh;
use passeur_signin::{ClientAddress, session};

/// Somebody who may use the API.
pub struct Engineer {
    pub name: String,
    pub role: Role,
    pub by: KnownBy,
    /// When they signed in; none for a token.
    pub began: Option<Moment>,
    /// The person they are: of a token, its owner. None for the first token and the emergency account.
    pub person: Option<Person>,
    /// The same, as what is kept knows them.
    pub key: Option<PersonKey>,
    /// The session they came with; none for a token.
    pub session: Option<uuid::Uuid>,
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

    /// Whether this is the emergency account, which works when nothing and nobody else does.
    pub fn is_emergency(&self) -> bool {
        self.by == KnownBy::Emergency
    }

    /// An act of theirs, to record in the transaction that makes it.
    pub fn act<'a>(&self, app: &'a App, what: &str, about: serde_json::Value) -> Recorded<'a> {
        app.act(what, about, Personal { who: self.name.clone(), by: self.by.word().to_owned(), people: vec![] })
    }

    /// What they are known by; nothing for a token of nobody and the emergency account.
    pub async fn likeness(&self, app: &App) -> Result<Likeness, StoreError> {
        let Some(key) = &self.key else { return Ok(Likeness::default()) };
        match &self.evidence {
            Some(e) => Ok(Likeness::of(key, &self.name, Some(e))),
            // A token's name is not its owner's.
            None => {
                let name = app.store.name_of(key).await?.unwrap_or_default();
                Ok(Likeness::of(key, &name, app.store.latest_evidence(key).await?.as_ref()))
            }
        }
    }

    /// Whether it was they who stored a version of a secret.
    pub fn stored(&self, version: &SecretVersion) -> bool {
        let theirs = Likeness::from_stored(&version.likeness);
        match &self.key {
            Some(key) => theirs.is_of(key),
            None => theirs.is_empty() && version.changed_by == self.name,
        }
    }

    /// Lets on only those who proved of late who they are, where something is made that outlives their session.
    pub fn must_be_fresh(&self, app: &App) -> Result<(), ApiError> {
        if self.evidence.as_ref().is_some_and(|e| fresh::is_fresh(e, app.now())) {
            return Ok(());
        }
        let words = "This outlives your session, so that it takes a sign-in of the last 15 minutes: open \
                     /.passeur/sign-in?for=console&fresh=1 on the sign-in host, then do it again.";
        Err(problem(StatusCode::FORBIDDEN, "fresh", "Sign in once more", words))
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
            let name = app.emergency.as_ref().map(|e| e.who()).unwrap_or_default();
            return Ok(Engineer {
                name,
                role: Role::Configure,
                by: KnownBy::Emergency,
                began: Some(found.began),
                person: None,
                key: None,
                session: None,
                evidence: None,
                address: Some(address),
                lang,
            });
        }
        if any_host {
            return Err(emergency_only());
        }
        match parts.headers.get(header::AUTHORIZATION) {
            Some(value) => by_token(app, parts, value, (address, lang)).await,
            None => by_session(app, parts, (address, lang)).await,
        }
    }
}

fn emergency_only() -> ApiError {
    let words = "No edition knows this host. Only the emergency account works here.";
    problem(StatusCode::UNAUTHORIZED, "sign-in", "Sign-in needed", words).with_emergency()
}

/// Where a caller is, and the language that they are told in.
type From = (Option<IpAddr>, Lang);

/// By a bearer token: with its role, and never farther than its owner may go now.
async fn by_token(app: &App, parts: &Parts, value: &http::HeaderValue, (address, lang): From) -> Result<Engineer, ApiError> {
    let text = value.to_str().unwrap_or_default();
    let bearer = text.split_once(' ').filter(|(scheme, _)| scheme.eq_ignore_ascii_case("bearer")).map(|(_, t)| t.trim());
    let Some(token) = bearer.and_then(Token::parse) else {
        return Err(unknown_token());
    };
    let digest = token.digest();
    let row = app.store.token(&digest, app.now()).await?.ok_or_else(unknown_token)?;
    let mut role = Role::parse(&row.role).ok_or_else(unknown_token)?;
    if let Some(areas) = &row.areas {
        let area = area_of(parts.uri.path());
        if area != "me" && !areas.iter().any(|a| a == area) {
            let words = format!("The token \"{}\" is good for {} only.", row.name, areas.join(", "));
            return Err(problem(StatusCode::FORBIDDEN, "token", "Not with this token", &words));
        }
    }
    let (mut person, mut key) = (None, None);
    if let (Some(provider), Some(subject)) = (&row.owner_provider, &row.owner_subject) {
        person = Some(Person { provider: provider.clone(), subject: subject.clone() });
        let authority = row.owner_authority.clone().unwrap_or_default();
        let owner = PersonKey { authority, subject: subject.clone() };
        // It ends with its owner, and reaches no farther than they do now.
        let known = app.live.get().is_some_and(|e| e.site.knows(provider, &owner));
        if !known || app.store.block(&owner).await?.is_some() {
            return Err(owner_gone(&row));
        }
        let now = console::role_of_owner(app, (digest, address), &owner).await?;
        role = now.map(|owner| owner.min(role)).ok_or_else(|| owner_gone(&row))?;
        key = Some(owner);
    }
    app.store.token_used(&digest, app.now()).await?;
    Ok(Engineer {
        name: row.name,
        role,
        by: KnownBy::Token,
        began: None,
        person,
        key,
        session: None,
        evidence: None,
        address,
        lang,
    })
}

/// By the session of the browser.
async fn by_session(app: &App, parts: &Parts, (address, lang): From) -> Result<Engineer, ApiError> {
    let offered = address.is_some_and(|a| emergency::offered(app, &parts.headers, a).is_some());
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
    if let Some(access) = &edition.site.engineers {
        look_up::fill(app, &edition.site, access, &mut found.evidence).await;
    }
    let role = console::role(app, &edition.site, &found.evidence, address);
    let none = || {
        let detail = format!("{} is signed in, but no rule under [engineers] gives a role.", found.row.name);
        problem(StatusCode::FORBIDDEN, "role", "No role here", &detail)
    };
    Ok(Engineer {
        role: role.ok_or_else(none)?,
        name: found.row.name,
        by: KnownBy::Session,
        began: Some(found.row.began),
        person: Some(Person { provider: found.evidence.provider.clone(), subject: found.evidence.subject.clone() }),
        key: Some(found.evidence.person()),
        session: Some(found.row.id),
        evidence: Some(found.evidence),
        address,
        lang,
    })
}

/// The part of the API that a path belongs to.
fn area_of(path: &str) -> &str {
    path.strip_prefix("/api/v1").unwrap_or(path).trim_start_matches('/').split('/').next().unwrap_or_default()
}

fn owner_gone(row: &passeur_store::TokenRow) -> ApiError {
    let owner = row.owner_name.as_deref().unwrap_or("its owner");
    let words = format!("The token \"{}\" belongs to {owner}, who may do nothing here any more.", row.name);
    problem(StatusCode::UNAUTHORIZED, "token", "The token is over", &words)
}

fn unknown_token() -> ApiError {
    problem(StatusCode::UNAUTHORIZED, "token", "Token not known", "The bearer token is not known, was revoked, or has run out.")
}

/// Who is asking.
#[utoipa::path(get, path = "/me", responses((status = 200, body = Me), (status = 401, body = passeur_api::Problem)))]
pub async fn me(State(app): State<App>, who: Engineer) -> Result<Json<Me>, ApiError> {
    let live = app.live.get();
    let since = app.now() - chrono::Duration::days(7);
    let emergency = app.store.latest_act("emergency sign-in", since).await?;
    Ok(Json(Me {
        name: who.name,
        role: who.role.into(),
        by: who.by,
        site: live.as_ref().map_or_else(|| "Passeur".to_owned(), |e| e.site.name.clone()),
        edition: live.map_or(0, |e| e.number),
        confirm_by: app.waits_for_confirmation(),
        trouble: app.trouble(),
        emergency,
        version: env!("CARGO_PKG_VERSION").to_owned(),
    }))
}
