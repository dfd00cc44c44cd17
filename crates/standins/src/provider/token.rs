//! The token and userinfo endpoints.

use std::collections::HashMap;

use aws_lc_rs::digest;
use axum::Json;
use axum::extract::{Form, State};
use axum::response::{IntoResponse, Response};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use http::{HeaderMap, StatusCode, header};
use serde_json::{Value, json};

use super::{Grant, Mode, Person, Provider, random};

fn refuse(status: StatusCode, error: &str, description: &str) -> Response {
    (status, Json(json!({"error": error, "error_description": description}))).into_response()
}

pub(super) async fn token(State(p): State<Provider>, headers: HeaderMap, Form(form): Form<HashMap<String, String>>) -> Response {
    let mode = p.memory().mode;
    if mode == Mode::Slow {
        tokio::time::sleep(std::time::Duration::from_secs(30)).await;
    }
    let Some(client) = p.proven(&headers, &form) else {
        return refuse(StatusCode::UNAUTHORIZED, "invalid_client", "client or secret is not known");
    };
    let said = |name: &str| form.get(name).map(String::as_str).unwrap_or_default();
    if said("grant_type") != "authorization_code" {
        return refuse(StatusCode::BAD_REQUEST, "unsupported_grant_type", "");
    }
    let Some(grant) = p.memory().codes.remove(said("code")) else {
        return refuse(StatusCode::BAD_REQUEST, "invalid_grant", "the code is not known or was used");
    };
    let challenge = URL_SAFE_NO_PAD.encode(digest::digest(&digest::SHA256, said("code_verifier").as_bytes()));
    if grant.client != client.id || grant.redirect_uri != said("redirect_uri") || grant.challenge != challenge {
        return refuse(StatusCode::BAD_REQUEST, "invalid_grant", "client, redirect address or proof key differ");
    }
    let Some(person) = p.0.register.person(&grant.user).cloned() else {
        return refuse(StatusCode::BAD_REQUEST, "invalid_grant", "the person is gone");
    };
    let access = random();
    let id_token = sign(&p, &grant, &person, &access, mode);
    p.memory().access.insert(access.clone(), grant.user);
    Json(json!({"id_token": id_token, "access_token": access, "token_type": "Bearer", "expires_in": 300})).into_response()
}

fn sign(p: &Provider, grant: &Grant, person: &Person, access: &str, mode: Mode) -> String {
    let hash = digest::digest(&digest::SHA256, access.as_bytes());
    let age = if mode == Mode::Expired { 7_200 } else { 0 };
    let two = mode != Mode::OneFactor;
    let mut claims = json!({
        "iss": p.0.issuer,
        "sub": person.sub,
        "aud": if mode == Mode::WrongAudience { "somebody-else" } else { &grant.client },
        "nonce": if mode == Mode::WrongNonce { "not-yours" } else { &grant.nonce },
        "iat": p.now() - age,
        "exp": p.now() + 300 - age,
        "auth_time": grant.auth_time,
        "sid": grant.sid,
        "acr": if two { "urn:pilotage:two-factors" } else { "urn:pilotage:password" },
        "amr": if two { vec!["pwd", "otp", "mfa"] } else { vec!["pwd"] },
        "at_hash": URL_SAFE_NO_PAD.encode(&hash.as_ref()[..16]),
    });
    if let Some(claims) = claims.as_object_mut() {
        if !grant.tells_time {
            claims.remove("auth_time");
        }
        super::claims::release(p, person, access, mode, claims);
    }
    p.signed(&claims, "JWT", mode == Mode::WrongKey)
}

pub(super) async fn userinfo(State(p): State<Provider>, headers: HeaderMap) -> Response {
    let token = headers.get(header::AUTHORIZATION).and_then(|v| v.to_str().ok()?.strip_prefix("Bearer ")).unwrap_or_default();
    let (user, mode) = {
        let memory = p.memory();
        (memory.access.get(token).cloned(), memory.mode)
    };
    let Some(person) = user.and_then(|u| p.0.register.person(&u).cloned()) else {
        return refuse(StatusCode::UNAUTHORIZED, "invalid_token", "");
    };
    let user_name = person.user.clone();
    let sub = if mode == Mode::OtherSubject { "somebody-else".to_owned() } else { person.sub };
    let mut claims = serde_json::Map::from_iter([("sub".to_owned(), Value::String(sub))]);
    let user = person.release_user.then_some(person.user);
    for (name, value) in [("preferred_username", user), ("name", person.name), ("email", person.email)] {
        if let Some(v) = value {
            claims.insert(name.to_owned(), Value::String(v));
        }
    }
    if mode == Mode::Nul {
        claims.insert("name".to_owned(), Value::String("An\0ouk".to_owned()));
        claims.insert("no\0te".to_owned(), json!([{"of": "\0"}]));
    }
    let duties = p.memory().duties.get(&user_name).cloned().unwrap_or(person.duties);
    if !duties.is_empty() {
        claims.insert("duties".to_owned(), json!(duties));
    }
    Json(Value::Object(claims)).into_response()
}
