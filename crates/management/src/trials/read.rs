//! A provider from what it says of itself: one address, or a file, becomes its part of the site file.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use chrono::Duration;
use passeur_api::{ProviderKind, ProviderPart, ReadProvider};
use passeur_core::site::{SamlParty, check_endpoint};
use passeur_core::x509;
use passeur_engine::providers::HTTP_LIMIT;
use passeur_links::http::{Answer, Client};
use passeur_protocols::oidc::discovery_url;
use passeur_protocols::saml::metadata;
use serde_json::Value;
use url::Url;

use super::{Checks, Lacking, clock};
use crate::app::App;

/// The largest document read.
const DOCUMENT_MAX: usize = passeur_protocols::saml::xml::SIZE_MAX;

/// Reads a provider. `party` is what we are to SAML providers.
pub async fn provider(app: &App, party: Option<&SamlParty>, ask: &ReadProvider) -> Result<ProviderPart, Lacking> {
    let mut c = Checks(vec![]);
    let (text, address) = match (&ask.text, &ask.address) {
        (Some(text), None) => (text.clone(), None),
        (None, Some(address)) => {
            let (text, address) = fetch(app, address, ask.ca_file.as_deref(), &mut c).await?;
            (text, Some(address))
        }
        _ => return Err(Lacking("give one of address and text".into())),
    };
    match text.trim_start_matches('\u{feff}').trim_start().starts_with('<') {
        true => saml(app, party, ask, text.trim_start_matches('\u{feff}'), address, c),
        false => oidc(ask, &text, address.as_deref(), c),
    }
}

/// The document at an address; of an issuer its discovery document.
async fn fetch(app: &App, address: &str, ca_file: Option<&str>, c: &mut Checks) -> Result<(String, String), Lacking> {
    check_endpoint(address).map_err(|what| Lacking(format!("{address} {what}")))?;
    let get = async |address: &str| -> Result<Answer, Lacking> {
        let client = Client::new(ca_file, HTTP_LIMIT).map_err(|e| Lacking(e.to_string()))?;
        client.get(address, None, DOCUMENT_MAX).await.map_err(|e| Lacking(format!("{address}: {e}")))
    };
    let is_document = |a: &Answer| {
        let start = String::from_utf8_lossy(&a.body).trim_start().chars().take(200).collect::<String>();
        a.status == 200 && (start.starts_with('{') || (start.starts_with('<') && !start.to_ascii_lowercase().contains("<html")))
    };
    let mut found = (get(address).await?, address.to_owned());
    if !is_document(&found.0) {
        let discovery = discovery_url(address);
        found = (get(&discovery).await?, discovery);
    }
    let (answer, at) = found;
    if !is_document(&answer) {
        let words = "neither SAML metadata nor an OpenID Connect discovery document is there";
        return Err(Lacking(format!("{address} answers with status {}: {words}", answer.status)));
    }
    c.good("address", format!("{at} answers in {} ms", answer.millis));
    clock(app, &answer.headers, Duration::seconds(30), c);
    let text = String::from_utf8(answer.body).map_err(|_| Lacking(format!("{at} is no text in UTF-8")))?;
    Ok((text, at))
}

/// A name for the site file from how a provider names itself.
fn name_of(issuer: &str) -> String {
    let host = Url::parse(issuer).ok().and_then(|u| u.host_str().map(str::to_owned));
    let text = host.unwrap_or_else(|| issuer.rsplit([':', '/']).next().unwrap_or_default().to_owned());
    let label = text.split('.').find(|l| !matches!(*l, "www" | "idp" | "sso" | "login" | "auth" | "accounts")).unwrap_or(&text);
    let plain: String =
        label.to_ascii_lowercase().chars().map(|ch| if ch.is_ascii_alphanumeric() { ch } else { '-' }).take(40).collect();
    let plain = plain.trim_matches('-').to_owned();
    if plain.is_empty() { "provider".to_owned() } else { plain }
}

fn quoted(text: &str) -> String {
    toml::Value::String(text.to_owned()).to_string()
}

fn list(texts: &[String]) -> String {
    format!("[{}]", texts.iter().map(|t| quoted(t)).collect::<Vec<_>>().join(", "))
}

