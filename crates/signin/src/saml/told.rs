//! Why an answer was not believed, as a step: one for each reason, with what was seen, what was wanted, and its own remedy.

use passeur_core::step::{Step, StepCode as C};
use passeur_core::x509::fingerprint;
use passeur_protocols::saml::encryption::NotOpened;
use passeur_protocols::saml::response::{BadResponse, Expected};
use passeur_protocols::saml::signature::BadSignature;
use passeur_protocols::saml::xml::BadXml;

/// The step for a refusal.
pub fn step(e: &BadResponse, expected: &Expected<'_>, provider: &str) -> Step {
    let now = || expected.now.format("%Y-%m-%dT%H:%M:%SZ").to_string();
    match e {
        BadResponse::Xml(e) => unreadable(e),
        BadResponse::Signature(e) => signature(e, expected.certificates),
        BadResponse::NotAResponse => Step::new(C::SamlNoAnswer).with("what", "another document than a SAML 2.0 Response"),
        BadResponse::Refused { status, detail } => {
            let last = |s: &str| s.rsplit(':').next().unwrap_or_default().to_owned();
            let words = if detail.is_empty() { String::new() } else { detail.replace("urn:oasis:names:tc:SAML:2.0:status:", "") };
            Step::new(C::ProviderRefused).with("provider", provider).with("error", last(status)).with("description", words)
        }
        BadResponse::Destination(seen) => two(C::SamlDestination, seen, expected.consumer),
        BadResponse::Request(seen) => two(C::SamlInResponseTo, seen, expected.request.unwrap_or("nothing")),
        BadResponse::Issuer(seen) => two(C::SamlIssuer, seen, expected.issuer),
        BadResponse::Audience(seen) => two(C::SamlAudience, seen, expected.audience),
        BadResponse::Assertions(n) => Step::new(C::SamlShape).with("how", format!("it holds {n} assertions where one is wanted")),
        BadResponse::Place => Step::new(C::SamlShape).with("how", "its assertion stands where none should"),
        BadResponse::NotSigned => Step::new(C::SamlNotSigned),
        BadResponse::Condition(seen) => Step::new(C::SamlCondition).with("seen", seen.as_str()),
        BadResponse::Subject(how) => Step::new(C::SamlSubject).with("how", how.as_str()).with("wanted", expected.consumer),
        BadResponse::NotYet(from) => Step::new(C::SamlNotYet).with("from", from.as_str()).with("now", now()),
        BadResponse::TooLate(until) => Step::new(C::SamlTooLate).with("until", until.as_str()).with("now", now()),
        BadResponse::NotAuthenticated => Step::new(C::SamlNotAuthenticated),
        BadResponse::NotEncrypted => Step::new(C::SamlNotEncrypted),
        BadResponse::NotOpened(NotOpened::Algorithm(seen)) => Step::new(C::SamlAlgorithm).with("seen", seen.as_str()),
        BadResponse::NotOpened(NotOpened::Xml(e)) => unreadable(e),
        BadResponse::NotOpened(NotOpened::Closed) => Step::new(C::SamlNotOpened),
    }
}

fn two(code: C, seen: &str, wanted: &str) -> Step {
    Step::new(code).with("seen", seen).with("wanted", wanted)
}

fn unreadable(e: &BadXml) -> Step {
    let code = match e {
        // Constructs that no provider writes and that two readers see differently.
        BadXml::DocumentType
        | BadXml::Comment
        | BadXml::Instruction
        | BadXml::SameId(_)
        | BadXml::ForeignId
        | BadXml::NotText(_) => C::SamlShape,
        BadXml::TooLarge
        | BadXml::TooMany
        | BadXml::TooManyAttributes
        | BadXml::TooManyNamespaces
        | BadXml::TooDeep
        | BadXml::Several(_)
        | BadXml::Missing(_)
        | BadXml::Malformed(_) => C::SamlUnreadable,
    };
    Step::new(code).with("how", e.to_string())
}

fn signature(e: &BadSignature, certificates: &[Vec<u8>]) -> Step {
    match e {
        BadSignature::NotSigned => Step::new(C::SamlNotSigned),
        BadSignature::Place(_) | BadSignature::Reference(_) => Step::new(C::SamlShape).with("how", e.to_string()),
        BadSignature::Algorithm(seen) => Step::new(C::SamlAlgorithm).with("seen", seen.as_str()),
        BadSignature::Keys(_) | BadSignature::Wrong(_) => {
            let known: Vec<String> = certificates.iter().map(|c| fingerprint(c)).collect();
            Step::new(C::SamlSignature).with("how", e.to_string()).with("certificates", known)
        }
        BadSignature::Xml(e) => unreadable(e),
    }
}
