//! The id_token against tokens signed here with a crypto library directly: what verifies in the product must not be what
//! signs in its tests. Each hostile token differs from a good one in exactly one thing.
#![allow(clippy::unwrap_used)] // A test that cannot go on should say where.

use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::rsa::{KeyPair as RsaPair, KeySize};
use aws_lc_rs::signature::{self as sig, EcdsaKeyPair, Ed25519KeyPair, KeyPair};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use chrono::{DateTime, Duration, Utc};
use passeur_protocols::oidc::{
    BadKeys, BadUserInfo, Expected, ExpectedAccess, ExpectedClaims, ExpectedLogout, KeySet, LogoutToken, ValidIdToken, issuer_of,
    key_id, validate, validate_access_token, validate_introspection, validate_logout, validate_referred, validate_userinfo,
};
use serde_json::{Map, Value, json};

fn b64(bytes: impl AsRef<[u8]>) -> String {
    URL_SAFE_NO_PAD.encode(bytes)
}

/// A key that signs, with its public half as a JWK.
enum Signer {
    Ec(EcdsaKeyPair, &'static str),
    Ed(Ed25519KeyPair),
    Rsa(Box<RsaPair>),
}

impl Signer {
    fn ec(alg: &'static str) -> Signer {
        let algorithm = match alg {
            "ES512" => &sig::ECDSA_P521_SHA512_FIXED_SIGNING,
            "ES384" => &sig::ECDSA_P384_SHA384_FIXED_SIGNING,
            _ => &sig::ECDSA_P256_SHA256_FIXED_SIGNING,
        };
        let document = EcdsaKeyPair::generate_pkcs8(algorithm, &SystemRandom::new()).unwrap();
        Signer::Ec(EcdsaKeyPair::from_pkcs8(algorithm, document.as_ref()).unwrap(), alg)
    }

    fn for_alg(alg: &'static str) -> Signer {
        match alg {
            "ES256" | "ES384" | "ES512" => Signer::ec(alg),
            "EdDSA" | "Ed25519" => Signer::Ed(Ed25519KeyPair::generate().unwrap()),
            _ => Signer::Rsa(Box::new(RsaPair::generate(KeySize::Rsa2048).unwrap())),
        }
    }

    fn jwk(&self, kid: &str) -> Value {
        match self {
            Signer::Ec(pair, alg) => {
                let (curve, half) = match *alg {
                    "ES512" => ("P-521", 66),
                    "ES384" => ("P-384", 48),
                    _ => ("P-256", 32),
                };
                let point = pair.public_key().as_ref();
                json!({"kty": "EC", "crv": curve, "kid": kid, "x": b64(&point[1..=half]), "y": b64(&point[half + 1..])})
            }
            Signer::Ed(pair) => json!({"kty": "OKP", "crv": "Ed25519", "kid": kid, "x": b64(pair.public_key().as_ref())}),
            Signer::Rsa(pair) => {
                let public = pair.public_key();
                let n = public.modulus().big_endian_without_leading_zero();
                json!({"kty": "RSA", "kid": kid, "n": b64(n), "e": b64(public.exponent().big_endian_without_leading_zero())})
            }
        }
    }

    fn sign(&self, alg: &str, message: &[u8]) -> Vec<u8> {
        let random = SystemRandom::new();
        match self {
            Signer::Ec(pair, _) => pair.sign(&random, message).unwrap().as_ref().to_vec(),
            Signer::Ed(pair) => pair.sign(message).as_ref().to_vec(),
            Signer::Rsa(pair) => {
                let encoding: &dyn sig::RsaEncoding = match alg {
                    "RS384" => &sig::RSA_PKCS1_SHA384,
                    "RS512" => &sig::RSA_PKCS1_SHA512,
                    "PS256" => &sig::RSA_PSS_SHA256,
                    "PS384" => &sig::RSA_PSS_SHA384,
                    "PS512" => &sig::RSA_PSS_SHA512,
                    _ => &sig::RSA_PKCS1_SHA256,
                };
                let mut out = vec![0; pair.public_modulus_len()];
                pair.sign(encoding, &random, message, &mut out).unwrap();
                out
            }
        }
    }

