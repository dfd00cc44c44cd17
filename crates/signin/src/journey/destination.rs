//! Where a sign-in leads, and what a gate asks of the sign-in host. Both travel through the browser, sealed: nobody can read or alter them,
//! and nothing is stored for them.

use chrono::{DateTime, Duration};
use passeur_core::Moment;
use passeur_core::address::ReturnPath;
use passeur_core::evidence::Evidence;
use passeur_core::id::CrossingId;
use passeur_core::seal::Purpose;
use passeur_core::site::{Access, Place, Site, WayKind};
use passeur_engine::Engine;
use passeur_engine::random::random;
use serde::{Deserialize, Serialize};

use super::flow::SEALED_MAX;

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
    /// Whether the person wants another session in the place of the one that they have, by a new proof.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub anew: bool,
}

impl Ask {
    /// Sealed into an address.
    pub fn seal(&self, engine: &Engine) -> String {
        engine.ring.seal_text(Purpose::Ask, random(), &serde_json::to_vec(self).unwrap_or_default())
    }

    /// Opens an ask that is not too old.
    pub fn open(engine: &Engine, text: &str) -> Option<Ask> {
        let plain = engine.ring.open_text(Purpose::Ask, text, SEALED_MAX).ok()?;
        let ask: Ask = serde_json::from_slice(&plain).ok()?;
        let age = engine.now() - ask.began_at()?;
        (age < Duration::minutes(ASK_MINUTES)).then_some(ask)
    }

    /// When the crossing began.
    pub fn began_at(&self) -> Option<Moment> {
        DateTime::from_timestamp_millis(self.began)
    }

    /// Where the person returns to; the front page where the address cannot be read.
    pub fn return_path(&self) -> ReturnPath {
        ReturnPath::parse(&self.target).unwrap_or_else(ReturnPath::root)
    }
}

/// Where a sign-in leads.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Destination {
    Gate(Ask),
    Console,
    Quay,
    /// The page on which somebody changes their factors.
    Factors,
    /// The page on which somebody makes tokens for programs of theirs.
    Tokens,
    /// The page on which an engineer lets a command line in, with the code that it shows.
    Device {
        #[serde(default, skip_serializing_if = "String::is_empty")]
        code: String,
    },
    /// The page on which somebody vouches for a guest, with the code that the guest shows.
    Vouch {
        #[serde(default, skip_serializing_if = "String::is_empty")]
        code: String,
    },
    /// The console, for somebody who is to make something there that outlives their session.
    ConsoleFresh,
    /// An address of ours, to which a provider sends somebody of its own accord.
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

impl Destination {
    /// Whether it takes a proof that was made after it was asked for: see [`super::fresh`].
    pub fn needs_fresh(&self) -> bool {
        match self {
            Destination::Factors
            | Destination::Tokens
            | Destination::Vouch { .. }
            | Destination::Device { .. }
            | Destination::ConsoleFresh => true,
            Destination::Gate(ask) => ask.anew,
            Destination::Console | Destination::Quay | Destination::Unasked { .. } | Destination::Trial { .. } => false,
        }
    }

    /// The place as records name it.
    pub fn place(&self) -> Place {
        match self {
            Destination::Gate(ask) => Place::gate(&ask.gate),
            Destination::Unasked { gate, .. } => Place::gate(gate),
            Destination::Console | Destination::ConsoleFresh | Destination::Device { .. } => Place::Console,
            Destination::Quay | Destination::Factors | Destination::Tokens | Destination::Vouch { .. } => Place::Quay,
            Destination::Trial { .. } => Place::Trial,
        }
    }

    /// The place as routes name it: an engineer who tries a provider is at none, and is sent there by no route.
    pub fn place_of_routes(&self) -> Place {
        match self.place() {
            Place::Trial => Place::Quay,
            place => place,
        }
    }

