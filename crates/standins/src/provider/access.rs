//! Access tokens for other services: JWTs (RFC 9068), or opaque ones that it is asked about (RFC 7662).

use std::collections::HashMap;

use axum::Json;
use axum::extract::{Form, State};
use axum::response::{IntoResponse, Response};
use http::{HeaderMap, StatusCode};
use jsonwebtoken::{Algorithm, Header};
use serde_json::{Value, json};

use super::{Provider, random};

impl Provider {
    /// What is said of a token for somebody, for an audience, good for so many seconds.
    pub fn about(&self, user: &str, audience: &str, scope: &str, seconds: i64) -> Value {
        let person = self.0.register.person(user).cloned();
        json!({
            "iss": self.0.issuer, "sub": person.as_ref().map(|p| p.sub.clone()), "aud": audience, "client_id": "night-shift",
            "scope": scope, "iat": self.now(), "exp": self.now() + seconds, "jti": random(),
            "preferred_username": person.as_ref().map(|p| p.user.clone()), "name": person.and_then(|p| p.name),
        })
    }

    /// A JWT with these claims, under a type.
    pub fn jwt(&self, claims: &Value, typ: &str) -> String {
        self.signed(claims, typ, false)
    }

    /// The same; by a key that is not published, where `stray` says so.
    pub(super) fn signed(&self, claims: &Value, typ: &str, stray: bool) -> String {
        let (kid, key) = self.keys().signing(stray);
        let mut header = Header::new(Algorithm::ES256);
        (header.kid, header.typ) = (Some(kid), Some(typ.to_owned()));
        jsonwebtoken::encode(&header, claims, &key).unwrap_or_default()
    }

    /// An opaque token with these claims.
    pub fn opaque(&self, claims: &Value) -> String {
        let token = random();
        self.memory().opaque.insert(token.clone(), claims.clone());
        token
    }

    /// Takes an opaque token back.
    pub fn take_back(&self, token: &str) {
        self.memory().opaque.remove(token);
    }
}

/// `POST /introspect` (RFC 7662).
pub(super) async fn introspect(
    State(p): State<Provider>,
    headers: HeaderMap,
    Form(form): Form<HashMap<String, String>>,
) -> Response {
    if p.proven(&headers, &form).is_none() {
        return StatusCode::UNAUTHORIZED.into_response();
    }
    let token = form.get("token").map(String::as_str).unwrap_or_default();
    let said = p.memory().opaque.get(token).cloned().filter(|c| c["exp"].as_i64().unwrap_or_default() > p.now());
    Json(match said {
        Some(mut claims) => {
            claims["active"] = true.into();
            claims
        }
        None => json!({"active": false}),
    })
    .into_response()
}

/// `POST /access-token`: a JWT for somebody with their password, for an audience. Only a stand-in gives tokens like this.
pub(super) async fn give(State(p): State<Provider>, Form(form): Form<HashMap<String, String>>) -> Response {
    let said = |name: &str| form.get(name).map(String::as_str).unwrap_or_default();
    let right = p.0.register.person(said("user")).is_some_and(|person| person.password == said("password"));
    if !right {
        return (StatusCode::FORBIDDEN, "not the password\n").into_response();
    }
    p.jwt(&p.about(said("user"), said("audience"), said("scope"), 900), "at+jwt").into_response()
}
