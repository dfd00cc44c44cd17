//! A trial of a SAML provider.

use passeur_api::{CheckVerdict, ProviderTrial};
use passeur_core::id::hex;
use passeur_core::site::{Provider, SamlSource, SamlTrust, Site, Speaks, check_endpoint};
use passeur_core::x509;
use passeur_engine::providers::saml::{MetadataError, SamlLink};
use passeur_engine::random::random;
use passeur_protocols::saml::binding::{Message, redirect};
use passeur_protocols::saml::metadata::{self, BadMetadata};
use passeur_protocols::saml::request::Request;

use super::{Checks, Lacking, Seen, clock, in_place, unheard_of};
use crate::app::App;

/// The provider to try: the live edition's, with the request's values in place of it.
fn provider_of(site: &Site, ask: &ProviderTrial) -> Result<(Provider, SamlTrust), Lacking> {
    let mut provider = match (site.provider(&ask.name), &ask.issuer, &ask.metadata) {
        (Some(p), _, _) => p.clone(),
        (None, Some(issuer), Some(address)) => {
            let source = SamlSource::Metadata { address: address.clone(), signers: vec![] };
            let speaks = Speaks::Saml(SamlTrust {
                source,
                binding: None,
                sign_requests: site.saml.key.is_some(),
                require_encrypted: false,
                name_id: None,
                subject: None,
            });
            unheard_of(&ask.name, issuer, speaks)
        }
        _ => return Err(Lacking(format!("provider {} is not there: give issuer and metadata", ask.name))),
    };
    let mut trust = provider.saml().cloned().ok_or_else(|| Lacking(format!("provider {} speaks OpenID Connect", ask.name)))?;
    in_place(&mut provider, ask);
    if let Some(address) = &ask.metadata {
        let signers = match trust.source {
            SamlSource::Metadata { signers, .. } => signers,
            SamlSource::ByHand(_) => vec![],
        };
        trust.source = SamlSource::Metadata { address: address.clone(), signers };
    }
    Ok((provider, trust))
}

/// Tries a SAML provider.
pub async fn provider(app: &App, site: &Site, ask: &ProviderTrial) -> Result<Seen, Lacking> {
    let (provider, trust) = provider_of(site, ask)?;
    let link = SamlLink::new(provider, trust, app.own_saml(), app.clock.clone(), None);
    let mut c = Checks(vec![]);
    let mut seen = Seen { answer: Checks(vec![]).answer(), certificate: None, signing: vec![] };
    let party = match &link.trust.source {
        SamlSource::Metadata { address, signers } => fetched(app, &link, address, signers, &mut seen, &mut c).await,
        SamlSource::ByHand(_) => link.party().await.ok().map(|found| found.known.party.clone()),
    };
    if let Some(party) = party {
        seen.signing = party.certificates.clone();
        certificates(app, &party, &mut c);
        own_key(app, &link, &party, &mut c);
        sign_on(app, site, &link, &party, &mut c).await;
    }
    seen.answer = c.answer();
    Ok(seen)
}

async fn fetched(
    app: &App,
    link: &SamlLink,
    address: &str,
    signers: &[Vec<u8>],
    seen: &mut Seen,
    c: &mut Checks,
) -> Option<metadata::Provider> {
    if let Err(what) = check_endpoint(address) {
        c.wrong("address", format!("{address} {what}"), "Write the https address that the provider's team gives.");
        return None;
    }
    let answer = c.reached(address, link.get(address).await)?;
    seen.certificate = answer.certificate.clone();
    if answer.status != 200 {
        let words = format!("{address} answers with status {}", answer.status);
        c.wrong("address", words, "Ask the provider's team for the address of its metadata; it is XML.");
        return None;
    }
    c.good("address", format!("{address} answers in {} ms", answer.millis));
    clock(app, &answer.headers, link.provider.skew, c);
    match link.parse(answer.body, signers, app.now()).await {
        Ok(party) => {
            c.good("issuer", format!("the metadata is of {}", party.entity_id));
            if !signers.is_empty() {
                c.good("metadata", "it is signed by a certificate of metadata-signed-by");
            }
            Some(party)
        }
        Err(e) => {
            let (value, remedy) = match &e {
                MetadataError::Bad(BadMetadata::Other { .. }) => {
                    ("issuer", "Write the issuer exactly as the metadata names it (entityID); slashes and case count.")
                }
                MetadataError::Bad(BadMetadata::Signature(_)) => (
                    "metadata",
                    "Compare the fingerprint of the signing certificate with the provider's team; then change metadata-signed-by.",
                ),
                MetadataError::Bad(BadMetadata::TooLate(_)) => {
                    ("metadata", "The provider's team must publish it anew; or this host's clock is wrong.")
                }
                _ => ("metadata", "Ask the provider's team for the metadata of its SAML 2.0 identity provider."),
            };
            c.wrong(value, e.to_string(), remedy);
            None
        }
    }
}

