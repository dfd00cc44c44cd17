//! Reading of `site::device` from a document.

use std::sync::Arc;

use super::fields::Fields;
use super::gate::name_of;
use super::provider::certificates;
use super::reach::bounded;
use crate::device::Program;
use crate::route::device::Platform;
use crate::site::{DeviceCertificate, DeviceCheck, Unreachable, Version};

/// The most checks of a site, and lists of one.
const CHECKS_MAX: usize = 100;
const LISTS_MAX: usize = 5;

/// Reads `[[device-check]]`.
pub(crate) fn read(root: &Fields<'_, '_>) -> Vec<Arc<DeviceCheck>> {
    let mut taken = vec![];
    let mut out = vec![];
    for f in bounded(root, "device-check", CHECKS_MAX) {
        let name = name_of(&f, &taken);
        taken.push(name.clone());
        let title = f.text("title").unwrap_or_else(|| name.clone());
        let certificate = read_certificate(&f);
        let platform = |word: &str| Platform::of_word(word).filter(|p| *p != Platform::Other);
        let systems = read_versions(&f, "systems", platform, "windows, macos, linux, android, ios, chromeos");
        let browser = |word: &str| Program::WORDS.into_iter().find(|(w, _)| *w == word).map(|(_, p)| p);
        let mut programs = read_versions(&f, "browsers", browser, "chrome, edge, firefox, safari, other");
        if let Some(text) = f.text("client") {
            programs.push((Program::Client, version(&f, "client", &text)));
        }
        if certificate.is_none() && systems.is_empty() && programs.is_empty() && !f.has("certificate") {
            f.error(
                "name",
                "the check asks for nothing, so that no device passes".into(),
                "Add [device-check.certificate] with authorities, or systems, browsers or client.",
            );
        }
        f.finish();
        out.push(Arc::new(DeviceCheck { name, title, certificate, systems, programs }));
    }
    out
}

fn read_certificate(f: &Fields<'_, '_>) -> Option<DeviceCertificate> {
    let c = f.table("certificate")?;
    let authorities = certificates(&c, "authorities");
    if authorities.is_empty() {
        c.error("authorities", "authorities is missing".into(), "Paste the certificates of those who issue them.");
    }
    let mut crl = c.text_or_texts("crl").unwrap_or_default();
    let ocsp = c.text("ocsp");
    if crl.len() > LISTS_MAX {
        c.error("crl", format!("there are {} lists", crl.len()), format!("Use at most {LISTS_MAX}."));
        crl.truncate(LISTS_MAX);
    }
    for (key, url) in crl.iter().map(|u| ("crl", u)).chain(ocsp.iter().map(|u| ("ocsp", u))) {
        // What is fetched there is signed (RFC 5280 section 8): https would ask for a certificate to ask about certificates.
        let is_good = url::Url::parse(url).is_ok_and(|u| crate::guard::check_signed_url(&u).is_ok());
        if !is_good {
            c.error(
                key,
                format!("\"{url}\" is no address to ask"),
                "Write it as \"http://pki.example/devices.crl\": what is fetched is signed.",
            );
        }
    }
    let unreachable = [("refuse", Unreachable::Refuse), ("accept", Unreachable::Accept)];
    let unreachable = c.choice("when-unreachable", Unreachable::Refuse, &unreachable);
    let out = DeviceCertificate::new(authorities, (crl, ocsp), unreachable);
    if c.has("when-unreachable") && !out.asks() {
        c.warn(
            "when-unreachable",
            "nobody is asked whether a certificate was revoked".into(),
            "Add crl or ocsp, or take the line away.",
        );
    }
    if !out.asks() && !out.authorities.is_empty() {
        c.warn(
            "authorities",
            "nobody is asked whether a certificate was revoked: a lost device passes until it runs out".into(),
            "Add crl = \"http://…\" or ocsp = \"http://…\" as the authority gives them.",
        );
    }
    c.finish();
    Some(out)
}

/// A table of names with the least version of each, or `any`.
fn read_versions<T: Copy>(
    f: &Fields<'_, '_>,
    key: &'static str,
    known: impl Fn(&str) -> Option<T>,
    all: &str,
) -> Vec<(T, Option<Version>)> {
    let mut out = vec![];
    for (name, text, _) in f.pairs(key) {
        match known(&name) {
            Some(one) => out.push((one, version(f, key, &text))),
            None => f.error(key, format!("nothing is known of \"{name}\""), format!("There are: {all}.")),
        }
    }
    out
}

fn version(f: &Fields<'_, '_>, key: &'static str, text: &str) -> Option<Version> {
    if text == "any" {
        return None;
    }
    let read = Version::parse(text);
    if read.is_none() {
        f.error(key, format!("\"{text}\" is no version"), "Write the oldest that will do, such as \"14.2\", or \"any\".");
    }
    read
}
