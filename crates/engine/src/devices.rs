//! Devices on which people sign in: what is kept of one ([`passeur_core::device`]), and what its certificate's authority says of it.
//!
//! An authority is asked where somebody shows a certificate that leads to it, and then at most once in [`ASKED_MINUTES`] a list, or a certificate.
//! Whoever shows anything else makes this node ask nobody.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use passeur_core::device::{ASKED_MINUTES, Device, Judged, Shown, Standing};
use passeur_core::evidence::Evidence;
use passeur_core::id::{hex, sha256, unhex};
use passeur_core::site::{DeviceCertificate, Site};
use passeur_core::text::shorten;
use passeur_core::x509;
use passeur_links::client_chain;
use passeur_links::revocation::{self, Says, Word};

use crate::Engine;

/// The most certificates of a chain that are kept, and their octets.
const CHAIN_MAX: usize = 4;
const CHAIN_OCTETS: usize = 12_000;
/// The longest that is kept of a name.
const NAME_MAX: usize = 200;

/// What another server tells of a certificate whose chain it verified.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Told {
    pub subject: String,
    /// The serial number, as it is encoded.
    pub serial: Vec<u8>,
    /// SHA-256 of the certificate.
    pub fingerprint: [u8; 32],
    /// SHA-256 of the certificate of its authority.
    pub issuer: [u8; 32],
}

/// The device that a browser runs on, with the certificate that it showed; none where no check of the site asks.
pub async fn of_browser(
    engine: &Engine,
    site: &Site,
    agent: &str,
    hint: impl Fn(&str) -> Option<String>,
    chain: &[Vec<u8>],
) -> Option<Device> {
    if site.device_checks.is_empty() {
        return None;
    }
    let mut device = Device::of_browser(engine.now(), agent, hint);
    device.certificate = shown(chain);
    judge(engine, site, &mut device).await;
    Some(device)
}

/// The device that a tunnel's client runs on, with the certificate that it proved to have to its server.
pub async fn of_client(engine: &Engine, site: &Site, mut device: Device, told: Told) -> Device {
    device.certificate = Some(Shown {
        subject: shorten(&told.subject, NAME_MAX),
        serial: hex(&told.serial),
        fingerprint: hex(&told.fingerprint),
        until: None,
        chain: vec![],
        issuer: Some(hex(&told.issuer)),
        judged: vec![],
    });
    judge(engine, site, &mut device).await;
    device
}

/// Asks again about the certificate of a device, where that is due. Whether anything is kept that was not.
pub async fn again(engine: &Engine, site: &Site, known: &mut Evidence) -> bool {
    match &mut known.device {
        Some(device) => renew(engine, site, device).await,
        None => false,
    }
}

/// The same of a device that is kept elsewhere.
pub async fn renew(engine: &Engine, site: &Site, device: &mut Device) -> bool {
    let due = engine.now() - chrono::Duration::minutes(ASKED_MINUTES);
    let Some(shown) = &device.certificate else { return false };
    let parts = || site.device_checks.iter().filter_map(|c| c.certificate.as_ref());
    // What is judged by no check of this edition may be by one of the next.
    let is_due = parts().any(|of| shown.held_against(of.digest()).is_none_or(|j| of.asks() && j.at <= due));
    if is_due {
        judge(engine, site, device).await;
    }
    is_due
}

/// A certificate as it is kept; none where none was shown, or one that names nobody.
fn shown(chain: &[Vec<u8>]) -> Option<Shown> {
    let own = chain.first()?;
    let dates = x509::read(own)?;
    let subject = x509::holder(own).map_or_else(|| x509::fingerprint(own), |h| h.subject);
    let mut octets = 0;
    let fits = |c: &&Vec<u8>| {
        octets += c.len();
        octets <= CHAIN_OCTETS
    };
    let chain: Vec<String> = chain.iter().take(CHAIN_MAX).take_while(fits).map(|c| STANDARD.encode(c)).collect();
    let serial = x509::serial(own)?;
    Some(Shown {
        subject: shorten(&subject, NAME_MAX),
        serial: hex(&serial),
        fingerprint: hex(&sha256(own)),
        until: Some(dates.not_after),
        chain,
        issuer: None,
        judged: vec![],
    })
}

