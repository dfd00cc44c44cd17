//! A stand-in identity provider that speaks real OpenID Connect: discovery, authorization code with PKCE, signed
//! id_token, rotating keys, userinfo, end-session; and SAML 2.0 with the same people. Pages need no script. For tests it can be told to misbehave.

mod access;
mod authorize;
mod claims;
mod client;
mod keys;
mod leaving;
mod register;
mod saml;
mod token;

use std::collections::HashMap;
use std::sync::atomic::{AtomicI64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard};

use axum::Router;
use axum::extract::{Json, Request, State};
use axum::middleware::{self, Next};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use http::StatusCode;
use serde::Deserialize;

pub use client::Takes;
pub use register::{Client, Person, Register};
pub use saml::Service;

/// How it may be told to misbehave.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Mode {
    #[default]
    Well,
    /// The token endpoint takes very long.
    Slow,
    /// Everything answers 503.
    Down,
    /// Signed with a key that is not published, under a published id.
    WrongKey,
    WrongNonce,
    WrongAudience,
    Expired,
    /// Userinfo about somebody else.
    OtherSubject,
    /// The authorization endpoint refuses everybody.
    Refuses,
    /// The answer names another issuer.
    OtherIssuer,
    /// Says that only a password was used.
    OneFactor,
    /// Does not ask again whoever is signed in, whatever is asked of it.
    IgnoresPrompt,
    /// Logout tokens that are not what they should be: signed by another key, or an id_token in their place.
    ForgedLogout,
    LogoutWithNonce,
    /// Groups are sent by reference (OpenID Connect Core 5.6.2): at an endpoint of its own.
    GroupsElsewhere,
    /// The same in a JWT that comes along.
    GroupsInJwt,
    /// The endpoint is at another address.
    GroupsAstray,
    /// The endpoint answers with a JWT that another key signed.
    GroupsForged,
    /// The endpoint answers with plain JSON.
    GroupsPlain,
    /// The endpoint answers about somebody else.
    GroupsOfAnother,
    /// Names that hold a NUL character.
    Nul,
    /// Says nothing of when somebody proved who they are, but where it is asked for (`max_age`).
    NoAuthTime,
}

struct Grant {
    client: String,
    redirect_uri: String,
    nonce: String,
    challenge: String,
    user: String,
    auth_time: i64,
    tells_time: bool,
    sid: String,
}

#[derive(Default)]
struct Memory {
    mode: Mode,
    proofs: client::Proofs,
    /// Duties in the place of the register's, by user.
    duties: HashMap<String, Vec<String>>,
    codes: HashMap<String, Grant>,
    /// Access token to user.
    access: HashMap<String, String>,
    /// Opaque access tokens for others, with what is said of each.
    opaque: HashMap<String, serde_json::Value>,
    /// Browser sessions.
    sessions: HashMap<String, authorize::Session>,
    /// Sign-ins in progress: what for and, after the password, the user.
    pending: HashMap<String, (authorize::Purpose, Option<String>)>,
    /// Services that people sign in to by SAML.
    services: HashMap<String, saml::Service>,
    /// What is exchanged in what is written by SAML, before it is signed.
    edits: Vec<(String, String)>,
    last_response: Option<String>,
}

/// The provider.
#[derive(Clone)]
pub struct Provider(Arc<Inner>);

struct Inner {
    issuer: String,
    register: Register,
    keys: Mutex<keys::Keys>,
    saml_key: Mutex<Arc<saml::Key>>,
    former: Mutex<Option<Arc<saml::Key>>>,
    memory: Mutex<Memory>,
    /// How far its clock is ahead of the machine's, in seconds.
    ahead: AtomicI64,
}

fn random() -> String {
    let mut bytes = [0u8; 24];
    assert!(aws_lc_rs::rand::fill(&mut bytes).is_ok(), "the system gives no random bytes");
    URL_SAFE_NO_PAD.encode(bytes)
}

impl Provider {
    /// A provider with its clients and people.
    pub fn new(issuer: String, register: Register) -> Provider {
        Provider(Arc::new(Inner {
            issuer,
            register,
            keys: Mutex::new(keys::Keys::new()),
            saml_key: Mutex::new(saml::shared_key()),
            former: Mutex::default(),
            memory: Mutex::default(),
            ahead: AtomicI64::new(0),
        }))
    }