    fn token(&self, header: &Value, claims: &Value) -> String {
        let signed = format!("{}.{}", b64(header.to_string()), b64(claims.to_string()));
        let alg = header["alg"].as_str().unwrap_or("ES256");
        format!("{signed}.{}", b64(self.sign(alg, signed.as_bytes())))
    }

    fn keys(&self, kid: &str) -> KeySet {
        set(&[self.jwk(kid)])
    }
}

fn set(keys: &[Value]) -> KeySet {
    KeySet::parse(json!({"keys": keys}).to_string().as_bytes()).unwrap()
}

fn now() -> DateTime<Utc> {
    DateTime::from_timestamp(1_800_000_000, 0).unwrap()
}

fn expected() -> Expected<'static> {
    Expected {
        issuer: "https://p.example",
        client_id: "harbour",
        nonce: "n-0S6_WzA2Mj",
        access_token: "jHkWEdUXMU1BwAsC4vtUsZwnNvTIxEl0z9K3vx5KF0Y",
        now: now(),
        skew: Duration::seconds(30),
    }
}

fn claims() -> Value {
    let t = now().timestamp();
    json!({
        "iss": "https://p.example", "aud": "harbour", "sub": "pilot-7", "nonce": "n-0S6_WzA2Mj", "iat": t - 5, "exp": t + 300,
        "name": "Élodie", "amr": ["pwd", "mfa"],
    })
}

fn with(mut claims: Value, name: &str, value: Value) -> Value {
    match value {
        Value::Null => {
            claims.as_object_mut().unwrap().remove(name);
        }
        v => claims[name] = v,
    }
    claims
}

fn good(signer: &Signer) -> ValidIdToken {
    validate(&signer.token(&json!({"alg": "ES256", "kid": "k"}), &claims()), &signer.keys("k"), &expected()).unwrap()
}

#[test]
fn every_algorithm_of_the_list_verifies_and_only_with_its_own_kind_of_key() {
    let algorithms = ["RS256", "RS384", "RS512", "PS256", "PS384", "PS512", "ES256", "ES384", "ES512", "EdDSA", "Ed25519"];
    let rsa = Signer::for_alg("RS256");
    let others: Vec<(&str, Signer)> = ["ES256", "ES384", "ES512", "EdDSA", "Ed25519"].map(|a| (a, Signer::for_alg(a))).into();
    for alg in algorithms {
        let signer = others.iter().find(|(a, _)| *a == alg).map_or(&rsa, |(_, s)| s);
        let token = signer.token(&json!({"alg": alg, "kid": "k"}), &claims());
        let valid = validate(&token, &signer.keys("k"), &expected()).unwrap_or_else(|e| panic!("{alg}: {e}"));
        assert_eq!((valid.subject(), valid.alg.as_str(), valid.kid.as_str()), ("pilot-7", alg, "k"));
        for (other, key) in others.iter().filter(|(a, _)| *a != alg) {
            let refused = validate(&token, &key.keys("k"), &expected()).unwrap_err();
            // RFC 9864: two names of one algorithm.
            let check = if alg.starts_with("Ed") && other.starts_with("Ed") { "signature" } else { "key" };
            assert_eq!(refused.check, check, "{alg} with a key for {other}");
        }
    }
}

