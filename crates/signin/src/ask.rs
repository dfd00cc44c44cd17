//! State that travels through the browser, sealed: what a gate asks of the sign-in host, and a flow that a provider has
//! not answered. Nobody can read or alter either, and nothing is stored for them.

use passeur_core::Moment;
use passeur_core::address::ReturnPath;
use passeur_core::id::{CrossingId, hex, sha256};
use passeur_core::seal::Purpose;
use passeur_core::site::Site;
use passeur_engine::attempt::Attempt;
use passeur_engine::random::random;
use serde::{Deserialize, Serialize};

use super::route::Routed;
use passeur_engine::Engine;

/// The longest sealed text that is looked at.
pub const SEALED_MAX: usize = 6_000;
/// How long a request to sign in is good for, in minutes: a page left open over lunch still works.
const ASK_MINUTES: i64 = 120;

/// What a gate asks: sign this browser in and hand it back.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Ask {
    pub gate: String,
    pub target: String,
    /// SHA-256 of the gate's browser-binding cookie, in hex.
    pub binding: String,
    pub crossing: CrossingId,
    /// When the crossing began, in milliseconds since 1970.
    pub began: i64,
    /// Why there was no session: a reason code.
    pub why: String,
    /// Whether the address asked for could not be kept, so that `target` is the front page instead.
    pub cut: bool,
    /// Whether a form was interrupted, and what became of it: a reason code.
    pub form: Option<String>,
    /// Path and method of the request, where the address that the person returns to is not that of the request.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub request: Option<(String, String)>,
    /// What was asked for already because something was missing: each thing is asked for once.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub asked: Vec<String>,
}

impl Ask {
    pub fn seal(&self, engine: &Engine) -> String {
        engine.ring.seal_text(Purpose::Ask, random(), &serde_json::to_vec(self).unwrap_or_default())
    }

    /// Opens an ask that is not too old.
    pub fn open(engine: &Engine, text: &str) -> Option<Ask> {
        let plain = engine.ring.open_text(Purpose::Ask, text, SEALED_MAX).ok()?;
        let ask: Ask = serde_json::from_slice(&plain).ok()?;
        let age = engine.now() - ask.began_at()?;
        (age < chrono::Duration::minutes(ASK_MINUTES)).then_some(ask)
    }

    pub fn began_at(&self) -> Option<Moment> {
        chrono::DateTime::from_timestamp_millis(self.began)
    }

    pub fn return_path(&self) -> ReturnPath {
        ReturnPath::parse(&self.target).unwrap_or_else(ReturnPath::root)
    }
}

/// Where a sign-in leads.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Purposed {
    Gate(Ask),
    Console,
    Quay,
    /// To the page on which somebody changes their factors.
    Factors,
    /// To the page on which somebody makes tokens for programs of theirs.
    Tokens,
    /// To the page on which an engineer lets a command line in, with the code that it shows.
    Device {
        #[serde(default, skip_serializing_if = "String::is_empty")]
        code: String,
    },
    /// To the console, by somebody who is to make something there that outlives their session.
    ConsoleFresh,
    /// To an address of ours, by a provider that nobody sent the person to.
    Unasked {
        gate: String,
        address: String,
    },
    /// Nowhere: an engineer tries a provider.
    Trial {
        token: String,
        by: String,
        source: String,
    },
}

impl Purposed {
    /// Whether it takes a proof that was made after it was asked for: see [`super::fresh`].
    pub fn needs_fresh(&self) -> bool {
        matches!(self, Purposed::Factors | Purposed::Tokens | Purposed::Device { .. } | Purposed::ConsoleFresh)
    }
}

/// A flow sent to a provider.
#[derive(Clone, Serialize, Deserialize)]
pub struct Flow {
    pub provider: String,
    pub nonce: String,
    pub verifier: String,
    /// SHA-256 of the sign-in host's browser-binding cookie, in hex.
    pub browser: String,
    pub to: Purposed,
    pub crossing: CrossingId,
    pub began: i64,
    /// When the person was sent to the provider.
    pub sent: i64,
    /// Where at the provider: its authorization endpoint.
    pub endpoint: String,
    /// How the person was asked to sign in.
    #[serde(default)]
    pub manner: Manner,
    /// The answer comes to the address of trials: see [`Site::trial_redirect_uri`].
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub apart: bool,
}

/// How somebody is asked to sign in, beside what the edition says.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Manner {
    /// The person must prove anew who they are, although the provider may know them.
    pub anew: bool,
    /// Authentication contexts, in the place of those that are asked for otherwise.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub contexts: Vec<String>,
    /// A factor of our own, which has to prove one of these methods (RFC 8176), or any.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub factors: Option<Vec<String>>,
    /// The name that the person typed, for the way in to begin with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hint: Option<String>,
    /// What decided the way in, where routes did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub routed: Option<Routed>,
}

/// Where an OpenID Connect provider sends people back to: from a trial that is kept apart, to an address of its own.
pub fn redirect_uri(site: &Site, provider: &str, apart: bool) -> String {
    if apart { site.trial_redirect_uri(provider) } else { site.redirect_uri(provider) }
}

impl Manner {
    /// Anew, or as usual.
    pub fn anew(anew: bool) -> Manner {
        Manner { anew, ..Manner::default() }
    }
}

impl Flow {
    /// The flow of an attempt that goes on by a way in, in the browser that holds this binding. What a protocol adds is empty.
    pub fn begin(engine: &Engine, attempt: &Attempt, way: &str, browser: &str, to: Purposed, manner: Manner) -> Flow {
        Flow {
            provider: way.to_owned(),
            nonce: hex(&random::<16>()),
            verifier: String::new(),
            browser: cookie_digest(browser),
            to,
            crossing: attempt.id,
            began: attempt.began().timestamp_millis(),
            sent: engine.now().timestamp_millis(),
            endpoint: String::new(),
            manner,
            apart: false,
        }
    }

    /// Where the provider sends the person back to.
    pub fn redirect_uri(&self, site: &Site) -> String {
        redirect_uri(site, &self.provider, self.apart)
    }

    /// Sealed. Where it is longer than `max`, the address asked for is given up for the front page.
    pub fn seal(&mut self, engine: &Engine, max: usize) -> String {
        let sealed = |flow: &Flow| engine.ring.seal_text(Purpose::Flow, random(), &serde_json::to_vec(flow).unwrap_or_default());
        let text = sealed(self);
        match &mut self.to {
            Purposed::Gate(ask) if text.len() > max => {
                (ask.target, ask.cut) = ("/".to_owned(), true);
                sealed(self)
            }
            _ => text,
        }
    }

    pub fn open(engine: &Engine, text: &str) -> Option<Flow> {
        let plain = engine.ring.open_text(Purpose::Flow, text, SEALED_MAX).ok()?;
        serde_json::from_slice(&plain).ok()
    }

    /// What makes the flow good once.
    pub fn id(&self) -> [u8; 32] {
        sha256(self.nonce.as_bytes())
    }
}

/// The digest of a cookie value, as it stands in sealed state.
pub fn cookie_digest(value: &str) -> String {
    hex(&sha256(value.as_bytes()))
}
