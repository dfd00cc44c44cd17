//! Groups, as identifiers, and by reference where there are too many to send.

use axum::extract::State;
use axum::response::{IntoResponse, Response};
use http::{HeaderMap, StatusCode, header};
use serde_json::{Map, Value, json};

use super::{Mode, Person, Provider};

/// Puts groups into an id_token, or says where they are.
pub(super) fn release(p: &Provider, person: &Person, access: &str, mode: Mode, claims: &mut Map<String, Value>) {
    if person.groups.is_empty() {
        return;
    }
    let issuer = &p.0.issuer;
    let source = match mode {
        Mode::GroupsInJwt => json!({"JWT": jwt(p, person, mode)}),
        Mode::GroupsAstray => json!({"endpoint": "http://127.0.0.1:9/claims", "access_token": access}),
        Mode::GroupsElsewhere | Mode::GroupsForged | Mode::GroupsPlain | Mode::GroupsOfAnother => {
            json!({"endpoint": format!("{issuer}/claims"), "access_token": access})
        }
        _ => {
            claims.insert("groups".to_owned(), json!(person.groups));
            return;
        }
    };
    claims.insert("_claim_names".to_owned(), json!({"groups": "groups-1"}));
    claims.insert("_claim_sources".to_owned(), json!({"groups-1": source}));
}

fn jwt(p: &Provider, person: &Person, mode: Mode) -> String {
    let sub = if mode == Mode::GroupsOfAnother { "somebody-else" } else { &person.sub };
    let claims = json!({
        "iss": p.0.issuer, "sub": sub, "aud": p.0.register.clients.first().map(|c| &c.id), "exp": p.now() + 300, "groups": person.groups,
        "email": "not-asked-for@x.example",
    });
    p.signed(&claims, "JWT", mode == Mode::GroupsForged)
}

/// `GET /claims`, for whoever holds the token that came with the reference.
pub(super) async fn serve(State(p): State<Provider>, headers: HeaderMap) -> Response {
    let token = headers.get(header::AUTHORIZATION).and_then(|v| v.to_str().ok()?.strip_prefix("Bearer ")).unwrap_or_default();
    let (user, mode) = {
        let memory = p.memory();
        (memory.access.get(token).cloned(), memory.mode)
    };
    let Some(person) = user.and_then(|u| p.0.register.person(&u).cloned()) else {
        return StatusCode::UNAUTHORIZED.into_response();
    };
    match mode {
        Mode::GroupsPlain => axum::Json(json!({"groups": person.groups})).into_response(),
        mode => ([(header::CONTENT_TYPE, "application/jwt")], jwt(&p, &person, mode)).into_response(),
    }
}
