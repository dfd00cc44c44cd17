//! The facts a decision was made on, as received, per source with its state and time. Immutable.
//!
//! Evidence is stored once per content hash and never holds secret material: tokens, codes and passwords stay out. It is
//! seen through an edition by [`crate::identity`]; words are derived from it, never stored beside it.

use std::borrow::Cow;
use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

use crate::Moment;
use crate::device::Device;
pub use crate::person::{PersonKey, WayIn, authority};
use crate::site::{Asking, Directory};
use crate::text;
use crate::tunnel::TunnelFacts;

/// The current format of a stored [`Evidence`]; readers refuse a higher one.
pub const FORMAT: u16 = 1;

/// Everything known of one sign-in.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Evidence {
    pub format: u16,
    /// The way in that was used.
    pub way_in: WayIn,
    /// Whether the provider sent the person of its own accord: then nothing shows that this browser asked for it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub unasked: bool,
    /// The way in that was taken, where it is not the provider itself: a passkey of somebody whom the provider named.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub through: Option<String>,
    /// The provider's name in the site; for a way in of our own, that way's name.
    pub provider: String,
    /// From when the provider's word is, where the person came by another way since.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub claimed_at: Option<Moment>,
    /// The provider's identifier of the person (`sub`, NameID): with the provider, the only key of a person.
    pub subject: String,
    /// The issuer that signed, as it names itself.
    pub issuer: String,
    /// Who vouches for the subject: see [`authority`]. Empty in evidence of a time when it was not written down.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub authority: String,
    /// Claims as validated, secret members already removed; attributes of a SAML assertion, each a list.
    pub claims: Map<String, Value>,
    pub userinfo: UserInfo,
    /// Claims by reference, one for each source that was asked.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub referred: Vec<Referred>,
    pub factors: Factors,
    /// The device that the person signed in on; none where no check asks about it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device: Option<Device>,
    /// One look-up per directory asked, in order.
    pub look_ups: Vec<LookUp>,
}

/// What the userinfo endpoint said.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "state", rename_all = "kebab-case")]
pub enum UserInfo {
    /// The provider has no such endpoint, or the site does not ask.
    NotAsked,
    /// It was asked and gave nothing that may be used.
    Failed { how: String },
    /// Its claims; `sub` was equal to the id_token's (OpenID Connect Core 5.3.2).
    Answered { claims: Map<String, Value> },
}

/// Claims that the provider said where to have (OpenID Connect Core 5.6.2).
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Referred {
    /// Which claims it should hold.
    pub names: Vec<String>,
    /// Where they are, without a query.
    pub at: String,
    /// Its claims, or why there are none.
    #[serde(flatten)]
    pub state: ReferredState,
}

/// What a source of claims said.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "state", rename_all = "kebab-case")]
pub enum ReferredState {
    Answered { claims: Map<String, Value> },
    Failed { how: String },
}

/// How and when the person proved who they are, as the provider says.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Factors {
    /// Authentication context class (`acr`, AuthnContextClassRef).
    pub acr: Option<String>,
    /// Authentication methods (`amr`, RFC 8176).
    pub amr: Vec<String>,
    /// When the person last proved it (`auth_time`, AuthnInstant).
    pub auth_time: Option<Moment>,
    /// What was proven to us besides, each with its moment.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub own: Vec<OwnFactor>,
}

impl Factors {
    /// What claims say of it: `acr`, `amr` and `auth_time` (OpenID Connect Core 2).
    pub fn of_claims(claims: &Map<String, Value>) -> Factors {
        let amr = claims.get("amr").and_then(Value::as_array).into_iter().flatten();
        Factors {
            acr: claims.get("acr").and_then(Value::as_str).map(str::to_owned),
            amr: amr.filter_map(|m| m.as_str().map(str::to_owned)).collect(),
            auth_time: claims.get("auth_time").and_then(Value::as_i64).and_then(|s| chrono::DateTime::from_timestamp(s, 0)),
            own: vec![],
        }
    }
}

