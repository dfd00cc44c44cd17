//! Trials of a provider or directory on values that are not saved: check by check, so that the wrong value is named.

use chrono::{DateTime, Duration};
use passeur_api::{DirectoryTrial, ProviderTrial, TrialAnswer, TrialCheck};
use passeur_core::site::{
    Directory, DirectorySecurity, FindGroups, GroupSearch, Nested, Primary, Provider, Referrals, Site, check_issuer,
};
use passeur_links::http::HttpError;
use passeur_links::ldap::{DirectoryCheck, try_directory};
use passeur_protocols::oidc::{AuthorizationRequest, Binding, KeySet, Metadata, Pkce, discovery_url};

use crate::app::{App, random};
use crate::providers::{ExchangeError, ProviderLink};
use crate::signin::redirect_uri;

struct Checks(Vec<TrialCheck>);

impl Checks {
    fn add(&mut self, value: &str, verdict: &str, words: impl Into<String>, remedy: Option<&str>) {
        let (value, verdict) = (value.to_owned(), verdict.to_owned());
        self.0.push(TrialCheck { value, verdict, words: words.into(), remedy: remedy.map(str::to_owned) });
    }
    fn good(&mut self, value: &str, words: impl Into<String>) {
        self.add(value, "good", words, None);
    }
    fn wrong(&mut self, value: &str, words: impl Into<String>, remedy: &str) {
        self.add(value, "wrong", words, Some(remedy));
    }
    fn answer(self) -> TrialAnswer {
        TrialAnswer { good: self.0.iter().all(|c| c.verdict == "good"), checks: self.0 }
    }
}

/// What is missing in the request, in words.
pub struct Lacking(pub String);

/// The provider to try: the live edition's, with the request's values in place of it.
fn provider_of(site: &Site, ask: &ProviderTrial) -> Result<Provider, Lacking> {
    let mut provider = match (site.provider(&ask.name), &ask.issuer, &ask.client_id) {
        (Some(p), _, _) => p.clone(),
        (None, Some(issuer), Some(client)) => Provider {
            name: ask.name.clone(),
            title: ask.name.clone(),
            issuer: issuer.clone(),
            client_id: client.clone(),
            secret: None,
            scopes: vec!["openid".into()],
            acr_values: vec![],
            require_acr: vec![],
            require_amr: vec![],
            skew: Duration::seconds(30),
            attributes: vec![],
            ca_file: None,
            answer_within: Duration::minutes(15),
        },
        _ => {
            return Err(Lacking(format!("provider {} is not in the live edition: give issuer and client", ask.name)));
        }
    };
    if let Some(issuer) = &ask.issuer {
        provider.issuer = issuer.clone();
    }
    if let Some(client) = &ask.client_id {
        provider.client_id = client.clone();
    }
    if ask.ca_file.is_some() {
        provider.ca_file = ask.ca_file.clone();
    }
    Ok(provider)
}

/// Tries a provider.
pub async fn provider(app: &App, site: &Site, ask: &ProviderTrial) -> Result<TrialAnswer, Lacking> {
    Ok(provider_seen(app, site, ask).await?.0)
}

/// The same, with the provider's certificate in DER, where it was reached over TLS.
pub async fn provider_seen(app: &App, site: &Site, ask: &ProviderTrial) -> Result<(TrialAnswer, Option<Vec<u8>>), Lacking> {
    let provider = provider_of(site, ask)?;
    let mut c = Checks(vec![]);
    if let Err(what) = check_issuer(&provider.issuer) {
        c.wrong(
            "issuer",
            format!("{} {what}", provider.issuer),
            "Copy the issuer from the provider's discovery document, to the letter.",
        );
        return Ok((c.answer(), None));
    }
    // The stored secret goes to the live edition's own issuer only, as with directories below.
    let elsewhere = site.provider(&ask.name).is_none_or(|live| live.issuer != provider.issuer);
    let stored = match (&ask.secret, &provider.secret) {
        (Some(s), _) => Some(s.clone()),
        (None, Some(_)) if elsewhere => {
            return Err(Lacking("another issuer needs its own secret: give it with the trial".into()));
        }
        (None, Some(name)) => app.secret(name, ask.secret_version).await.ok().flatten(),
        (None, None) => None,
    };
    let link = ProviderLink::new(provider.clone(), stored.into_iter().collect(), app.clock.clone());
    let mut certificate = None;
    if let Some(metadata) = discover(app, &link, &mut certificate, &mut c).await {
        keys(&link, &metadata, &mut c).await;
        client(site, &link, &metadata, &mut c).await;
        redirect_address(site, &link, &metadata, &mut c).await;
    }
    Ok((c.answer(), certificate))
}

