//! The authorization endpoint and its pages: user name and password, then a second factor.

use std::collections::HashMap;

use axum::extract::{Form, Query, State};
use axum::response::{Html, IntoResponse, Response};
use http::{HeaderMap, HeaderValue, StatusCode, header};
use maud::{DOCTYPE, Markup, html};
use serde::Deserialize;
use url::Url;

use super::{Grant, Mode, Provider, random};

/// An authorization request.
#[derive(Clone, Debug, Deserialize)]
pub(super) struct Ask {
    response_type: String,
    client_id: String,
    redirect_uri: String,
    scope: String,
    state: String,
    #[serde(default)]
    nonce: String,
    code_challenge: String,
    code_challenge_method: String,
    #[serde(default)]
    prompt: String,
    #[serde(default)]
    max_age: String,
    #[serde(default)]
    response_mode: String,
}

pub(super) fn page(status: StatusCode, title: &str, content: Markup) -> Response {
    let style = "body{font:17px/1.5 sans-serif;background:#e9edf5;color:#1b2540;display:grid;place-items:center;min-height:90vh;margin:0}main{background:#fff;padding:2rem;border-top:6px solid #35508f;width:22rem}label{display:block;margin:.8rem 0}input{display:block;width:100%;font:inherit;padding:.3rem;box-sizing:border-box}button{font:inherit;margin-top:1rem;padding:.4rem 1.2rem}.bad{color:#a11}";
    let markup = html! { (DOCTYPE) html lang="en" {
        head { meta charset="utf-8"; meta name="viewport" content="width=device-width"; title { (title) } style { (maud::PreEscaped(style)) } }
        body { main { h1 { "Pilotage office" } (content) } }
    } };
    let mut response = (status, Html(markup.into_string())).into_response();
    response.headers_mut().insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    response
}

pub(super) fn password_page(id: &str, wrong: bool) -> Response {
    page(
        StatusCode::OK,
        "Sign in",
        html! {
            @if wrong { p.bad { "User name or password is wrong." } }
            form method="post" action="/password" {
                input type="hidden" name="id" value=(id);
                label { "User name" input name="user" autocomplete="username" required autofocus; }
                label { "Password" input name="password" type="password" autocomplete="current-password" required; }
                button { "Continue" }
            }
        },
    )
}

fn second_page(id: &str, wrong: bool) -> Response {
    page(
        StatusCode::OK,
        "Second factor",
        html! {
            @if wrong { p.bad { "The code is wrong." } }
            form method="post" action="/second" {
                input type="hidden" name="id" value=(id);
                label { "Code from your key card" input name="code" inputmode="numeric" autocomplete="one-time-code" required autofocus; }
                button { "Sign in" }
            }
        },
    )
}

pub(super) fn see_other(to: &str) -> Response {
    let mut response = StatusCode::SEE_OTHER.into_response();
    if let Ok(v) = HeaderValue::from_str(to) {
        response.headers_mut().insert(header::LOCATION, v);
    }
    response
}

fn back(p: &Provider, ask: &Ask, pairs: &[(&str, &str)]) -> Response {
    let issuer = if p.memory().mode == Mode::OtherIssuer { "http://elsewhere.localhost" } else { p.0.issuer.as_str() };
    let all = pairs.iter().copied().chain([("state", ask.state.as_str()), ("iss", issuer)]);
    if ask.response_mode == "form_post" {
        return page(
            StatusCode::OK,
            "One moment",
            html! {
                form method="post" action=(ask.redirect_uri) {
                    @for (name, value) in all { input type="hidden" name=(name) value=(value); }
                    button { "Go on" }
                }
                script { (maud::PreEscaped("document.forms[0].submit()")) }
            },
        );
    }
    let Ok(mut url) = Url::parse(&ask.redirect_uri) else { return StatusCode::BAD_REQUEST.into_response() };
    url.query_pairs_mut().extend_pairs(all);
    see_other(url.as_str())
}

/// Somebody signed in here.
#[derive(Clone, Debug)]
pub(super) struct Session {
    pub user: String,
    /// When they proved who they are, in seconds since 1970.
    pub at: i64,
    id: String,
}

impl Session {
    /// How services know it: nobody can take it for the cookie.
    pub(super) fn index(&self) -> String {
        let digest = aws_lc_rs::digest::digest(&aws_lc_rs::digest::SHA256, self.id.as_bytes());
        digest.as_ref()[..8].iter().map(|b| format!("{b:02x}")).collect()
    }
}

/// What somebody signs in for.
#[derive(Clone, Debug)]
pub(super) enum Purpose {
    Oidc(Ask),
    Saml(super::saml::Asked),
}

pub(super) fn session_cookie(headers: &HeaderMap) -> Option<String> {
    let cookies = headers.get(header::COOKIE)?.to_str().ok()?;
    cookies.split(';').find_map(|c| c.trim().strip_prefix("pilotage_session=")).map(str::to_owned)
}