#[test]
fn each_claim_that_is_wrong_is_named_with_what_was_seen() {
    let t = now().timestamp();
    let signer = Signer::ec("ES256");
    let keys = signer.keys("k");
    let table = [
        ("iss", json!("https://p.example/"), "issuer"),
        ("iss", json!(null), "issuer"),
        ("iss", json!(["https://p.example"]), "issuer"),
        ("aud", json!("harbour "), "audience"),
        ("aud", json!(null), "audience"),
        ("aud", json!([]), "audience"),
        ("aud", json!(["other"]), "audience"),
        ("aud", json!({"harbour": 1}), "audience"),
        ("aud", json!(["harbour", "other"]), "azp"),
        ("azp", json!("other"), "azp"),
        ("exp", json!(t - 31), "expiry"),
        ("exp", json!(t - 30), "expiry"),
        ("exp", json!(null), "times"),
        ("exp", json!("soon"), "times"),
        ("exp", json!(i64::MAX), "times"),
        ("exp", json!(1e300), "times"),
        ("exp", json!(8_210_266_876_799_i64), "times"),
        ("iat", json!(null), "times"),
        ("iat", json!(i64::MIN), "times"),
        ("iat", json!(t + 31), "issue-time"),
        ("iat", json!(t - 3601), "issue-time"),
        ("nbf", json!(t + 31), "not-before"),
        ("nonce", json!("N-0S6_WzA2Mj"), "nonce"),
        ("nonce", json!(""), "nonce"),
        ("nonce", json!(null), "nonce"),
        ("nonce", json!(["n-0S6_WzA2Mj"]), "nonce"),
        ("at_hash", json!("77QmUPtjPfzWtF2AnpK9RR"), "at_hash"),
        ("at_hash", json!(""), "at_hash"),
        ("at_hash", json!(7), "at_hash"),
        ("sub", json!(null), "sub"),
        ("sub", json!(""), "sub"),
        ("sub", json!(7), "sub"),
        ("sub", json!("pilóte"), "sub"),
        ("sub", json!("p".repeat(256)), "sub"),
    ];
    for (name, value, check) in table {
        let token = signer.token(&json!({"alg": "ES256", "kid": "k"}), &with(claims(), name, value.clone()));
        let refused = validate(&token, &keys, &expected()).map(|_| ()).expect_err(&format!("{name} = {value}"));
        assert_eq!(refused.check, check, "{name} = {value}: {refused}");
        assert!(!refused.to_string().contains("n-0S6_WzA2Mj"), "the nonce is not told: {refused}");
    }
}

#[test]
fn what_is_allowed_at_the_edges_passes() {
    let t = now().timestamp();
    let signer = Signer::ec("ES256");
    let keys = signer.keys("k");
    for (name, value) in [
        ("aud", json!(["harbour"])),
        ("azp", json!("harbour")),
        ("exp", json!(t - 29)),
        ("exp", json!((t + 60) as f64)),
        ("iat", json!(t + 30)),
        ("iat", json!(t - 3600)),
        ("nbf", json!(t + 30)),
        // OpenID Connect Core, appendix A.3: the access token and at_hash of its example.
        ("at_hash", json!("77QmUPtjPfzWtF2AnpK9RQ")),
        ("sub", json!("p".repeat(255))),
    ] {
        let token = signer.token(&json!({"alg": "ES256", "kid": "k"}), &with(claims(), name, value.clone()));
        validate(&token, &keys, &expected()).unwrap_or_else(|e| panic!("{name} = {value}: {e}"));
    }
    let several = with(with(claims(), "aud", json!(["other", "harbour"])), "azp", json!("harbour"));
    validate(&signer.token(&json!({"alg": "ES256", "kid": "k"}), &several), &keys, &expected()).unwrap();
}

#[test]
fn headers_that_try_to_choose_how_they_are_checked_are_refused() {
    let signer = Signer::ec("ES256");
    let jwk = signer.jwk("k");
    let stranger = Signer::ec("ES256");
    for (header, check) in [
        (json!({"alg": "none", "kid": "k"}), "algorithm"),
        (json!({"kid": "k"}), "algorithm"),
        (json!({"alg": "HS256", "kid": "k"}), "algorithm"),
        (json!({"alg": "es256", "kid": "k"}), "algorithm"),
        (json!({"alg": ["ES256"], "kid": "k"}), "algorithm"),
        (json!({"alg": "ES384K", "kid": "k"}), "algorithm"),
        (json!({"alg": "ES256", "kid": "other"}), "key"),
        (json!({"alg": "RS256", "kid": "k"}), "key"),
        (json!({"alg": "ES256", "kid": "k", "crit": ["exp"], "exp": 1}), "crit"),
        (json!({"alg": "ES256", "kid": "k", "crit": []}), "crit"),
        (json!({"alg": "ES256", "kid": "k", "b64": false, "crit": ["b64"]}), "crit"),
    ] {
        let refused = validate(&signer.token(&header, &claims()), &set(std::slice::from_ref(&jwk)), &expected()).unwrap_err();
        assert_eq!(refused.check, check, "{header}");
    }
    // A key in the header (RFC 7515 4.1.3) or an address of keys (4.1.2) is never used.
    for header in [
        json!({"alg": "ES256", "kid": "k", "jwk": stranger.jwk("k")}),
        json!({"alg": "ES256", "kid": "k", "jku": "https://evil.example/keys"}),
        json!({"alg": "ES256"}),
    ] {
        let refused = validate(&stranger.token(&header, &claims()), &set(std::slice::from_ref(&jwk)), &expected()).unwrap_err();
        assert_eq!(refused.check, "signature", "{header}");
    }
}

