//! A provider's signing keys (RFC 7517).
//!
//! The JOSE library does not filter `use` and `key_ops`: it is done here, so that an encryption key never verifies.

use jsonwebtoken::jwk::{AlgorithmParameters, EllipticCurve, Jwk, KeyOperations, PublicKeyUse};
use jsonwebtoken::{Algorithm, DecodingKey};
use serde_json::Value;

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
    keys: Vec<Jwk>,
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
        let keys: Vec<Jwk> =
            all.iter().take(KEYS_MAX).filter_map(|k| serde_json::from_value(k.clone()).ok()).filter(may_verify).collect();
        if keys.is_empty() { Err(BadKeys::NoneUsable) } else { Ok(KeySet { keys }) }
    }

    /// Key ids, for the story and for trials.
    pub fn ids(&self) -> Vec<String> {
        self.keys.iter().map(|k| k.common.key_id.clone().unwrap_or_else(|| "(no kid)".into())).collect()
    }

    /// The keys that may have signed with `alg`: the one named by `kid`, or without a `kid` all that fit.
    pub(super) fn candidates(&self, kid: Option<&str>, alg: Algorithm) -> Vec<DecodingKey> {
        self.keys
            .iter()
            .filter(|k| kid.is_none() || k.common.key_id.as_deref() == kid)
            .filter(|k| fits(k, alg))
            .filter_map(|k| DecodingKey::from_jwk(k).ok())
            .collect()
    }

    /// Whether a key of that id is in the set.
    pub fn knows(&self, kid: Option<&str>) -> bool {
        kid.is_none() || self.keys.iter().any(|k| k.common.key_id.as_deref() == kid)
    }
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

/// Whether key type, curve and the key's own `alg` fit the algorithm of the token.
fn fits(key: &Jwk, alg: Algorithm) -> bool {
    let kind = match (&key.algorithm, alg) {
        (
            AlgorithmParameters::RSA(_),
            Algorithm::RS256 | Algorithm::RS384 | Algorithm::RS512 | Algorithm::PS256 | Algorithm::PS384 | Algorithm::PS512,
        ) => true,
        (AlgorithmParameters::EllipticCurve(p), Algorithm::ES256) => p.curve == EllipticCurve::P256,
        (AlgorithmParameters::EllipticCurve(p), Algorithm::ES384) => p.curve == EllipticCurve::P384,
        (AlgorithmParameters::OctetKeyPair(p), Algorithm::EdDSA) => p.curve == EllipticCurve::Ed25519,
        _ => false,
    };
    let own = key.common.key_algorithm.is_none_or(|a| a.to_string() == format!("{alg:?}"));
    kind && own
}