/// What the provider signs with. Its dates decide nothing at a sign-in, so that they are told here.
pub(super) fn certificates(app: &App, party: &metadata::Provider, c: &mut Checks) {
    for der in &party.certificates {
        let print = x509::fingerprint(der);
        match x509::read(der) {
            Some(read) if read.not_after <= app.now() => {
                let words = format!("{print} ran out on {}; its signatures still count", read.not_after.format("%Y-%m-%d"));
                c.wrong("certificate", words, "Ask the provider's team when the next one comes; take it over from its metadata.");
            }
            Some(read) => c.good("certificate", format!("{print}, good until {}", read.not_after.format("%Y-%m-%d"))),
            None => {
                c.wrong("certificate", format!("{print} cannot be read"), "Ask the provider's team for its signing certificate.")
            }
        }
    }
}

fn own_key(app: &App, link: &SamlLink, party: &metadata::Provider, c: &mut Checks) {
    let own = app.own_saml();
    match (&own.trouble, own.signer()) {
        (Some(why), _) => {
            c.wrong("our key", why.clone(), "Make one with `passeur secret make-key`, or store it with `passeur secret set`.")
        }
        (None, Some(s)) => c.good("our key", format!("requests are signed with {}", x509::fingerprint(s.certificate()))),
        (None, None) if party.wants_signed || link.trust.sign_requests => {
            c.wrong(
                "our key",
                "the provider wants signed requests, and there is no key of ours",
                "Add [saml] with key = \"name\", and make it with `passeur secret make-key`.",
            );
        }
        (None, None) => c.good("our key", "none; the provider does not ask for signed requests"),
    }
}

/// A request that nobody may be shown anything for: a provider that knows us can only send an error back, by a form to our consumer
/// address.
async fn sign_on(app: &App, site: &Site, link: &SamlLink, party: &metadata::Provider, c: &mut Checks) {
    let Some(endpoint) = link.choose(&party.sign_on) else { return };
    let unknown = "sign in once to see whether it knows our entity id and consumer address";
    if !endpoint.is_redirect() {
        c.add("consumer address", CheckVerdict::NotKnown, format!("{} takes forms alone; {unknown}", endpoint.location), None);
        return;
    }
    let own = app.own_saml();
    let consumer = site.consumer_uri(&link.provider.name);
    let id = format!("_{}", hex(&random::<16>()));
    let request = Request {
        id: &id,
        destination: &endpoint.location,
        consumer: &consumer,
        issuer: &own.entity_id,
        now: app.now(),
        anew: false,
        passive: true,
        contexts: &[],
        format: None,
    };
    let signer = own.signer().filter(|_| link.trust.sign_requests || party.wants_signed);
    let Some(address) = redirect(&endpoint.location, Message::Request, &request.xml(), Some("trial"), signer) else { return };
    match link.get(&address).await {
        Ok(a) if a.status >= 400 => {
            let words = format!("the provider answers with status {} instead of sending back to {consumer}", a.status);
            c.wrong(
                "consumer address",
                words,
                "Have entity id, consumer address and certificate entered exactly as `passeur handover` lists them.",
            );
        }
        Ok(a) => {
            let body = String::from_utf8_lossy(&a.body);
            if body.contains("SAMLResponse") && body.contains(consumer.as_str()) {
                c.good("consumer address", format!("the provider knows us and sends to {consumer}"));
            } else {
                c.add(
                    "consumer address",
                    CheckVerdict::NotKnown,
                    format!("the provider shows a page of its own; {unknown}"),
                    None,
                );
            }
        }
        Err(e) => c.wrong(
            "sign-on address",
            format!("{}: {e}", endpoint.location),
            "Check host name and port; people's browsers go there.",
        ),
    }
}
