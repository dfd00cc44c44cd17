//! A trial of an OpenID Connect provider.

use passeur_api::{CheckVerdict, ProviderTrial};
use passeur_core::site::{ClientAuthentication, OidcClient, Provider, Site, Speaks, check_issuer};
use passeur_engine::providers::oidc::{ExchangeError, OidcLink};
use passeur_engine::random::random;
use passeur_protocols::oidc::{AuthorizationRequest, Binding, KeySet, Metadata, Pkce, discovery_url};

use super::{Checks, Lacking, Seen, Stored, Under, clock, in_place, unheard_of};
use crate::app::App;

/// The provider to try: the live edition's, with the request's values in place of it.
fn provider_of(site: &Site, ask: &ProviderTrial) -> Result<(Provider, OidcClient), Lacking> {
    let mut provider = match (site.provider(&ask.name), &ask.issuer, &ask.client_id) {
        (Some(p), _, _) => p.clone(),
        (None, Some(issuer), Some(client)) => {
            let scopes = vec!["openid".into()];
            let speaks = Speaks::Oidc(OidcClient {
                id: client.clone(),
                secret: None,
                authentication: ClientAuthentication::default(),
                scopes,
                form_post: false,
            });
            unheard_of(&ask.name, issuer, speaks)
        }
        _ => {
            return Err(Lacking(format!("there is no provider {}: give issuer and client", ask.name)));
        }
    };
    in_place(&mut provider, ask);
    let mut client = provider.oidc().cloned().ok_or_else(|| Lacking(format!("provider {} speaks SAML", ask.name)))?;
    if let Some(id) = &ask.client_id {
        client.id = id.clone();
    }
    Ok((provider, client))
}

/// Tries an OpenID Connect provider.
pub async fn provider(app: &App, under: Under<'_>, ask: &ProviderTrial) -> Result<Seen, Lacking> {
    let site = under.site;
    let (provider, client) = provider_of(site, ask)?;
    let mut c = Checks(vec![]);
    if let Err(what) = check_issuer(&provider.issuer) {
        c.wrong(
            "issuer",
            format!("{} {what}", provider.issuer),
            "Copy the issuer from the provider's discovery document, to the letter.",
        );
        return Ok(Seen { answer: c.answer(), certificate: None, signing: vec![] });
    }
    let same = |live: &Provider| live.issuer == provider.issuer && live.secret() == client.secret.as_deref();
    let same = under.live.and_then(|l| l.provider(&ask.name)).is_some_and(same);
    let mut without = None;
    let stored = match (&ask.secret, &client.secret) {
        (Some(s), _) => Some(s.clone()),
        (None, None) => None,
        (None, Some(name)) => match under.stored(app, name, ask.secret_version, same).await {
            Stored::Value(v) => Some(v),
            Stored::Withheld if !under.is_document() => {
                return Err(Lacking("another issuer needs its own secret: give it with the trial".into()));
            }
            Stored::Withheld => {
                without = Some((
                    CheckVerdict::NotKnown,
                    format!(
                        "secret {name} goes to {} only for whoever stored it, so that the client was not tried",
                        provider.issuer
                    ),
                ));
                None
            }
            Stored::Nowhere => {
                without = Some((CheckVerdict::Wrong, format!("secret {name} is not stored, so that nobody can sign in")));
                None
            }
        },
    };
    let link = OidcLink::new(provider.clone(), client.clone(), stored.into_iter().collect(), app.clock.clone());
    let mut certificate = None;
    if let Some(metadata) = discover(app, &link, &mut certificate, &mut c).await {
        keys(&link, &metadata, &mut c).await;
        match without {
            None => known_client(site, &link, &metadata, &mut c).await,
            Some((CheckVerdict::Wrong, words)) => c.wrong("client", words, "Store it: passeur secret set NAME"),
            Some((verdict, words)) => {
                c.add("client", verdict, words, Some("Give the secret with the trial, or store it yourself."))
            }
        }
        redirect_address(site, &link, &metadata, &mut c).await;
    }
    Ok(Seen { answer: c.answer(), certificate, signing: vec![] })
}

async fn discover(app: &App, link: &OidcLink, certificate: &mut Option<Vec<u8>>, c: &mut Checks) -> Option<Metadata> {
    let url = discovery_url(&link.provider.issuer);
    let answer = c.reached(&url, link.get(&url).await)?;
    *certificate = answer.certificate;
    if answer.status != 200 {
        c.wrong(
            "issuer",
            format!("{url} answers with status {}", answer.status),
            "The issuer's path is probably wrong: a discovery document is wanted there.",
        );
        return None;
    }
    c.good("address", format!("{url} answers in {} ms", answer.millis));
    clock(app, &answer.headers, link.provider.skew, c);
    match Metadata::parse(&answer.body, &link.provider.issuer) {
        Ok(m) => {
            c.good("issuer", format!("the document names issuer {}", m.issuer));
            Some(m)
        }
        Err(e) => {
            c.wrong("issuer", e.to_string(), "Write the issuer exactly as the document names it; slashes and case count.");
            None
        }
    }
}

