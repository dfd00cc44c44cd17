//! State that travels through the browser, sealed: what a gate asks of the sign-in host, and a flow that a provider has
//! not answered. Nobody can read or alter either, and nothing is stored for them.

use passeur_core::Moment;
use passeur_core::address::ReturnPath;
use passeur_core::id::{CrossingId, hex, sha256};
use passeur_core::seal::Purpose;
use serde::{Deserialize, Serialize};

use crate::app::{App, random};

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
}

impl Ask {
    pub fn seal(&self, app: &App) -> String {
        app.ring.seal_text(Purpose::Ask, random(), &serde_json::to_vec(self).unwrap_or_default())
    }

    /// Opens an ask that is not too old.
    pub fn open(app: &App, text: &str) -> Option<Ask> {
        let plain = app.ring.open_text(Purpose::Ask, text, SEALED_MAX).ok()?;
        let ask: Ask = serde_json::from_slice(&plain).ok()?;
        let age = app.now() - ask.began_at()?;
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
    /// Whether the provider was asked to have the person prove anew who they are.
    pub anew: bool,
}

impl Flow {
    /// Sealed. Where it is longer than `max`, the address asked for is given up for the front page.
    pub fn seal(&mut self, app: &App, max: usize) -> String {
        let sealed = |flow: &Flow| app.ring.seal_text(Purpose::Flow, random(), &serde_json::to_vec(flow).unwrap_or_default());
        let text = sealed(self);
        match &mut self.to {
            Purposed::Gate(ask) if text.len() > max => {
                (ask.target, ask.cut) = ("/".to_owned(), true);
                sealed(self)
            }
            _ => text,
        }
    }

    pub fn open(app: &App, text: &str) -> Option<Flow> {
        let plain = app.ring.open_text(Purpose::Flow, text, SEALED_MAX).ok()?;
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
