//! Why an answer was not believed, as a step: one for each reason, with what was seen, what was wanted, and its own remedy.

use passeur_core::step;
use passeur_core::step::Step;
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
        BadResponse::NotAResponse => step!(SamlNoAnswer { what: "another document than a SAML 2.0 Response" }),
        BadResponse::Refused { status, detail } => {
            let last = |s: &str| s.rsplit(':').next().unwrap_or_default().to_owned();
            let words = if detail.is_empty() { String::new() } else { detail.replace("urn:oasis:names:tc:SAML:2.0:status:", "") };
            step!(ProviderRefused { provider, error: last(status), description: words })
        }
        BadResponse::Destination(seen) => step!(SamlDestination { seen: seen.as_str(), wanted: expected.consumer }),
        BadResponse::Request(seen) => {
            step!(SamlInResponseTo { seen: seen.as_str(), wanted: expected.request.unwrap_or("nothing") })
        }
        BadResponse::Issuer(seen) => step!(SamlIssuer { seen: seen.as_str(), wanted: expected.issuer }),
        BadResponse::Audience(seen) => step!(SamlAudience { seen: seen.as_str(), wanted: expected.audience }),
        BadResponse::Assertions(n) => step!(SamlShape { how: format!("it holds {n} assertions where one is wanted") }),
        BadResponse::Place => step!(SamlShape { how: "its assertion stands where none should" }),
        BadResponse::NotSigned => step!(SamlNotSigned),
        BadResponse::Condition(seen) => step!(SamlCondition { seen: seen.as_str() }),
        BadResponse::Subject(how) => step!(SamlSubject { how: how.as_str(), wanted: expected.consumer }),
        BadResponse::NotYet(from) => step!(SamlNotYet { from: from.as_str(), now: now() }),
        BadResponse::TooLate(until) => step!(SamlTooLate { until: until.as_str(), now: now() }),
        BadResponse::NotAuthenticated => step!(SamlNotAuthenticated),
        BadResponse::NotEncrypted => step!(SamlNotEncrypted),
        BadResponse::NotOpened(NotOpened::Algorithm(seen)) => step!(SamlAlgorithm { seen: seen.as_str() }),
        BadResponse::NotOpened(NotOpened::Xml(e)) => unreadable(e),
        BadResponse::NotOpened(NotOpened::Closed) => step!(SamlNotOpened),
    }
}

fn unreadable(e: &BadXml) -> Step {
    let how = e.to_string();
    match e {
        // Constructs that no provider writes and that two readers see differently.
        BadXml::DocumentType
        | BadXml::Comment
        | BadXml::Instruction
        | BadXml::SameId(_)
        | BadXml::ForeignId
        | BadXml::NotText(_) => step!(SamlShape { how }),
        BadXml::TooLarge
        | BadXml::TooMany
        | BadXml::TooManyAttributes
        | BadXml::TooManyNamespaces
        | BadXml::TooDeep
        | BadXml::Several(_)
        | BadXml::Missing(_)
        | BadXml::Malformed(_) => step!(SamlUnreadable { how }),
    }
}

fn signature(e: &BadSignature, certificates: &[Vec<u8>]) -> Step {
    match e {
        BadSignature::NotSigned => step!(SamlNotSigned),
        BadSignature::Place(_) | BadSignature::Reference(_) => step!(SamlShape { how: e.to_string() }),
        BadSignature::Algorithm(seen) => step!(SamlAlgorithm { seen: seen.as_str() }),
        BadSignature::Keys(_) | BadSignature::Wrong(_) => {
            let known: Vec<String> = certificates.iter().map(|c| fingerprint(c)).collect();
            step!(SamlSignature { how: e.to_string(), certificates: known })
        }
        BadSignature::Xml(e) => unreadable(e),
    }
}