pub(super) fn session_of(p: &Provider, headers: &HeaderMap) -> Option<Session> {
    p.memory().sessions.get(&session_cookie(headers)?).cloned()
}

pub(super) async fn ask(State(p): State<Provider>, headers: HeaderMap, Query(ask): Query<Ask>) -> Response {
    // An unknown client or redirect address is never redirected to: the person sees the error here.
    let known = p.0.register.client(&ask.client_id).is_some_and(|c| c.redirect_uris.contains(&ask.redirect_uri));
    if !known {
        return page(
            StatusCode::BAD_REQUEST,
            "Error",
            html! { p.bad { "This client or redirect address is not registered here." } },
        );
    }
    if p.memory().mode == Mode::Refuses {
        return back(&p, &ask, &[("error", "access_denied"), ("error_description", "The office is closed to this account")]);
    }
    if ask.response_type != "code" || ask.code_challenge_method != "S256" || !ask.scope.split(' ').any(|s| s == "openid") {
        return back(&p, &ask, &[("error", "invalid_request")]);
    }
    match session_of(&p, &headers) {
        Some(s) if ask.prompt != "login" || p.memory().mode == Mode::IgnoresPrompt => finish(&p, &ask, &s),
        _ if ask.prompt == "none" => back(&p, &ask, &[("error", "login_required")]),
        _ => {
            let id = random();
            p.memory().pending.insert(id.clone(), (Purpose::Oidc(ask), None));
            password_page(&id, false)
        }
    }
}

fn finish(p: &Provider, ask: &Ask, session: &Session) -> Response {
    let code = random();
    let grant = Grant {
        client: ask.client_id.clone(),
        redirect_uri: ask.redirect_uri.clone(),
        nonce: ask.nonce.clone(),
        challenge: ask.code_challenge.clone(),
        user: session.user.clone(),
        auth_time: session.at,
        // OpenID Connect Core 2: it must be said where max_age was asked for, and may be left out otherwise.
        tells_time: !ask.max_age.is_empty() || p.memory().mode != Mode::NoAuthTime,
        sid: session.index(),
    };
    p.memory().codes.insert(code.clone(), grant);
    back(p, ask, &[("code", &code)])
}

#[derive(Deserialize)]
pub(super) struct Password {
    id: String,
    user: String,
    password: String,
}

pub(super) async fn password(State(p): State<Provider>, Form(f): Form<Password>) -> Response {
    let good = p.0.register.person(&f.user).is_some_and(|person| person.password == f.password);
    let mut memory = p.memory();
    match memory.pending.get_mut(&f.id) {
        None => page(StatusCode::BAD_REQUEST, "Too late", html! { p.bad { "This sign-in is too old." } }),
        Some(_) if !good => password_page(&f.id, true),
        Some((_, user)) => {
            *user = Some(f.user);
            second_page(&f.id, false)
        }
    }
}

#[derive(Deserialize)]
pub(super) struct Second {
    id: String,
    code: String,
}

pub(super) async fn second(State(p): State<Provider>, Form(f): Form<Second>) -> Response {
    let pending = p.memory().pending.get(&f.id).cloned();
    let Some((ask, Some(user))) = pending else {
        return page(StatusCode::BAD_REQUEST, "Too late", html! { p.bad { "This sign-in is too old." } });
    };
    if p.0.register.person(&user).is_none_or(|person| person.code != f.code.trim()) {
        return second_page(&f.id, true);
    }
    let session = random();
    let began = Session { user, at: p.now(), id: session.clone() };
    {
        let mut memory = p.memory();
        memory.pending.remove(&f.id);
        memory.sessions.insert(session.clone(), began.clone());
    }
    let mut response = match &ask {
        Purpose::Oidc(ask) => finish(&p, ask, &began),
        Purpose::Saml(asked) => super::saml::finish(&p, asked, &began),
    };
    if let Ok(v) = HeaderValue::from_str(&format!("pilotage_session={session}; Path=/; HttpOnly; SameSite=Lax")) {
        response.headers_mut().append(header::SET_COOKIE, v);
    }
    response
}

pub(super) async fn end_session(
    State(p): State<Provider>,
    headers: HeaderMap,
    Query(q): Query<HashMap<String, String>>,
) -> Response {
    let gone = session_cookie(&headers).and_then(|id| p.memory().sessions.remove(&id));
    if let Some(session) = &gone {
        super::leaving::back_channel(&p, session).await;
    }
    let frames = gone.map(|s| super::leaving::front_channel(&p, &s)).unwrap_or_default();
    let to = q.get("post_logout_redirect_uri");
    let client = q.get("client_id").and_then(|id| p.0.register.client(id));
    match (to, client) {
        (Some(to), Some(c)) if c.after_sign_out.contains(to) && frames.is_empty() => see_other(to),
        _ => page(
            StatusCode::OK,
            "Signed out",
            html! {
                p { "You are signed out of the pilotage office." }
                @for frame in frames { iframe src=(frame) width="1" height="1" title="sign-out" {} }
            },
        ),
    }
}