#[test]
fn a_changed_byte_anywhere_is_refused() {
    let signer = Signer::ec("ES256");
    let keys = signer.keys("k");
    let token = signer.token(&json!({"alg": "ES256", "kid": "k"}), &claims());
    // The last character of a part may hold bits that decode to nothing; a strict decoder refuses those as well.
    for i in 0..token.len() {
        for swap in [b'A', b'.', b'_'] {
            let mut bytes = token.clone().into_bytes();
            if bytes[i] == swap {
                continue;
            }
            bytes[i] = swap;
            let changed = String::from_utf8(bytes).unwrap();
            assert!(validate(&changed, &keys, &expected()).is_err(), "byte {i} as {}", char::from(swap));
        }
    }
}

#[test]
fn what_is_no_token_is_refused_without_a_crash() {
    let signer = Signer::ec("ES256");
    let keys = signer.keys("k");
    let token = signer.token(&json!({"alg": "ES256", "kid": "k"}), &claims());
    let (head, _) = token.rsplit_once('.').unwrap();
    let cut = format!("{head}.");
    let five = format!("{token}.a.b");
    let long = format!("{token}{}", "A".repeat(70_000));
    for (text, check) in [
        ("", "form"),
        ("..", "form"),
        ("a.b.c", "form"),
        ("\u{1F6A2}.\u{1F6A2}.\u{1F6A2}", "form"),
        (five.as_str(), "form"),
        (long.as_str(), "form"),
        (cut.as_str(), "signature"),
    ] {
        assert_eq!(
            validate(text, &keys, &expected()).unwrap_err().check,
            check,
            "{}",
            &text.chars().take(20).collect::<String>()
        );
    }
    assert_eq!(validate("W10.e30.", &keys, &expected()).unwrap_err().check, "form", "a header that is a list");
    // Claims that are no object.
    let signed = format!("{}.{}", b64(r#"{"alg":"ES256","kid":"k"}"#), b64("[1]"));
    let list = format!("{signed}.{}", b64(signer.sign("ES256", signed.as_bytes())));
    assert_eq!(validate(&list, &keys, &expected()).unwrap_err().check, "signature");
}

#[test]
fn the_signatures_of_rfc_7515_verify_up_to_their_own_issuer() {
    let payload = "eyJpc3MiOiJqb2UiLA0KICJleHAiOjEzMDA4MTkzODAsDQogImh0dHA6Ly9leGFtcGxlLmNvbS9pc19yb290Ijp0cnVlfQ";
    let rsa = json!({"kty": "RSA", "e": "AQAB", "n": "ofgWCuLjybRlzo0tZWJjNiuSfb4p4fAkd_wWJcyQoTbji9k0l8W26mPddxHmfHQp-Vaw-4qPCJrcS2mJPMEzP1Pt0Bm4d4QlL-yRT-SFd2lZS-pCgNMsD1W_YpRPEwOWvG6b32690r2jZ47soMZo9wGzjb_7OMg0LOL-bSf63kpaSHSXndS5z5rexMdbBYUsLA9e-KXBdQOS-UTo7WTBEMa2R2CapHg665xsmtdVMTBQY4uDZlxvb3qCo5ZwKh9kG4LT6_I5IhlJH7aGhyxXFvUK-DWNmoudF8NAco9_h9iaGNj8q2ethFkMLs91kzk2PAcDTW9gb54h4FRWyuXpoQ"});
    let ec = json!({"kty": "EC", "crv": "P-256", "x": "f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU", "y": "x_FEzRu9m36HLN_tue659LNpXW6pCyStikYjKIWI5a0"});
    let appendix_a2 = format!(
        "eyJhbGciOiJSUzI1NiJ9.{payload}.cC4hiUPoj9Eetdgtv3hF80EGrhuB__dzERat0XF9g2VtQgr9PJbu3XOiZj5RZmh7AAuHIm4Bh-0Qc_lF5YKt_O8W2Fp5jujGbds9uJdbF9CUAr7t1dnZcAcQjbKBYNX4BAynRFdiuB--f_nZLgrnbyTyWzO75vRK5h6xBArLIARNPvkSjtQBMHlb1L07Qe7K0GarZRmB_eSN9383LcOLn6_dO--xi12jzDwusC-eOkHWEsqtFZESc6BfI7noOPqvhJ1phCnvWh6IeYI2w9QOYEUipUTI8np6LbgGY9Fs98rqVt5AXLIhWkWywlVmtVrBp0igcN_IoypGlUPQGe77Rw"
    );
    let appendix_a3 = format!(
        "eyJhbGciOiJFUzI1NiJ9.{payload}.DtEhU3ljbEg8L38VWAfUAqOyKAM6-Xx-F4GawxaepmXFCgfTjDxw5djxLa8ISlSApmWQxfKTUJqPP3-Kg6NU1Q"
    );
    for (token, key) in [(&appendix_a2, &rsa), (&appendix_a3, &ec)] {
        let e = validate(token, &set(std::slice::from_ref(key)), &expected()).unwrap_err();
        assert_eq!((e.check, e.seen.as_str()), ("issuer", "joe"), "the signature was accepted, the issuer was not");
        let changed = token.replacen("eyJpc3MiOiJqb2Ui", "eyJpc3MiOiJqb2Yi", 1);
        assert_eq!(validate(&changed, &set(std::slice::from_ref(key)), &expected()).unwrap_err().check, "signature");
    }
    // Appendix A.1 is HMAC, A.5 is unsecured: neither is ever accepted.
    for header in ["eyJ0eXAiOiJKV1QiLA0KICJhbGciOiJIUzI1NiJ9", "eyJhbGciOiJub25lIn0"] {
        assert_eq!(
            validate(&format!("{header}.{payload}."), &set(std::slice::from_ref(&rsa)), &expected()).unwrap_err().check,
            "algorithm"
        );
    }
}

#[test]
fn spent_claims_are_not_handed_on() {
    let signer = Signer::ec("ES256");
    let claims = with(with(claims(), "at_hash", json!("77QmUPtjPfzWtF2AnpK9RQ")), "jti", json!("once"));
    let valid = validate(&signer.token(&json!({"alg": "ES256", "kid": "k"}), &claims), &signer.keys("k"), &expected()).unwrap();
    let mut names: Vec<String> = valid.claims().keys().cloned().collect();
    names.sort();
    assert_eq!(names, ["amr", "aud", "exp", "iat", "iss", "name", "sub"]);
    assert_eq!(valid.claim("name"), Some(&json!("Élodie")));
}

#[test]
fn the_key_id_is_read_before_anything_is_believed() {
    let signer = Signer::ec("ES256");
    assert_eq!(key_id(&signer.token(&json!({"alg": "ES256", "kid": "tide-2"}), &claims())).as_deref(), Some("tide-2"));
    for not in ["", "a.b.c", "e30.e30.x", "eyJraWQiOjd9.e30.x"] {
        assert_eq!(key_id(not), None, "{not}");
    }
}

#[test]
fn keys_that_may_not_verify_are_passed_over() {
    let signer = Signer::ec("ES256");
    let token = signer.token(&json!({"alg": "ES256", "kid": "k"}), &claims());
    let changed = |name: &str, value: Value| with(signer.jwk("k"), name, value);
    for (key, usable) in [
        (changed("use", json!("sig")), true),
        (changed("key_ops", json!(["verify"])), true),
        (changed("alg", json!("ES256")), true),
        (changed("use", json!("enc")), false),
        (changed("key_ops", json!(["deriveBits"])), false),
        (changed("alg", json!("ES384")), false),
        (changed("crv", json!("P-384")), false),
        (changed("kid", json!("other")), false),
        (changed("x", json!("AAAA")), false),
    ] {
        let parsed = KeySet::parse(json!({"keys": [key.clone()]}).to_string().as_bytes());
        let verified = parsed.is_ok_and(|keys| validate(&token, &keys, &expected()).is_ok());
        assert_eq!(verified, usable, "{key}");
    }
    // Without a kid every key that fits is tried, as long as one fits.
    let unnamed = signer.token(&json!({"alg": "ES256"}), &claims());
    let many = set(&[Signer::ec("ES256").jwk("a"), Signer::for_alg("EdDSA").jwk("b"), signer.jwk("c")]);
    assert!(validate(&unnamed, &many, &expected()).is_ok());
}

#[test]
fn what_is_no_key_set_is_told_apart_from_one_without_usable_keys() {
    for (document, want) in [
        (&b"<html>"[..], BadKeys::NotASet),
        (b"[]", BadKeys::NotASet),
        (br#"{"keys": 7}"#, BadKeys::NotASet),
        (br#"{"keys": []}"#, BadKeys::NoneUsable),
        (br#"{"keys": [7, {}, {"kty": "oct", "k": "AAAA"}]}"#, BadKeys::NoneUsable),
    ] {
        assert_eq!(KeySet::parse(document).unwrap_err(), want, "{}", String::from_utf8_lossy(document));
    }
    // A symmetric key beside a good one is passed over, so a client secret published by mistake never verifies.
    let keys = set(&[json!({"kty": "oct", "k": "AAAA", "kid": "s"}), Signer::ec("ES256").jwk("k")]);
    assert_eq!(keys.ids(), ["k"]);
}

#[test]
fn userinfo_is_only_used_for_the_same_subject() {
    let id_token = good(&Signer::ec("ES256"));
    let claims = validate_userinfo(200, br#"{"sub": "pilot-7", "email": "e@havrelune.example"}"#, &id_token).unwrap();
    assert_eq!(Value::Object(claims), json!({"email": "e@havrelune.example"}));
    for (status, body, want) in [
        (401, &b"{}"[..], BadUserInfo::Status(401)),
        (200, b"eyJ.a.b", BadUserInfo::NotJson),
        (200, b"[]", BadUserInfo::NotJson),
        (200, br#"{"email": "e@havrelune.example"}"#, BadUserInfo::OtherSubject("nobody".into())),
        (200, br#"{"sub": "PILOT-7"}"#, BadUserInfo::OtherSubject("PILOT-7".into())),
        (200, br#"{"sub": ["pilot-7"]}"#, BadUserInfo::OtherSubject("[\"pilot-7\"]".into())),
    ] {
        assert_eq!(validate_userinfo(status, body, &id_token).unwrap_err(), want);
    }
}

fn access_claims() -> Value {
    let t = now().timestamp();
    json!({"iss": "https://p.example", "sub": "s-1", "aud": ["https://other.example", "https://berths.example"], "client_id": "night",
        "scope": "berths report", "iat": t, "exp": t + 300, "jti": "x"})
}

#[test]
fn an_access_token_differs_from_a_good_one_in_one_thing_and_is_none() {
    let signer = Signer::ec("ES256");
    let keys = signer.keys("k1");
    let scopes = ["berths".to_owned()];
    let expected = ExpectedAccess {
        issuer: "https://p.example",
        audience: "https://berths.example",
        scopes: &scopes,
        now: now(),
        skew: Duration::seconds(30),
    };
    let header = |typ: &str| json!({"alg": "ES256", "kid": "k1", "typ": typ});
    for typ in ["at+jwt", "application/at+jwt", "AT+JWT"] {
        let token = signer.token(&header(typ), &access_claims());
        let valid = validate_access_token(&token, &keys, &expected).unwrap();
        assert_eq!((valid.subject(), valid.client(), valid.expires().timestamp()), ("s-1", "night", now().timestamp() + 300));
        assert!(!valid.claims().contains_key("jti"));
        assert_eq!(issuer_of(&token).as_deref(), Some("https://p.example"));
    }
    let t = now().timestamp();
    for (name, value, check) in [
        ("iss", json!("https://q.example"), "issuer"),
        ("aud", json!("https://berths.example.evil"), "audience"),
        ("aud", json!({"https://berths.example": 1}), "audience"),
        ("aud", Value::Null, "audience"),
        ("exp", json!(t - 30), "expiry"),
        ("exp", json!("soon"), "times"),
        ("exp", Value::Null, "times"),
        ("iat", json!(t + 31), "issue-time"),
        ("nbf", json!(t + 31), "not-before"),
        ("scope", json!("berthsreport"), "scope"),
        ("scope", json!(["berths"]), "scope"),
        ("sub", json!(""), "sub"),
        ("sub", json!(7), "sub"),
    ] {
        let mut claims = access_claims();
        claims[name] = value.clone();
        let token = signer.token(&header("at+jwt"), &claims);
        assert_eq!(validate_access_token(&token, &keys, &expected).unwrap_err().check, check, "{name} = {value}");
        if name != "iss" {
            claims["active"] = true.into();
            let body = claims.to_string();
            assert_eq!(validate_introspection(200, body.as_bytes(), &expected).unwrap_err().check, check, "{name} = {value}");
        }
    }
    // An id_token, a token of another key, one without a signature, and what is no token at all.
    let plain = |t: &str| validate_access_token(t, &keys, &expected).unwrap_err().check;
    assert_eq!(plain(&signer.token(&header("JWT"), &access_claims())), "typ");
    assert_eq!(plain(&signer.token(&json!({"alg": "ES256", "kid": "k1"}), &access_claims())), "typ");
    assert_eq!(plain(&signer.token(&json!({"alg": "none", "typ": "at+jwt"}), &access_claims())), "algorithm");
    assert_eq!(plain(&signer.token(&json!({"alg": "ES256", "typ": "at+jwt", "crit": ["b64"]}), &access_claims())), "crit");
    assert_eq!(plain(&Signer::ec("ES256").token(&header("at+jwt"), &access_claims())), "signature");
    for junk in ["", "a.b", "a.b.c", "opaque"] {
        assert_eq!((plain(junk), issuer_of(junk)), ("form", None), "{junk}");
    }
    let mut said = access_claims();
    for (active, status, check) in [(json!(false), 200, "active"), (json!("true"), 200, "active"), (json!(true), 401, "form")] {
        said["active"] = active;
        assert_eq!(validate_introspection(status, said.to_string().as_bytes(), &expected).unwrap_err().check, check);
    }
    said["active"] = true.into();
    assert_eq!(validate_introspection(200, said.to_string().as_bytes(), &expected).unwrap().subject(), "s-1");
    assert_eq!(validate_introspection(200, b"<html>", &expected).unwrap_err().check, "form");
}

fn logout_claims() -> Value {
    let t = now().timestamp();
    json!({
        "iss": "https://p.example", "aud": ["harbour"], "sub": "pilot-7", "sid": "08a5019c-17e1-4977-8f42-65a12843ea02",
        "iat": t - 5, "exp": t + 120, "jti": "bWJq", "events": {"http://schemas.openid.net/event/backchannel-logout": {}},
    })
}

fn logout(header: &Value, claims: &Value) -> Result<LogoutToken, &'static str> {
    let signer = Signer::ec("ES256");
    let expected = ExpectedLogout { issuer: "https://p.example", client_id: "harbour", now: now(), skew: Duration::seconds(30) };
    validate_logout(&signer.token(header, claims), &signer.keys("k"), &expected).map_err(|e| e.check)
}

/// OpenID Connect Back-Channel Logout 1.0, 2.4 and 2.6.
#[test]
fn a_logout_token_is_believed_only_whole() {
    let header = json!({"alg": "ES256", "kid": "k", "typ": "logout+jwt"});
    let t = now().timestamp();
    let good = logout(&header, &logout_claims()).unwrap();
    assert_eq!((good.subject.as_deref(), good.id.as_str()), (Some("pilot-7"), "bWJq"));
    for (name, value) in
        [("sub", Value::Null), ("sid", Value::Null), ("aud", json!("harbour")), ("sid", json!("s".repeat(2_048)))]
    {
        assert!(logout(&header, &with(logout_claims(), name, value)).is_ok(), "without {name}");
    }
    for typ in ["JWT", "application/logout+jwt", "LOGOUT+JWT"] {
        assert!(logout(&json!({"alg": "ES256", "kid": "k", "typ": typ}), &logout_claims()).is_ok(), "{typ}");
    }
    for (name, value, check) in [
        ("iss", json!("https://elsewhere.example"), "issuer"),
        ("aud", json!(["other"]), "audience"),
        ("aud", Value::Null, "audience"),
        ("iat", Value::Null, "times"),
        ("iat", json!(t - 3_600), "issue-time"),
        ("iat", json!(t + 3_600), "issue-time"),
        ("exp", json!(t - 60), "expiry"),
        ("exp", json!("soon"), "times"),
        ("exp", Value::Null, "times"),
        // Taken for missing, it would end every session of the person.
        ("sid", json!("s".repeat(2_049)), "sid"),
        ("sid", json!(7), "sid"),
        ("sid", json!(""), "sid"),
        ("sub", json!("s".repeat(2_049)), "sub"),
        ("events", Value::Null, "events"),
        ("events", json!({"http://schemas.openid.net/event/backchannel-logout": "x"}), "events"),
        ("events", json!(["http://schemas.openid.net/event/backchannel-logout"]), "events"),
        ("nonce", json!("n"), "nonce"),
        ("jti", Value::Null, "jti"),
        ("jti", json!(""), "jti"),
    ] {
        assert_eq!(logout(&header, &with(logout_claims(), name, value.clone())).unwrap_err(), check, "{name} = {value}");
    }
    let neither = with(with(logout_claims(), "sub", Value::Null), "sid", Value::Null);
    assert_eq!(logout(&header, &neither).unwrap_err(), "sub");
    for (header, check) in [
        (json!({"alg": "ES256", "kid": "k", "typ": "at+jwt"}), "type"),
        (json!({"alg": "none", "kid": "k"}), "algorithm"),
        (json!({"alg": "HS256", "kid": "k"}), "algorithm"),
        (json!({"alg": "ES256", "kid": "k", "crit": ["x"]}), "crit"),
        (json!({"alg": "ES256", "kid": "other"}), "key"),
    ] {
        assert_eq!(logout(&header, &logout_claims()).unwrap_err(), check, "{header}");
    }
    let (signer, other) = (Signer::ec("ES256"), Signer::ec("ES256"));
    let expected = ExpectedLogout { issuer: "https://p.example", client_id: "harbour", now: now(), skew: Duration::seconds(30) };
    let forged = validate_logout(&other.token(&header, &logout_claims()), &signer.keys("k"), &expected);
    assert_eq!(forged.unwrap_err().check, "signature");
}

fn referred(claims: &Value) -> Result<Map<String, Value>, &'static str> {
    let signer = Signer::ec("ES256");
    let expected = ExpectedClaims {
        issuer: "https://p.example",
        client_id: "harbour",
        subject: "pilot-7",
        now: now(),
        skew: Duration::seconds(30),
    };
    let token = signer.token(&json!({"alg": "ES256", "kid": "k"}), claims);
    validate_referred(&token, &signer.keys("k"), &expected, &["groups".to_owned()]).map_err(|e| e.check)
}

/// OpenID Connect Core 5.6.2.
#[test]
fn claims_by_reference_are_the_providers_about_this_person() {
    let t = now().timestamp();
    let claims = json!({
        "iss": "https://p.example", "sub": "pilot-7", "aud": "harbour", "exp": t + 60, "groups": ["a"], "email": "x@y.example",
    });
    let found = referred(&claims).unwrap();
    assert_eq!(Value::Object(found), json!({"groups": ["a"]}), "what was not referred to is not taken");
    for (name, value) in [("exp", Value::Null), ("aud", json!(["other", "harbour"]))] {
        assert!(referred(&with(claims.clone(), name, value)).is_ok(), "{name}");
    }
    for (name, value, check) in [
        ("iss", json!("https://other.example"), "issuer"),
        ("iss", Value::Null, "issuer"),
        // Without them it could be any token that the provider signs, of anybody.
        ("sub", Value::Null, "sub"),
        ("aud", Value::Null, "audience"),
        ("sub", json!("somebody"), "sub"),
        ("sub", json!(7), "sub"),
        ("aud", json!("other"), "audience"),
        ("exp", json!(t - 60), "expiry"),
        ("exp", json!("x"), "expiry"),
    ] {
        assert_eq!(referred(&with(claims.clone(), name, value.clone())).unwrap_err(), check, "{name} = {value}");
    }
}