async fn discover(app: &App, link: &ProviderLink, certificate: &mut Option<Vec<u8>>, c: &mut Checks) -> Option<Metadata> {
    let url = discovery_url(&link.provider.issuer);
    let answer = match link.get(&url).await {
        Ok(a) => a,
        Err(HttpError::Tls(why)) => {
            c.good("address", format!("{url} accepts connections"));
            c.wrong("TLS", why, "Name the certificate authority with ca-file, or have the provider's certificate put right.");
            return None;
        }
        Err(e) => {
            c.wrong(
                "address",
                format!("{url}: {e}"),
                "Check host name and port from this machine; look for a firewall in between.",
            );
            return None;
        }
    };
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

fn clock(app: &App, headers: &http::HeaderMap, skew: Duration, c: &mut Checks) {
    let date = headers.get(http::header::DATE).and_then(|v| v.to_str().ok()).and_then(|d| DateTime::parse_from_rfc2822(d).ok());
    let Some(date) = date else {
        c.add("clock", "not known", "the provider's answer carries no date", None);
        return;
    };
    let off = (app.now() - date.to_utc()).num_seconds();
    if Duration::seconds(off.abs()) > skew + Duration::seconds(2) {
        let words = format!("this host's clock differs from the provider's by {off} s");
        c.wrong("clock", words, "Set both clocks by NTP; a wrong one makes valid sign-ins look expired or not yet valid.");
    } else {
        c.good("clock", format!("differs by {} s, {} s are tolerated", off.abs(), skew.num_seconds()));
    }
}

async fn keys(link: &ProviderLink, metadata: &Metadata, c: &mut Checks) {
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
async fn client(site: &Site, link: &ProviderLink, metadata: &Metadata, c: &mut Checks) {
    let uri = redirect_uri(site, &link.provider.name);
    let code = passeur_core::id::hex(&random::<16>());
    let id = &link.provider.client_id;
    match link.exchange(metadata, &code, &uri, &Pkce::from_random(random())).await {
        Err(ExchangeError::Refused { error, .. }) if error == "invalid_grant" => {
            c.good("client", format!("the provider knows client {id} and takes its secret"));
        }
        Err(ExchangeError::Refused { error, description }) if error == "invalid_client" || error == "unauthorized_client" => {
            c.wrong(
                "client",
                format!("{error}: {description}"),
                "Compare client id and secret with the provider's; store the secret with `passeur secret set`.",
            );
        }
        Err(ExchangeError::Refused { error, description }) => {
            c.add("client", "not known", format!("{error}: {description}"), None)
        }
        Err(ExchangeError::Silent(how)) => c.add("client", "not known", how, None),
        Ok(_) => c.wrong("client", "the provider gave tokens for a code that nobody issued", "Do not use this provider."),
    }
}

/// A request without anybody signed in and with `prompt=none`: the provider can only send an error back, and it sends it
/// to the redirect address only when it knows that address.
async fn redirect_address(site: &Site, link: &ProviderLink, metadata: &Metadata, c: &mut Checks) {
    let uri = redirect_uri(site, &link.provider.name);
    let request = AuthorizationRequest {
        client_id: &link.provider.client_id,
        redirect_uri: &uri,
        scopes: &link.provider.scopes,
        acr_values: &[],
        ui_locale: "en",
        anew: false,
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
                c.add("redirect address", "not known", "the provider shows a page of its own; sign in once to see", None);
            }
        }
        Err(e) => c.add("redirect address", "not known", e.to_string(), None),
    }
}

