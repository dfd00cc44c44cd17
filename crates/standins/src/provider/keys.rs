//! Signing keys (ES256), published as a JWK set.

use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, KeyPair};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jsonwebtoken::EncodingKey;
use serde_json::{Value, json};

struct Key {
    kid: String,
    private: Vec<u8>,
    /// X and Y of the public point.
    point: (String, String),
}

pub(super) struct Keys {
    number: u32,
    current: Key,
    /// Never published; signs when the provider is told to use a wrong key.
    stray: Key,
}

fn make(kid: String) -> Key {
    let document = EcdsaKeyPair::generate_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, &SystemRandom::new());
    let private = document.map(|d| d.as_ref().to_vec()).unwrap_or_default();
    let point = EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, &private)
        .map(|pair| {
            let p = pair.public_key().as_ref(); // 0x04, X, Y
            (URL_SAFE_NO_PAD.encode(&p[1..33]), URL_SAFE_NO_PAD.encode(&p[33..65]))
        })
        .unwrap_or_default();
    Key { kid, private, point }
}

impl Keys {
    pub(super) fn new() -> Keys {
        Keys { number: 1, current: make("tide-1".into()), stray: make("stray".into()) }
    }

    pub(super) fn rotate(&mut self) {
        self.number += 1;
        self.current = make(format!("tide-{}", self.number));
    }

    pub(super) fn published(&self) -> Value {
        let k = &self.current;
        json!({"keys": [{"kty": "EC", "crv": "P-256", "use": "sig", "alg": "ES256", "kid": k.kid, "x": k.point.0, "y": k.point.1}]})
    }

    /// The key id to name and the key to sign with.
    pub(super) fn signing(&self, stray: bool) -> (String, EncodingKey) {
        let private = if stray { &self.stray.private } else { &self.current.private };
        (self.current.kid.clone(), EncodingKey::from_ec_der(private))
    }
}