/// A factor of our own that was proven in this session.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct OwnFactor {
    /// The method (RFC 8176): `otp` for a code of an authenticator, `hwk` for a passkey, `kba` for a recovery code.
    pub amr: String,
    pub at: Moment,
}

/// One question to one directory.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct LookUp {
    pub directory: String,
    /// The directory attribute that was searched.
    pub key: String,
    /// The value searched for; none where the provider gave none.
    pub value: Option<String>,
    pub at: Moment,
    /// How long the answer took, in milliseconds; zero when it came from the cache.
    pub millis: u32,
    /// Whether a cached answer was used.
    pub cached: bool,
    /// Servers of the directory that were asked before the one that answered, each with what was wrong with it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub tried: Vec<(String, String)>,
    /// What was asked for; none in evidence of a time when that was not written down.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub asked: Option<AskedFor>,
    pub state: LookUpState,
}

/// What a look-up asked for: anything else was not there because nobody asked.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct AskedFor {
    /// Names of the directory's attributes, in lower case.
    pub attributes: Vec<String>,
    /// Whether groups were looked for.
    pub groups: bool,
}

impl AskedFor {
    /// What a gate asks of a directory.
    pub fn of(directory: &Directory) -> AskedFor {
        let attributes = directory.attributes.iter().map(|(_, name)| name.to_ascii_lowercase()).collect();
        AskedFor { attributes, groups: directory.groups.is_some() }
    }
}

impl LookUp {
    /// Whether an attribute was asked for.
    pub fn asked_for(&self, name: &str) -> bool {
        self.asked.as_ref().is_none_or(|a| a.attributes.iter().any(|n| n.eq_ignore_ascii_case(name)))
    }

    /// Groups gained and lost since an earlier look-up in a directory, by the names the site knows them by.
    pub fn moved_since(&self, before: &LookUp, directory: Option<&Directory>) -> (Vec<String>, Vec<String>) {
        let names = |l: &LookUp| -> Vec<String> {
            let (Some(d), Some(entry)) = (directory, l.state.entry()) else { return vec![] };
            d.known_groups(entry).map(|g| g.name).collect()
        };
        let (new, old) = (names(self), names(before));
        let missing = |of: &[String], from: &[String]| of.iter().filter(|g| !from.contains(g)).cloned().collect();
        (missing(&new, &old), missing(&old, &new))
    }

    /// Whether all that a directory is asked for now was asked for then.
    pub fn covers(&self, directory: &Directory) -> bool {
        let groups = self.asked.as_ref().is_none_or(|a| a.groups) || directory.groups.is_none();
        groups && directory.attributes.iter().all(|(_, name)| self.asked_for(name))
    }

    /// Whether it was made for the same value of the same key; one described by hand answers for any.
    pub fn is_for(&self, asking: &Asking<'_>) -> bool {
        let same = match (&self.value, &asking.value) {
            (Some(a), Ok(b)) => a == b,
            _ => true,
        };
        same && self.key.eq_ignore_ascii_case(&asking.directory.key)
    }
}

/// How a look-up ended. Each has its own words and its own remedy.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "state", rename_all = "kebab-case")]
pub enum LookUpState {
    /// Exactly one entry that holds the searched value.
    Answered { entry: Entry },
    /// Exactly one entry, and its account may not be used.
    Disabled { entry: Entry, why: String },
    /// No entry holds the value.
    NoEntry,
    /// More than one does: nobody can say which is the person.
    Several { dns: Vec<String> },
    /// The directory refused our own account.
    BindRefused { detail: String },
    /// It did not answer as it should (address, TLS, time limit, protocol).
    Dead { detail: String },
    /// It answered, and the answer cannot be used: a base that is not there, more groups than are counted.
    Unusable { detail: String },
    /// The provider gave nothing to search for.
    NoKey { absence: String },
}

impl LookUpState {
    /// The entry, whether its account may be used or not.
    pub fn entry(&self) -> Option<&Entry> {
        match self {
            LookUpState::Answered { entry } | LookUpState::Disabled { entry, .. } => Some(entry),
            _ => None,
        }
    }