    fn memory(&self) -> MutexGuard<'_, Memory> {
        self.0.memory.lock().unwrap_or_else(|e| e.into_inner())
    }

    fn keys(&self) -> MutexGuard<'_, keys::Keys> {
        self.0.keys.lock().unwrap_or_else(|e| e.into_inner())
    }

    fn saml_key(&self) -> Arc<saml::Key> {
        self.0.saml_key.lock().unwrap_or_else(|e| e.into_inner()).clone()
    }

    /// How it behaves from now on.
    pub fn behave(&self, mode: Mode) {
        self.memory().mode = mode;
    }

    /// Its clock goes ahead by this from now on, in seconds, beside what it went ahead before.
    pub fn advance(&self, seconds: i64) {
        self.0.ahead.fetch_add(seconds, Ordering::Relaxed);
    }

    fn now(&self) -> i64 {
        chrono::Utc::now().timestamp() + self.0.ahead.load(Ordering::Relaxed)
    }

    /// Gives somebody other duties from now on.
    pub fn give_duties(&self, user: &str, duties: &[&str]) {
        self.memory().duties.insert(user.to_owned(), duties.iter().map(|d| (*d).to_owned()).collect());
    }

    /// Signs with a new key; the old one is no longer published.
    pub fn rotate(&self) {
        self.keys().rotate();
    }

    /// Its endpoints.
    pub fn router(&self) -> Router {
        Router::new()
            .route("/.well-known/openid-configuration", get(discovery))
            .route("/keys", get(jwks))
            .route("/authorize", get(authorize::ask))
            .route("/password", post(authorize::password))
            .route("/second", post(authorize::second))
            .route("/token", post(token::token))
            .route("/userinfo", get(token::userinfo))
            .route("/claims", get(claims::serve))
            .route("/introspect", post(access::introspect))
            .route("/access-token", post(access::give))
            .route("/end-session", get(authorize::end_session))
            .route("/saml/metadata", get(saml::metadata))
            .route("/saml/sign-on", get(saml::sign_on).post(saml::sign_on_by_form))
            .route("/saml/start", get(saml::start))
            .route("/saml/sign-out", get(saml::sign_out))
            .route("/saml/leave", get(saml::leave))
            .route("/saml/services", post(saml::add))
            .layer(middleware::from_fn_with_state(self.clone(), down))
            .route("/control", post(control))
            .with_state(self.clone())
    }
}

async fn down(State(p): State<Provider>, request: Request, next: Next) -> Response {
    if p.memory().mode == Mode::Down {
        return (StatusCode::SERVICE_UNAVAILABLE, "down\n").into_response();
    }
    next.run(request).await
}

async fn discovery(State(p): State<Provider>) -> Json<serde_json::Value> {
    let i = &p.0.issuer;
    Json(serde_json::json!({
        "issuer": i,
        "authorization_endpoint": format!("{i}/authorize"),
        "token_endpoint": format!("{i}/token"),
        "userinfo_endpoint": format!("{i}/userinfo"),
        "jwks_uri": format!("{i}/keys"),
        "introspection_endpoint": format!("{i}/introspect"),
        "end_session_endpoint": format!("{i}/end-session"),
        "response_types_supported": ["code"],
        "subject_types_supported": ["public"],
        "id_token_signing_alg_values_supported": ["ES256"],
        "code_challenge_methods_supported": ["S256"],
        "token_endpoint_auth_methods_supported": p.memory().proofs.takes.methods(),
        "scopes_supported": ["openid", "profile", "email"],
        "authorization_response_iss_parameter_supported": true,
    }))
}

async fn jwks(State(p): State<Provider>) -> Json<serde_json::Value> {
    Json(p.keys().published())
}

#[derive(Deserialize)]
struct Control {
    #[serde(default)]
    mode: Option<Mode>,
    #[serde(default)]
    rotate: bool,
    #[serde(default)]
    duties: HashMap<String, Vec<String>>,
}

async fn control(State(p): State<Provider>, Json(c): Json<Control>) -> &'static str {
    if let Some(mode) = c.mode {
        p.behave(mode);
    }
    if c.rotate {
        p.rotate();
    }
    p.memory().duties.extend(c.duties);
    "done\n"
}
