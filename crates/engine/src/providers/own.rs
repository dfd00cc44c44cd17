//! What we are to SAML providers: our entity id, the key that signs for us, and the keys that open what is encrypted for us.

use std::collections::HashMap;
use std::sync::Mutex;

use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::signature::{RSA_PKCS1_SHA256, RsaKeyPair};
use passeur_core::site::{SamlParty, Site};
use passeur_core::x509;
use passeur_protocols::saml::encryption::Opener;
use passeur_protocols::saml::own::{Consumer, Party};
use passeur_protocols::saml::write::Signs;

use crate::random::random;

/// A private key of ours with its certificate.
pub struct OwnKey {
    pair: RsaKeyPair,
    pkcs8: Vec<u8>,
    certificate: Vec<u8>,
}

impl OwnKey {
    /// From a secret that holds both in PEM.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub fn read(text: &str) -> Result<OwnKey, String> {
        let (pkcs8, certificate) = x509::key_and_certificate(text)?;
        let pair = RsaKeyPair::from_pkcs8(&pkcs8).map_err(|_| "its private key is no RSA key of 2048 bits or more".to_owned())?;
        let key = OwnKey { pair, pkcs8, certificate };
        // A certificate of another key would be found out by nobody but the provider.
        let signed = key.sign(b"passeur").ok_or("its private key cannot sign")?;
        let public = x509::public_key(&key.certificate).ok_or("its certificate cannot be read")?;
        let verifier = aws_lc_rs::signature::UnparsedPublicKey::new(&aws_lc_rs::signature::RSA_PKCS1_2048_8192_SHA256, public);
        verifier.verify(b"passeur", &signed).map_err(|_| "its certificate is of another key".to_owned())?;
        Ok(key)
    }
}

impl Signs for OwnKey {
    fn algorithm(&self) -> &'static str {
        "http://www.w3.org/2001/04/xmldsig-more#rsa-sha256"
    }

    fn sign(&self, bytes: &[u8]) -> Option<Vec<u8>> {
        let mut out = vec![0; self.pair.public_modulus_len()];
        self.pair.sign(&RSA_PKCS1_SHA256, &SystemRandom::new(), bytes, &mut out).ok()?;
        Some(out)
    }

    fn certificate(&self) -> &[u8] {
        &self.certificate
    }
}

/// Makes a key pair and a certificate that it signs itself, good for `years`: PEM of both, one after the other. It is what a
/// provider's team compares; nobody checks who issued it.
///
/// # Errors
/// In words, where the library makes none.
pub fn make(name: &str, now: passeur_core::Moment, years: i64) -> Result<String, String> {
    let words = |e: rcgen::Error| e.to_string();
    let key = rcgen::KeyPair::generate_rsa_for(&rcgen::PKCS_RSA_SHA256, rcgen::RsaKeySize::_3072).map_err(words)?;
    let mut params = rcgen::CertificateParams::default();
    params.distinguished_name = rcgen::DistinguishedName::new();
    params.distinguished_name.push(rcgen::DnType::CommonName, name);
    let date = |at: passeur_core::Moment| {
        use chrono::Datelike;
        rcgen::date_time_ymd(at.year(), at.month() as u8, at.day() as u8)
    };
    params.not_before = date(now - chrono::Duration::days(1));
    params.not_after = date(now + chrono::Duration::days(365 * years));
    let certificate = params.self_signed(&key).map_err(words)?;
    Ok(key.serialize_pem() + &certificate.pem())
}

/// What we are to SAML providers, with our keys.
#[derive(Default)]
pub struct OwnSaml {
    pub entity_id: String,
    /// The one in use first, then every other that is kept.
    keys: Vec<OwnKey>,
    /// Whether the first of them is the one in use.
    signs: bool,
    pub opener: Opener,
    /// Why the key that the site file names cannot be used.
    pub trouble: Option<String>,
    /// Our metadata by provider, as it was signed last: whoever asks for it has proved nothing, and signing costs.
    signed: Mutex<HashMap<Option<String>, (passeur_core::Moment, String)>>,
}

/// For how long our metadata is handed out as it was signed, in seconds.
const SIGNED_FOR: i64 = 60;