fn saml(
    app: &App,
    party: Option<&SamlParty>,
    ask: &ReadProvider,
    text: &str,
    address: Option<String>,
    mut c: Checks,
) -> Result<ProviderPart, Lacking> {
    let read = metadata::read(text, None, None, app.now()).map_err(|e| Lacking(format!("the metadata cannot be used: {e}")))?;
    let name = ask.name.clone().unwrap_or_else(|| name_of(&read.entity_id));
    c.good("issuer", format!("the metadata is of {}", read.entity_id));
    super::saml::certificates(app, &read, &mut c);
    let mut part = format!("[[provider]]\nname = {}\nkind = \"saml\"\nissuer = {}\n", quoted(&name), quoted(&read.entity_id));
    match &address {
        Some(address) => part += &format!("metadata = {}\n", quoted(address)),
        None => {
            let by_redirect = read.sign_on.iter().find(|e| e.is_redirect());
            let Some(sign_on) = by_redirect.or_else(|| read.sign_on.first()) else {
                return Err(Lacking("the metadata names no address to sign in at".into()));
            };
            part += &format!("sign-on = {}\n", quoted(&sign_on.location));
            if by_redirect.is_none() {
                part += "binding = \"post\"\n";
            }
            // The binding counts for both addresses.
            let same = read.sign_out.iter().find(|e| e.is_redirect() == by_redirect.is_some());
            part += &same.map(|e| format!("sign-out = {}\n", quoted(&e.location))).unwrap_or_default();
            part +=
                &format!("certificates = {}\n", list(&read.certificates.iter().map(|d| STANDARD.encode(d)).collect::<Vec<_>>()));
        }
    }
    if let Some(ca) = &ask.ca_file {
        part += &format!("ca-file = {}\n", quoted(ca));
    }
    if read.wants_signed && party.is_none_or(|p| p.key.is_none()) {
        let words = "the provider wants signed requests, and the site has no key to sign with";
        c.wrong("our key", words, "Add [saml] with key = \"saml-key\", and make it with `passeur secret make-key saml-key`.");
    }
    for der in &read.certificates {
        let until = x509::read(der).map(|r| r.not_after.format("%Y-%m-%d").to_string()).unwrap_or_default();
        part += &format!("# It signs with {}, good until {until}.\n", x509::fingerprint(der));
    }
    part += "\n# Attributes of ours, and those of the assertion that feed them: a trial sign-in shows what it holds.\n[provider.attributes]\n";
    Ok(ProviderPart { name, kind: ProviderKind::Saml, issuer: read.entity_id, part, checks: c.answer().checks })
}

fn oidc(ask: &ReadProvider, text: &str, address: Option<&str>, mut c: Checks) -> Result<ProviderPart, Lacking> {
    let document: Value = serde_json::from_str(text).map_err(|_| Lacking("it is neither XML nor JSON".into()))?;
    let issuer = document.get("issuer").and_then(Value::as_str).ok_or_else(|| Lacking("the document names no issuer".into()))?;
    if let Err(e) = passeur_protocols::oidc::Metadata::parse(text.as_bytes(), issuer) {
        return Err(Lacking(format!("the discovery document cannot be used: {e}")));
    }
    match address {
        Some(at) if at == discovery_url(issuer) => c.good("issuer", format!("the document names issuer {issuer}")),
        _ => {
            let words = format!("the document names issuer {issuer}, whose own document is at {}", discovery_url(issuer));
            c.wrong("issuer", words, "Ask the provider's team which of the two is right; it is compared to the letter.");
        }
    }
    let name = ask.name.clone().unwrap_or_else(|| name_of(issuer));
    let mut part = format!(
        "[[provider]]\nname = {}\nkind = \"oidc\"\nissuer = {}\nclient = \"\" # the client id that the provider's team gives\nsecret = {} # store it: passeur secret set {name}-client\n",
        quoted(&name),
        quoted(issuer),
        quoted(&format!("{name}-client")),
    );
    if let Some(ca) = &ask.ca_file {
        part += &format!("ca-file = {}\n", quoted(ca));
    }
    part += "\n[provider.attributes]\nuser = \"preferred_username\"\nname = \"name\"\nmail = \"email\"\n";
    Ok(ProviderPart { name, kind: ProviderKind::Oidc, issuer: issuer.to_owned(), part, checks: c.answer().checks })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_comes_from_how_a_provider_names_itself() {
        for (issuer, name) in [
            ("https://idp.customs.example/saml", "customs"),
            ("https://customs.example:8443", "customs"),
            ("urn:example:Customs Office", "customs-office"),
            ("https://127.0.0.1/", "127"),
            ("https://idp", "idp"),
            ("::", "provider"),
        ] {
            assert_eq!(name_of(issuer), name, "{issuer}");
        }
        assert_eq!(quoted("a\"b\\"), "'a\"b\\'");
    }
}