/// Holds the certificate of a device against each kind that checks of the site ask for.
async fn judge(engine: &Engine, site: &Site, device: &mut Device) {
    let Some(shown) = &mut device.certificate else { return };
    let mut judged: Vec<Judged> = vec![];
    for of in site.device_checks.iter().filter_map(|c| c.certificate.as_ref()) {
        if judged.iter().any(|j| j.of == of.digest()) {
            continue;
        }
        let standing = stands(engine, of, shown).await;
        judged.push(Judged { of: of.digest().to_owned(), at: engine.now(), standing });
    }
    shown.judged = judged;
}

async fn stands(engine: &Engine, of: &DeviceCertificate, shown: &Shown) -> Standing {
    let bad = |why: &str| Standing::Bad { why: why.to_owned() };
    let authorities = || of.authorities.iter().map(Vec::as_slice);
    if let Some(issuer) = &shown.issuer {
        let Some(authority) = authorities().find(|a| hex(&sha256(a)) == *issuer) else {
            return bad("none of these authorities issued it");
        };
        return match unhex(&shown.serial) {
            Some(serial) => asked(engine, of, authority, &serial).await,
            None => bad("its serial number cannot be read"),
        };
    }
    let chain: Vec<Vec<u8>> = shown.chain.iter().filter_map(|c| STANDARD.decode(c).ok()).collect();
    if let Err(why) = client_chain::verify(&chain, &of.authorities, engine.now()) {
        return Standing::Bad { why };
    }
    let own = chain.first().map(Vec::as_slice).unwrap_or_default();
    let others = chain.iter().skip(1).map(Vec::as_slice);
    match revocation::issued_by(own, authorities().chain(others)) {
        Some((serial, authority)) => asked(engine, of, authority, &serial).await,
        None => bad("none of these authorities issued it"),
    }
}

/// Whether its authority took a certificate back.
async fn asked(engine: &Engine, of: &DeviceCertificate, authority: &[u8], serial: &[u8]) -> Standing {
    if !of.asks() {
        return Standing::Good;
    }
    let mut whys = vec![];
    if let Some(url) = &of.ocsp {
        match engine.authorities.answer(url, authority, serial, engine.now()).await {
            Ok(Word { says: Says::Good, .. }) => return Standing::Good,
            Ok(Word { says: Says::Revoked, .. }) => return Standing::Revoked,
            Err(why) => whys.push(format!("{url}: {why}")),
        }
    }
    let mut is_listed_nowhere = false;
    for url in &of.crl {
        match engine.authorities.list(url, authority, engine.now()).await.and_then(|list| list.says(serial)) {
            Ok(Says::Revoked) => return Standing::Revoked,
            Ok(Says::Good) => is_listed_nowhere = true,
            Err(why) => whys.push(format!("{url}: {why}")),
        }
    }
    match is_listed_nowhere {
        true => Standing::Good,
        false => Standing::Unsure { why: shorten(&whys.join("; "), 400) },
    }
}

/// Addresses of the site at which no list is, and those whose last answer about a certificate was none, each with its check and why.
pub async fn silent(engine: &Engine, site: &Site) -> Vec<(String, String, String)> {
    let mut out = vec![];
    for (check, of) in site.device_checks.iter().filter_map(|c| Some((&c.name, c.certificate.as_ref()?))) {
        for url in &of.crl {
            let mut silence = None;
            for authority in &of.authorities {
                // A list is of one authority.
                silence = engine.authorities.list(url, authority, engine.now()).await.err();
                if silence.is_none() {
                    break;
                }
            }
            out.extend(silence.map(|why| (check.clone(), url.clone(), why)));
        }
        if let Some(url) = &of.ocsp
            && let Some(why) = engine.authorities.last_silence(url).await
        {
            out.push((check.clone(), url.clone(), why));
        }
    }
    out
}
