//! One leg of a sign-in: what is sealed when a browser is sent to a provider or shown a form of ours, and opened when it comes back.
//! What each kind of leg knows is a variant of its own.

use passeur_core::id::{CrossingId, hex, sha256};
use passeur_core::seal::Purpose;
use passeur_core::site::Site;
use passeur_engine::Engine;
use passeur_engine::attempt::Attempt;
use passeur_engine::random::random;
use serde::{Deserialize, Serialize};

use super::destination::Destination;
use super::routed::Routed;

/// The longest sealed text that is looked at.
pub const SEALED_MAX: usize = 6_000;

/// An OpenID Connect provider.
#[derive(Clone, Serialize, Deserialize)]
pub struct Oidc {
    pub provider: String,
    /// The PKCE code verifier (RFC 7636).
    pub verifier: String,
    /// Where at the provider: its authorization endpoint.
    pub endpoint: String,
    /// The answer comes to the address of trials: see [`Site::trial_redirect_uri`].
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub apart: bool,
}

impl Oidc {
    /// Where the provider sends the person back to.
    pub fn redirect_uri(&self, site: &Site) -> String {
        redirect_uri(site, &self.provider, self.apart)
    }
}

/// A SAML provider.
#[derive(Clone, Serialize, Deserialize)]
pub struct Saml {
    pub provider: String,
    /// Its single sign-on address.
    pub endpoint: String,
}

/// A form of ours, or where the browser negotiates.
#[derive(Clone, Serialize, Deserialize)]
pub struct Form {
    pub way: String,
}

/// The page that asks for a user name.
#[derive(Clone, Serialize, Deserialize)]
pub struct Name {}

/// The page that asks for a factor of our own.
#[derive(Clone, Serialize, Deserialize)]
pub struct Factor {
    /// The way in of the session that the factor is added to.
    pub way: String,
    /// Methods (RFC 8176) of which one is to be proven; any where there is none.
    pub wanted: Vec<String>,
}

/// By what a leg goes.
#[derive(Clone, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum By {
    Oidc(Oidc),
    Saml(Saml),
    Form(Form),
    Name(Name),
    Factor(Factor),
}

/// One kind of leg.
pub trait Kind: Clone {
    /// The provider or way in that the person is with; none where none is chosen.
    fn way(&self) -> Option<&str>;
    fn wrap(self) -> By;
    /// None where it is of another kind.
    fn unwrap(by: By) -> Option<Self>;
}

macro_rules! kinds {
    ($($kind:ident: $way:expr),* $(,)?) => {$(
        impl Kind for $kind {
            fn way(&self) -> Option<&str> {
                let way: fn(&$kind) -> Option<&str> = $way;
                way(self)
            }
            fn wrap(self) -> By {
                By::$kind(self)
            }
            fn unwrap(by: By) -> Option<$kind> {
                match by {
                    By::$kind(one) => Some(one),
                    _ => None,
                }
            }
        }
    )*};
}

kinds! {
    Oidc: |o| Some(&o.provider),
    Saml: |s| Some(&s.provider),
    Form: |f| Some(&f.way),
    Name: |_| None,
    Factor: |f| Some(&f.way),
}

/// A leg: by what it goes, what binds it to one browser and makes it good once, and how the person was asked.
#[derive(Clone, Serialize, Deserialize)]
pub struct Leg<B> {
    pub by: B,
    pub nonce: String,
    /// SHA-256 of the sign-in host's browser-binding cookie, in hex.
    pub browser: String,
    /// When the person was sent, in milliseconds since 1970.
    pub sent: i64,
    #[serde(default)]
    pub manner: Manner,
}

impl<B: Kind> Leg<B> {
    /// A leg that begins now, in the browser that holds this binding.
    pub fn begin(engine: &Engine, by: B, browser: &str, manner: Manner) -> Leg<B> {
        Leg { by, nonce: hex(&random::<16>()), browser: cookie_digest(browser), sent: engine.now().timestamp_millis(), manner }
    }

    /// What makes it good once.
    pub fn id(&self) -> [u8; 32] {
        sha256(self.nonce.as_bytes())
    }
}

/// How somebody is asked to sign in, beside what the edition says.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Manner {
    /// The person must prove anew who they are, although the provider may know them.
    pub anew: bool,
    /// Authentication contexts, in the place of those that are asked for otherwise.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub contexts: Vec<String>,
    /// The name that the person typed, for the way in to begin with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hint: Option<String>,
    /// What decided the way in, where routes did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub routed: Option<Routed>,
}

impl Manner {
    /// The person must prove anew who they are.
    pub fn anew() -> Manner {
        Manner { anew: true, ..Manner::default() }
    }
}

/// Where an OpenID Connect provider sends people back to: from a trial that is kept apart, to an address of its own.
pub fn redirect_uri(site: &Site, provider: &str, apart: bool) -> String {
    if apart { site.trial_redirect_uri(provider) } else { site.redirect_uri(provider) }
}

/// What is sealed of a sign-in that is on its way.
#[derive(Clone, Serialize, Deserialize)]
pub struct Flow<B> {
    pub to: Destination,
    pub crossing: CrossingId,
    /// When the crossing began, in milliseconds since 1970.
    pub began: i64,
    pub leg: Leg<B>,
}

impl<B: Kind> Flow<B> {
    /// The leg of an attempt that leads somewhere, and that sealed text. Where it is longer than `max`, the address asked for is given up
    /// for the front page.
    pub fn seal(engine: &Engine, attempt: &Attempt, to: &mut Destination, leg: &Leg<B>, max: usize) -> String {
        let sealed = |to: &Destination| {
            let leg = Leg {
                by: leg.by.clone().wrap(),
                nonce: leg.nonce.clone(),
                browser: leg.browser.clone(),
                sent: leg.sent,
                manner: leg.manner.clone(),
            };
            let flow = Flow { to: to.clone(), crossing: attempt.id, began: attempt.began().timestamp_millis(), leg };
            engine.ring.seal_text(Purpose::Flow, random(), &serde_json::to_vec(&flow).unwrap_or_default())
        };
        let text = sealed(to);
        match to {
            Destination::Gate(ask) if text.len() > max => {
                (ask.target, ask.cut) = ("/".to_owned(), true);
                sealed(to)
            }
            _ => text,
        }
    }

    /// Opens what was sealed. None where it is not ours, or is a leg of another kind.
    pub fn open(engine: &Engine, text: &str) -> Option<Flow<B>> {
        let plain = engine.ring.open_text(Purpose::Flow, text, SEALED_MAX).ok()?;
        let Flow { to, crossing, began, leg }: Flow<By> = serde_json::from_slice(&plain).ok()?;
        let Leg { by, nonce, browser, sent, manner } = leg;
        Some(Flow { to, crossing, began, leg: Leg { by: B::unwrap(by)?, nonce, browser, sent, manner } })
    }
}

/// The digest of a cookie value, as it stands in sealed state.
pub fn cookie_digest(value: &str) -> String {
    hex(&sha256(value.as_bytes()))
}