    /// A short code for filters, counters and [`crate::attribute::Absence::LookUpFailed`].
    pub fn code(&self) -> &'static str {
        match self {
            LookUpState::Answered { .. } => "answered",
            LookUpState::Disabled { .. } => "disabled",
            LookUpState::NoEntry => "no-entry",
            LookUpState::Several { .. } => "several-entries",
            LookUpState::BindRefused { .. } => "bind-refused",
            LookUpState::Dead { .. } => "dead",
            LookUpState::Unusable { .. } => "unusable-answer",
            LookUpState::NoKey { .. } => "no-key",
        }
    }
}

/// A directory entry as fetched.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Entry {
    pub dn: String,
    /// Text attributes by name in lower case (attribute descriptions are case-insensitive, RFC 4512 2.5).
    pub attributes: BTreeMap<String, Vec<String>>,
    /// Names of attributes whose values are not UTF-8 text.
    pub binary: Vec<String>,
    /// Values that the site says are bytes, in base64 (RFC 4648 4), by name in lower case.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub octets: BTreeMap<String, Vec<String>>,
    /// The closure over nested groups.
    pub groups: Vec<GroupFound>,
}

/// One group the person is in.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct GroupFound {
    pub name: String,
    pub dn: String,
    /// The name of the group through which the person is in it; none when direct.
    pub via: Option<String>,
}

impl Evidence {
    /// Evidence of a person and nothing more yet: what else is known of them is put in.
    pub fn of(way_in: WayIn, provider: impl Into<String>, subject: impl Into<String>, issuer: impl Into<String>) -> Evidence {
        let (provider, issuer) = (provider.into(), issuer.into());
        Evidence {
            format: FORMAT,
            way_in,
            unasked: false,
            through: None,
            claimed_at: None,
            authority: authority(way_in, &provider, &issuer),
            provider,
            subject: subject.into(),
            issuer,
            claims: Map::new(),
            userinfo: UserInfo::NotAsked,
            referred: vec![],
            factors: Factors::default(),
            device: None,
            look_ups: vec![],
        }
    }

    /// Evidence as stored; none when it is of a format this binary does not know.
    pub fn from_stored(body: Value) -> Option<Evidence> {
        serde_json::from_value::<Evidence>(body).ok().filter(Evidence::is_known)
    }

    /// The same from JSON text.
    pub fn from_stored_text(body: &str) -> Option<Evidence> {
        serde_json::from_str::<Evidence>(body).ok().filter(Evidence::is_known)
    }

    fn is_known(&self) -> bool {
        self.format == FORMAT
    }

