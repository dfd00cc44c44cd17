//! A provider's signing keys (RFC 7517).
//!
//! The JOSE library does not filter `use` and `key_ops`: it is done here, so that an encryption key never verifies.

use aws_lc_rs::signature::{ECDSA_P521_SHA512_FIXED, UnparsedPublicKey};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jsonwebtoken::jwk::{AlgorithmParameters, EllipticCurve, Jwk, KeyOperations, PublicKeyUse};
use jsonwebtoken::{Algorithm, DecodingKey};
use serde_json::{Map, Value};

/// The most keys of a set that are looked at.
const KEYS_MAX: usize = 100;

/// A key set could not be used.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BadKeys {
    #[error("the document is no JWK set (RFC 7517 5)")]
    NotASet,
    #[error("the set holds no key for verifying RS, PS, ES or EdDSA signatures")]
    NoneUsable,
}

/// Keys that may verify signatures.
#[derive(Clone)]
pub struct KeySet {
    keys: Vec<Key>,
}

#[derive(Clone)]
struct Key {
    jwk: Jwk,
    /// Its own `alg`, as it stands there: the library knows fewer names.
    alg: Option<String>,
}

impl std::fmt::Debug for KeySet {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "KeySet({:?})", self.ids())
    }
}

impl KeySet {
    /// Reads a JWK set. Members that cannot be read or used are passed over (RFC 7517 5); an empty rest is an error.
    pub fn parse(document: &[u8]) -> Result<KeySet, BadKeys> {
        let doc: Value = serde_json::from_slice(document).map_err(|_| BadKeys::NotASet)?;
        let all = doc.get("keys").and_then(Value::as_array).ok_or(BadKeys::NotASet)?;
        let read = |k: &Value| {
            let alg = k.get("alg").and_then(Value::as_str).map(str::to_owned);
            Some(Key { jwk: serde_json::from_value(k.clone()).ok()?, alg })
        };
        let keys: Vec<Key> = all.iter().take(KEYS_MAX).filter_map(read).filter(|k| may_verify(&k.jwk)).collect();
        if keys.is_empty() { Err(BadKeys::NoneUsable) } else { Ok(KeySet { keys }) }
    }

    /// Key ids, for the story and for trials.
    pub fn ids(&self) -> Vec<String> {
        self.keys.iter().map(|k| k.jwk.common.key_id.clone().unwrap_or_else(|| "(no kid)".into())).collect()
    }

    /// The keys that may have signed with an algorithm, by its name: those named by `kid`, or without a `kid` all that fit.
    pub(super) fn candidates(&self, kid: Option<&str>, name: &str, alg: Signs) -> Vec<Candidate> {
        self.keys
            .iter()
            .filter(|k| kid.is_none() || k.jwk.common.key_id.as_deref() == kid)
            .filter(|k| fits(&k.jwk, alg) && k.alg.as_deref().is_none_or(|own| same_algorithm(own, name)))
            .filter_map(|k| Candidate::of(&k.jwk, alg))
            .collect()
    }
}

/// How a token is signed: as the JOSE library knows it, or ES512 (RFC 7518 3.4), which it does not.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Signs {
    Library(Algorithm),
    Es512,
}

/// A key that may have signed a token.
pub(super) enum Candidate {
    Library(Box<DecodingKey>, Algorithm),
    /// A point of P-521, uncompressed (SEC 1, 2.3.3).
    P521(Vec<u8>),
}

impl Candidate {
    fn of(key: &Jwk, alg: Signs) -> Option<Candidate> {
        match (alg, &key.algorithm) {
            (Signs::Library(alg), _) => Some(Candidate::Library(Box::new(DecodingKey::from_jwk(key).ok()?), alg)),
            (Signs::Es512, AlgorithmParameters::EllipticCurve(p)) => {
                let part = |text: &str| URL_SAFE_NO_PAD.decode(text).ok().filter(|b| b.len() == P521);
                Some(Candidate::P521([vec![4], part(&p.x)?, part(&p.y)?].concat()))
            }
            (Signs::Es512, _) => None,
        }
    }

    /// The claims of a token that this key signed.
    pub(super) fn claims(&self, token: &str) -> Option<Map<String, Value>> {
        match self {
            Candidate::Library(key, alg) => {
                // The algorithm of the header was looked up in our own list, under every name that it has.
                jsonwebtoken::crypto::verify(signature(token)?, signed(token)?.as_bytes(), key, *alg).ok().filter(|ok| *ok)?;
            }
            Candidate::P521(point) => {
                let given = URL_SAFE_NO_PAD.decode(signature(token)?).ok()?;
                let key = UnparsedPublicKey::new(&ECDSA_P521_SHA512_FIXED, point);
                key.verify(signed(token)?.as_bytes(), &given).ok()?;
            }
        }
        let payload = token.split('.').nth(1)?;
        serde_json::from_slice(&URL_SAFE_NO_PAD.decode(payload).ok()?).ok()
    }
}

/// Octets of a coordinate on P-521 (RFC 7518 6.2.1.2).
const P521: usize = 66;

/// What is signed of a token, and its signature (RFC 7515 5.1).
fn signed(token: &str) -> Option<&str> {
    token.rsplit_once('.').map(|(front, _)| front)
}

fn signature(token: &str) -> Option<&str> {
    token.rsplit_once('.').map(|(_, signature)| signature)
}

/// Whether a key's own `alg` is the algorithm of a token: an Edwards key may bear the old name and the token the new one (RFC 9864).
fn same_algorithm(own: &str, name: &str) -> bool {
    let plain = |n: &str| if n == "Ed25519" { "EdDSA".to_owned() } else { n.to_owned() };
    plain(own) == plain(name)
}

fn may_verify(key: &Jwk) -> bool {
    let public = matches!(
        key.algorithm,
        AlgorithmParameters::RSA(_) | AlgorithmParameters::EllipticCurve(_) | AlgorithmParameters::OctetKeyPair(_)
    );
    let used = key.common.public_key_use.as_ref().is_none_or(|u| *u == PublicKeyUse::Signature);
    let ops = key.common.key_operations.as_ref().is_none_or(|o| o.contains(&KeyOperations::Verify));
    public && used && ops
}

/// Whether key type and curve fit the algorithm of the token.
fn fits(key: &Jwk, alg: Signs) -> bool {
    use Algorithm as A;
    match (&key.algorithm, alg) {
        (AlgorithmParameters::RSA(_), Signs::Library(A::RS256 | A::RS384 | A::RS512 | A::PS256 | A::PS384 | A::PS512)) => true,
        (AlgorithmParameters::EllipticCurve(p), Signs::Library(A::ES256)) => p.curve == EllipticCurve::P256,
        (AlgorithmParameters::EllipticCurve(p), Signs::Library(A::ES384)) => p.curve == EllipticCurve::P384,
        (AlgorithmParameters::EllipticCurve(p), Signs::Es512) => p.curve == EllipticCurve::P521,
        (AlgorithmParameters::OctetKeyPair(p), Signs::Library(A::EdDSA)) => p.curve == EllipticCurve::Ed25519,
        _ => false,
    }
}