async fn keys(link: &OidcLink, metadata: &Metadata, c: &mut Checks) {
    let remedy = "Ask the provider's team for its jwks_uri; signatures cannot be checked without it.";
    match link.get(metadata.jwks_uri.as_str()).await {
        Ok(a) if a.status == 200 => match KeySet::parse(&a.body) {
            Ok(k) => c.good("keys", format!("usable signing keys: {}", k.ids().join(", "))),
            Err(e) => c.wrong("keys", e.to_string(), remedy),
        },
        Ok(a) => c.wrong("keys", format!("{} answers with status {}", metadata.jwks_uri, a.status), remedy),
        Err(e) => c.wrong("keys", format!("{}: {e}", metadata.jwks_uri), remedy),
    }
}

/// A code that nobody issued: a provider that knows the client refuses the code, one that does not refuses the client.
async fn known_client(site: &Site, link: &OidcLink, metadata: &Metadata, c: &mut Checks) {
    let uri = site.redirect_uri(&link.provider.name);
    let code = passeur_core::id::hex(&random::<16>());
    let id = &link.client.id;
    let (method, offered) = (link.auth_method(metadata), metadata.auth_methods.join(", "));
    if method != "none" && !metadata.auth_methods.iter().any(|m| m == method) {
        let words = format!("the client proves itself by {method}, and the provider's document offers {offered}");
        c.wrong(
            "client",
            words,
            &format!("Have {method} allowed there, or write client-authentication as the document offers it."),
        );
    }
    match link.exchange(metadata, &code, &uri, &Pkce::from_random(random())).await {
        Err(ExchangeError::Refused { error, .. }) if error == "invalid_grant" => {
            c.good("client", format!("the provider knows client {id} and takes what proves it ({method})"));
        }
        Err(ExchangeError::Refused { error, description }) if error == "invalid_client" || error == "unauthorized_client" => {
            c.wrong(
                "client",
                format!("{error}: {description}"),
                "Compare client id and secret with the provider's; store the secret with `passeur secret set`.",
            );
        }
        Err(ExchangeError::Refused { error, description }) => {
            c.add("client", CheckVerdict::NotKnown, format!("{error}: {description}"), None)
        }
        Err(ExchangeError::Unproven(how)) => c.wrong(
            "client",
            format!("what is stored cannot prove us: {how}"),
            "Compare client-authentication with the secret; passeur secret make-key makes a key.",
        ),
        Err(ExchangeError::Silent(how)) => c.add("client", CheckVerdict::NotKnown, how, None),
        Ok(_) => c.wrong("client", "the provider gave tokens for a code that nobody issued", "Do not use this provider."),
    }
}

/// A request without anybody signed in and with `prompt=none`: the provider can only send an error back, and it sends it
/// to the redirect address only when it knows that address.
async fn redirect_address(site: &Site, link: &OidcLink, metadata: &Metadata, c: &mut Checks) {
    let uri = site.redirect_uri(&link.provider.name);
    let request = AuthorizationRequest {
        client_id: &link.client.id,
        redirect_uri: &uri,
        scopes: &link.client.scopes,
        acr_values: &[],
        ui_locale: "en",
        max_age: None,
        anew: false,
        login_hint: None,
        form_post: false,
    };
    let pkce = Pkce::from_random(random());
    let mut url = request.url(metadata, &Binding { state: "trial", nonce: "trial", pkce: &pkce });
    url.query_pairs_mut().append_pair("prompt", "none");
    match link.get(url.as_str()).await {
        Ok(a) => {
            let location = a.headers.get(http::header::LOCATION).and_then(|v| v.to_str().ok()).unwrap_or_default();
            if location.starts_with(&uri) {
                c.good("redirect address", format!("{uri} is registered"));
            } else if a.status >= 400 {
                let words = format!("the provider answers with status {} instead of sending back to {uri}", a.status);
                c.wrong(
                    "redirect address",
                    words,
                    "Have exactly this address registered for the client; `passeur handover` lists it.",
                );
            } else {
                c.add(
                    "redirect address",
                    CheckVerdict::NotKnown,
                    "the provider shows a page of its own; sign in once to see",
                    None,
                );
            }
        }
        Err(e) => c.add("redirect address", CheckVerdict::NotKnown, e.to_string(), None),
    }
}