impl OwnSaml {
    /// From every version of the secret that is kept, the one in use first.
    pub fn new(party: &SamlParty, versions: &[String]) -> OwnSaml {
        let (mut keys, mut trouble, mut signs) = (vec![], None, false);
        if let Some(name) = &party.key {
            if versions.is_empty() {
                trouble = Some(format!("the secret {name} is not stored"));
            }
            for (i, text) in versions.iter().enumerate() {
                match OwnKey::read(text) {
                    Ok(key) => {
                        signs |= i == 0;
                        keys.push(key);
                    }
                    Err(why) if i == 0 => trouble = Some(format!("the secret {name} cannot be used: {why}")),
                    Err(why) => tracing::warn!(why, secret = name, "an older version of our SAML key cannot be used"),
                }
            }
        }
        if let Some(why) = &trouble {
            tracing::error!(why, "SAML messages are not signed, and nothing encrypted is opened");
        }
        let opener = Opener::new(keys.iter().map(|k| k.pkcs8.as_slice()));
        OwnSaml { entity_id: party.entity_id.clone(), keys, signs, opener, trouble, signed: Mutex::default() }
    }

    /// What signs for us.
    pub fn signer(&self) -> Option<&dyn Signs> {
        self.keys.first().filter(|_| self.signs).map(|k| k as &dyn Signs)
    }

    /// Certificates of all our keys, in DER, the one in use first.
    pub fn certificates(&self) -> Vec<Vec<u8>> {
        self.keys.iter().map(|k| k.certificate.clone()).collect()
    }

    /// Our metadata, as one provider needs it or all of them; none where there is no such SAML provider.
    pub fn metadata(&self, site: &Site, now: passeur_core::Moment, provider: Option<&str>) -> Option<String> {
        let key = provider.map(str::to_owned);
        let kept = self.signed.lock().unwrap_or_else(|e| e.into_inner()).get(&key).cloned();
        if let Some((_, text)) = kept.filter(|(at, _)| now < *at + chrono::Duration::seconds(SIGNED_FOR)) {
            return Some(text);
        }
        let wanted = site.providers.iter().filter(|p| p.saml().is_some() && provider.is_none_or(|name| p.name == name));
        let consumers: Vec<Consumer<'_>> = wanted
            .map(|p| Consumer {
                answer: site.consumer_uri(&p.name),
                sign_out: site.saml_sign_out_uri(&p.name),
                name_id: p.saml().and_then(|s| s.name_id.as_deref()),
                title: &site.name,
                attributes: p.attributes.iter().map(|(_, name)| name.as_str()).collect(),
            })
            .collect();
        if provider.is_some() && consumers.is_empty() {
            return None;
        }
        let id = format!("_{}", passeur_core::id::hex(&random::<16>()));
        let party = Party {
            id: &id,
            entity_id: &self.entity_id,
            now,
            certificates: &self.certificates(),
            signs: self.signer().is_some(),
            consumers,
        };
        let text = party.xml(self.signer())?;
        // Names are those of the site's providers: there are no more of them than that.
        self.signed.lock().unwrap_or_else(|e| e.into_inner()).insert(key, (now, text.clone()));
        Some(text)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_key_is_used_only_with_a_certificate_of_its_own() {
        let now = chrono::DateTime::from_timestamp(1_800_000_000, 0).unwrap();
        let good = make("pass.example", now, 3).unwrap();
        assert!(OwnKey::read(&good).is_ok());
        let der = x509::certificate(&good).unwrap();
        assert_eq!(x509::read(&der).unwrap().not_after.format("%Y-%m-%d").to_string(), "2030-01-14");
        let other = make("pass.example", now, 3).unwrap();
        let (key, _) = good.split_once("-----BEGIN CERT").unwrap();
        let (_, certificate) = other.split_once("-----BEGIN CERT").unwrap();
        let mixed = format!("{key}-----BEGIN CERT{certificate}");
        assert_eq!(OwnKey::read(&mixed).err().as_deref(), Some("its certificate is of another key"));
        assert!(OwnKey::read("nonsense").is_err());
        let party = SamlParty { entity_id: "e".into(), key: Some("saml-key".into()) };
        let own = OwnSaml::new(&party, &[good.clone(), "nonsense".into()]);
        assert!(own.signer().is_some() && own.trouble.is_none() && own.certificates().len() == 1);
        let own = OwnSaml::new(&party, &["nonsense".into(), good]);
        assert!(own.signer().is_none() && own.trouble.is_some() && own.certificates().len() == 1, "it opens, and does not sign");
    }
}