fn directory_of(site: &Site, ask: &DirectoryTrial) -> Result<Directory, Lacking> {
    let lacking = || Lacking(format!("directory {} is not in the live edition: give url, base and key", ask.name));
    let live = site.directory(&ask.name);
    let mut d = match live {
        Some(d) => d.clone(),
        None => Directory {
            name: ask.name.clone(),
            servers: vec![ask.url.clone().ok_or_else(lacking)?],
            security: DirectorySecurity::Plain,
            account: None,
            secret: None,
            base: ask.base.clone().ok_or_else(lacking)?,
            key: ask.key.clone().ok_or_else(lacking)?,
            fed_by: site.attribute("subject").ok_or_else(lacking)?,
            suffixes: vec![],
            cut_suffix: false,
            filter: "(objectClass=*)".into(),
            groups: None,
            referrals: Referrals::Ignore,
            page: 500,
            attributes: vec![],
            octets: std::collections::BTreeMap::new(),
            time_limit: Duration::seconds(3),
            cache: Duration::zero(),
            ca_file: None,
        },
    };
    if let Some(url) = &ask.url {
        d.servers = vec![url.clone()];
    }
    if ask.url.is_some() || ask.start_tls.is_some() {
        let tls = d.servers.iter().all(|s| s.starts_with("ldaps://"));
        d.security = match (tls, ask.start_tls) {
            (true, _) => DirectorySecurity::Tls,
            (false, Some(true)) => DirectorySecurity::StartTls,
            _ => DirectorySecurity::Plain,
        };
    }
    let host = |s: &String| url::Url::parse(s).ok().and_then(|u| u.host_str().map(str::to_owned)).unwrap_or_default();
    let here = |s: &String| passeur_core::address::is_loopback(&host(s));
    if d.security == DirectorySecurity::Plain && !d.servers.iter().all(here) {
        return Err(Lacking("a password is never sent in clear text over a network: use ldaps://, or start_tls".into()));
    }
    for (place, value) in [(&mut d.base, &ask.base), (&mut d.key, &ask.key)] {
        if let Some(v) = value {
            *place = v.clone();
        }
    }
    if let Some(account) = &ask.account {
        d.account = Some(account.clone());
    }
    if let Some(base) = &ask.group_base {
        let usual = GroupSearch {
            base: String::new(),
            find: FindGroups::ByMember("member".into()),
            name: "cn".into(),
            nested: Nested::Walk,
            primary: Primary::None,
            prefix: String::new(),
            suffix: String::new(),
        };
        d.groups = Some(GroupSearch { base: base.clone(), ..d.groups.unwrap_or(usual) });
    }
    if ask.ca_file.is_some() {
        d.ca_file = ask.ca_file.clone();
    }
    Ok(d)
}

/// Tries a directory. The stored password is only ever sent to the live edition's own address and account: otherwise
/// whoever may run trials could have it sent anywhere.
pub async fn directory(app: &App, site: &Site, ask: &DirectoryTrial) -> Result<TrialAnswer, Lacking> {
    let directory = directory_of(site, ask)?;
    let elsewhere =
        site.directory(&ask.name).is_none_or(|live| live.servers != directory.servers || live.account != directory.account);
    let password = match (&ask.password, &directory.secret) {
        (Some(p), _) => Some(p.clone()),
        (None, Some(_)) if elsewhere => {
            return Err(Lacking("another address or account needs its own password: give it with the trial".into()));
        }
        (None, Some(name)) => app.secret(name, ask.secret_version).await.ok().flatten(),
        (None, None) => None,
    };
    let mut c = Checks(vec![]);
    for t in try_directory(&directory, password.as_deref(), ask.sample.as_deref(), app.now()).await {
        let (value, remedy) = match t.check {
            DirectoryCheck::Address => {
                ("address", "Check host, port and TLS from this machine; name the certificate authority with ca-file.")
            }
            DirectoryCheck::Account => ("account", "Compare the account's DN and password with the directory team's."),
            DirectoryCheck::Base => {
                ("base", "Write the base DN as the directory names it; the account must be allowed to read it.")
            }
            DirectoryCheck::GroupBase => ("group base", "Write the groups' base DN as the directory names it."),
            DirectoryCheck::Person => ("sample person", "Key, base or filter do not fit: compare with the person's entry."),
        };
        match t.outcome {
            Ok(words) => c.good(value, words),
            Err(words) => c.wrong(value, words, remedy),
        }
    }
    Ok(c.answer())
}