    /// What stands there for rules: a gate's access, or that of the console. None where nothing is decided.
    pub fn access<'s>(&self, site: &'s Site) -> Option<&'s Access> {
        match self {
            Destination::Gate(ask) => site.gate(&ask.gate).map(|g| &g.access),
            Destination::Console | Destination::ConsoleFresh | Destination::Device { .. } => site.engineers.as_ref(),
            Destination::Quay
            | Destination::Factors
            | Destination::Tokens
            | Destination::Vouch { .. }
            | Destination::Unasked { .. }
            | Destination::Trial { .. } => None,
        }
    }

    /// Whether rules stand there, so that somebody may be refused.
    pub fn decides(&self) -> bool {
        matches!(self, Destination::Gate(_) | Destination::Console | Destination::ConsoleFresh | Destination::Device { .. })
    }

    /// Whether a session will do: by a way in that is taken there, and begun here unless the gate takes others.
    pub fn takes(&self, site: &Site, evidence: &Evidence) -> bool {
        let access = self.access(site);
        let taken = match access {
            Some(access) => access.takes(site, evidence),
            None => !self.decides() && site.knows(&evidence.provider, &evidence.person()),
        };
        let takes_unasked = match self {
            Destination::Gate(_) => access.is_some_and(|a| a.unasked),
            Destination::Quay | Destination::Unasked { .. } => true,
            Destination::Console
            | Destination::ConsoleFresh
            | Destination::Device { .. }
            | Destination::Factors
            | Destination::Tokens
            | Destination::Vouch { .. }
            | Destination::Trial { .. } => false,
        };
        taken && (takes_unasked || !evidence.unasked)
    }

    /// What a person calls the place.
    pub fn title<'a>(&'a self, site: &'a Site) -> &'a str {
        match self {
            Destination::Gate(ask) => site.gate(&ask.gate).map_or(site.name.as_str(), |g| g.title.as_str()),
            _ => site.name.as_str(),
        }
    }

    /// What stands before a way back: the address that goes on to it.
    pub fn onward(&self, engine: &Engine) -> String {
        let what = match self {
            Destination::Gate(ask) => format!("ask={}", ask.seal(engine)),
            Destination::Console => "for=console".to_owned(),
            Destination::Factors => "for=factors".to_owned(),
            Destination::Tokens => "for=tokens".to_owned(),
            Destination::Vouch { code } => {
                format!("for=vouch&code={}", url::form_urlencoded::byte_serialize(code.as_bytes()).collect::<String>())
            }
            Destination::ConsoleFresh => format!("for=console&{}", Again::Fresh.parameter()),
            Destination::Device { code } => {
                format!("for=device&user_code={}", url::form_urlencoded::byte_serialize(code.as_bytes()).collect::<String>())
            }
            Destination::Quay | Destination::Unasked { .. } | Destination::Trial { .. } => "for=quay".to_owned(),
        };
        format!("/.passeur/sign-in?{what}")
    }

    /// The address that goes on to it by a way in, or asks which.
    pub fn onward_by(&self, engine: &Engine, way: Option<&str>) -> String {
        match way {
            Some(way) => format!("{}&way={way}", self.onward(engine)),
            None => format!("{}&{}", self.onward(engine), Again::Another.parameter()),
        }
    }
}

/// Why somebody who has a session is to sign in again: parameters of the sign-in address.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Again {
    /// By another way in.
    Another,
    /// By the same, because the person wants it.
    Afresh,
    /// Because something that outlives the session takes a fresh proof.
    Fresh,
}

impl Again {
    const ALL: [Again; 3] = [Again::Another, Again::Afresh, Again::Fresh];

    fn name(self) -> &'static str {
        match self {
            Again::Another => "another",
            Again::Afresh => "afresh",
            Again::Fresh => "fresh",
        }
    }

    /// As it stands in an address.
    pub fn parameter(self) -> String {
        format!("{}=1", self.name())
    }

    /// What an address asks for, by its parameters.
    pub fn asked(has: impl Fn(&str) -> bool) -> Option<Again> {
        Again::ALL.into_iter().find(|a| has(a.name()))
    }
}

/// Ways in that are offered for what is asked, in the order of the site file.
pub fn offered<'s>(site: &'s Site, to: &Destination) -> Vec<&'s str> {
    let mut all = if to.decides() { to.access(site).map(|a| of_access(site, a)).unwrap_or_default() } else { of_site(site) };
    if matches!(to, Destination::Factors | Destination::Tokens | Destination::Vouch { .. }) {
        // A guest makes nothing there.
        all.retain(|w| !site.way(w).is_some_and(|w| matches!(w.kind, WayKind::Sponsor(_))));
    }
    all
}

/// Ways in of a gate, or of the console, that people are offered.
pub fn of_access<'s>(site: &Site, access: &'s Access) -> Vec<&'s str> {
    access.ways.iter().map(String::as_str).filter(|w| is_for_people(site, w)).collect()
}

/// By the word of a RADIUS client, or by a hardware address, nobody comes who opens a page.
fn is_for_people(site: &Site, way: &str) -> bool {
    !site.way(way).is_some_and(|w| matches!(w.kind, WayKind::Gateway | WayKind::Machine(_)))
}

/// Ways in that are taken anywhere, each once.
pub fn of_site(site: &Site) -> Vec<&str> {
    let mut all: Vec<&str> = vec![];
    for way in site.accesses().flat_map(|a| &a.ways) {
        if !all.contains(&way.as_str()) && is_for_people(site, way) {
            all.push(way);
        }
    }
    all
}