    /// The same on the device that a tunnel's client runs on: the browser in which its person signs in may run on another.
    pub fn of_tunnel(&self, tunnel: Option<&TunnelFacts>) -> Cow<'_, Evidence> {
        match tunnel {
            Some(facts) if self.device != facts.device => Cow::Owned(Evidence { device: facts.device.clone(), ..self.clone() }),
            _ => Cow::Borrowed(self),
        }
    }

    /// Who it is.
    pub fn person(&self) -> PersonKey {
        let authority = match self.authority.is_empty() {
            true => authority(self.way_in, &self.provider, &self.issuer),
            false => self.authority.clone(),
        };
        PersonKey { authority, subject: self.subject.clone() }
    }

    /// The name of the way in that was taken.
    pub fn way(&self) -> &str {
        self.through.as_deref().unwrap_or(&self.provider)
    }

    /// From when the provider's word is: an id_token says when it was issued; otherwise the proof itself does, and at last the
    /// moment at which it was recorded.
    pub fn claimed(&self, recorded: Moment) -> Moment {
        let issued = self.claims.get("iat").and_then(Value::as_i64).and_then(|s| chrono::DateTime::from_timestamp(s, 0));
        issued.or(self.factors.auth_time).unwrap_or(recorded)
    }

    /// The same person by another way, of whom the provider spoke at `claimed`. Whatever was looked up is looked up anew. What they come
    /// by opens no more than the sign-in that it was made in: `unasked` says whether somebody asked for that one.
    pub fn standing(self, way_in: WayIn, through: &str, claimed: Moment, factors: Factors, unasked: bool) -> Evidence {
        Evidence {
            way_in,
            authority: self.person().authority,
            through: Some(through.to_owned()),
            claimed_at: Some(claimed),
            unasked,
            look_ups: vec![],
            factors,
            ..self
        }
    }

    /// The bytes that are hashed: JSON with sorted object keys, whatever order they were received or read back in.
    pub fn canonical(&self) -> Vec<u8> {
        serde_json::to_value(self).map(|v| serde_json::to_vec(&sorted(v)).unwrap_or_default()).unwrap_or_default()
    }

    /// The content hash under which it is stored.
    pub fn hash(&self) -> [u8; 32] {
        crate::id::sha256(&self.canonical())
    }

    /// A digest of all that a decision can depend on: when and how fast a directory answered is left out, so that sign-ins
    /// of the same person are mostly alike.
    pub fn facts(&self) -> [u8; 32] {
        let mut same = self.clone();
        for l in &mut same.look_ups {
            (l.at, l.millis, l.cached) = (Moment::default(), 0, false);
            l.tried.clear();
        }
        for changing in ["iat", "exp", "nbf", "auth_time", "nonce", "at_hash", "jti", "sid"] {
            same.claims.remove(changing);
        }
        same.device.iter_mut().for_each(Device::forget_moments);
        same.factors.auth_time = None;
        same.claimed_at = None;
        for f in &mut same.factors.own {
            f.at = Moment::default();
        }
        same.hash()
    }

    /// The look-up made in a directory, if it was asked.
    pub fn look_up(&self, directory: &str) -> Option<&LookUp> {
        self.look_ups.iter().find(|l| l.directory == directory)
    }

    /// Puts a look-up in the place of an earlier one made in the same directory.
    pub fn put_look_up(&mut self, look_up: LookUp) {
        let look_up = storable(look_up);
        self.look_ups.retain(|l| l.directory != look_up.directory);
        self.look_ups.push(look_up);
    }

    /// The same with nothing in it that cannot be stored: see [`storable`].
    pub fn storable(self) -> Evidence {
        storable(self)
    }
}

/// What somebody vouched for, with nothing in it that no text of the store can hold.
fn storable<T: Serialize + serde::de::DeserializeOwned>(whole: T) -> T {
    match serde_json::to_value(&whole) {
        Ok(value) if has_nul(&value) => serde_json::from_value(without_nul(value)).unwrap_or(whole),
        _ => whole,
    }
}

fn has_nul(value: &Value) -> bool {
    match value {
        Value::String(s) => s.contains('\0'),
        Value::Array(all) => all.iter().any(has_nul),
        Value::Object(all) => all.iter().any(|(k, v)| k.contains('\0') || has_nul(v)),
        _ => false,
    }
}

/// JSON as [`text::storable`] has texts, in names and values.
pub fn without_nul(value: Value) -> Value {
    match value {
        Value::String(s) => Value::String(text::storable(&s)),
        Value::Array(all) => all.into_iter().map(without_nul).collect(),
        Value::Object(all) => all.into_iter().map(|(k, v)| (text::storable(&k), without_nul(v))).collect(),
        other => other,
    }
}

/// Sorts object keys at every level. Whether a JSON object keeps the order of insertion depends on how the program was
/// built; inserting in order is right either way.
pub(crate) fn sorted(value: Value) -> Value {
    match value {
        Value::Object(map) => {
            let by_name: BTreeMap<String, Value> = map.into_iter().collect();
            Value::Object(by_name.into_iter().map(|(k, v)| (k, sorted(v))).collect())
        }
        Value::Array(items) => Value::Array(items.into_iter().map(sorted).collect()),
        other => other,
    }
}
