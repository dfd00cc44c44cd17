//! For the team of an identity provider.

use super::{Facts, Part, Row, Sheet, needs};
use crate::site::{ClientAuthentication, Gate, GroupsFrom, OidcClient, Provider, SamlSource, SamlTrust, Site};

pub(super) fn sheet(site: &Site, name: &str, gate: Option<&Gate>, facts: &Facts) -> Sheet {
    let provider = site.provider(name);
    let saml = provider.map_or(facts.saml, |p| p.saml().is_some());
    let (enter, send_back) = match saml {
        true => (saml_values(site, name, provider, facts), saml_back(provider)),
        false => (oidc_values(site, name, provider), oidc_back(provider)),
    };
    let release = released(site, provider, gate, saml);
    let place = gate.map(|g| format!(", for {}", g.title)).unwrap_or_default();
    let as_what = if saml { "SAML service provider" } else { "OpenID Connect client" };
    Sheet {
        title: format!("{} as {as_what} of {name}{place}", site.name),
        state: String::new(),
        connected: provider.is_some(),
        parts: vec![
            Part { code: "enter", heading: "Please enter", rows: enter },
            Part {
                code: "release",
                heading: if saml { "Please release these attributes" } else { "Please release these claims" },
                rows: release,
            },
            Part { code: "send-back", heading: "Please send back", rows: send_back },
        ],
        steps: vec![
            format!("We try the values: passeur trial provider {name}. It says which one is wrong."),
            format!("One of us signs in for trial, before any gate is switched: passeur trial sign-in {name}. It shows all that came back."),
            "Then one person who may enter signs in at a gate, and one who may not.".to_owned(),
            "If your side shows an error page of its own, compare the address that people are sent back to with what you have: to the letter.".to_owned(),
        ],
    }
}

fn oidc_values(site: &Site, name: &str, provider: Option<&Provider>) -> Vec<Row> {
    let client = provider.and_then(Provider::oidc);
    let scopes = client.map_or_else(|| "openid profile email".to_owned(), |c| c.scopes.join(" "));
    let mut out = vec![
        Row::new("Client name", site.name.clone(), "what people read when they sign in"),
        Row::new("Application type", "web, confidential client", "the client keeps a secret"),
        Row::new("Redirect address", site.redirect_uri(name), "where people are sent back to; it is compared to the letter"),
        Row::new("Address after signing out", site.address.at("/.passeur/signed-out"), "post_logout_redirect_uri"),
        Row::new(
            "Back-channel logout address",
            site.oidc_sign_out_uri(name, "back-channel"),
            "sessions end here when they end with you (backchannel_logout_session_required)",
        ),
        Row::new(
            "Front-channel logout address",
            site.oidc_sign_out_uri(name, "front-channel"),
            "where back-channel is not to be had; with iss and sid (frontchannel_logout_session_required)",
        ),
        Row::new("Grant and response type", "authorization_code, code", "no other is used"),
        Row::new("Proof key", "S256, required", "PKCE (RFC 7636); insist on it"),
    ];
    out.extend(proves(site, name, client));
    out.extend([
        Row::new("Signature of the id_token", "RS256, PS256, ES256 or EdDSA", "none and HMAC are refused here"),
        Row::new("Scopes", scopes, "allow these for the client"),
    ]);
    if client.is_some_and(|c| c.form_post) {
        out.push(Row::new("Response mode", "form_post", "answers come by a form that posts itself"));
    }
    if let Some(p) = provider {
        out.extend(contexts(p, "asked for with acr_values, checked in acr"));
        if !p.require_amr.is_empty() {
            let why = "each must stand in amr, or the sign-in is refused";
            out.push(Row::new("Authentication methods", p.require_amr.join(" "), why));
        }
    }
    out
}

/// How the client proves itself at the token endpoint.
fn proves(site: &Site, name: &str, client: Option<&OidcClient>) -> Vec<Row> {
    let method = match client {
        Some(c) if c.secret.is_none() => "none",
        client => client.and_then(|c| c.authentication.registered()).unwrap_or("client_secret_basic (or client_secret_post)"),
    };
    let mut out = vec![Row::new("Client authentication", method, "at the token endpoint")];
    if has_key(client) {
        let why = "our public keys (jwks_uri), to be read again when an assertion names a key that you do not know; two stand there \
                   while one takes over from the other";
        out.push(Row::new("Key set address", site.client_keys_uri(name), why));
    }
    out
}

fn has_key(client: Option<&OidcClient>) -> bool {
    client.is_some_and(|c| c.authentication == ClientAuthentication::PrivateKeyJwt)
}

fn contexts(p: &Provider, why: &str) -> Option<Row> {
    let mut all: Vec<&str> = p.acr_values.iter().chain(&p.require_acr).map(String::as_str).collect();
    all.dedup();
    (!all.is_empty()).then(|| Row::new("Authentication context", all.join(" "), why))
}

fn oidc_back(provider: Option<&Provider>) -> Vec<Row> {
    let client = provider.and_then(Provider::oidc);
    let mut out = vec![
        Row::new("Issuer", provider.map_or("", |p| p.issuer.as_str()), "to the letter, as in the discovery document"),
        Row::new("Client id", client.map_or("", |c| c.id.as_str()), "what you call this client"),
    ];
    if !has_key(client) {
        out.push(Row::new("Client secret", "", "by a safe way; it is stored sealed and never shown again"));
    }
    out
}

fn saml_values(site: &Site, name: &str, provider: Option<&Provider>, facts: &Facts) -> Vec<Row> {
    let trust = provider.and_then(Provider::saml);
    let mut out = vec![
        Row::new("Entity id", site.saml.entity_id.clone(), "how we name ourselves; also the audience of every assertion"),
        Row::new(
            "Consumer address (ACS)",
            site.consumer_uri(name),
            "where answers are posted, binding HTTP-POST; recipient and destination are compared to the letter",
        ),
        Row::new("Logout address", site.saml_sign_out_uri(name), "single logout, by redirect or POST"),
        Row::new("Metadata", site.saml_metadata_uri(name), "all of this sheet in one file; it may be read again daily"),
        Row::new("Signature", "the assertion, the response, or both; RSA or ECDSA with SHA-256 or better", "SHA-1 is refused"),
    ];
    if let Some(format) = trust.and_then(|t| t.name_id.as_deref()) {
        out.push(Row::new(
            "NameID format",
            format,
            "the person's key: one person has the same for ever, and no other person ever has it",
        ));
    } else if trust.is_none_or(|t| t.subject.is_none()) {
        let why = "the person's key: one person has the same for ever, and no other person ever has it";
        out.push(Row::new("NameID", "persistent", why));
    }
    match facts.certificates.as_slice() {
        [] => out.push(Row::new("Our certificate", "", "none: requests are not signed, and nothing may be encrypted for us")),
        [now, others @ ..] => {
            let signs =
                if trust.is_none_or(|t| t.sign_requests) { "requests are signed with it" } else { "logout is signed with it" };
            out.push(Row::new("Our certificate", now.pem.clone(), format!("{signs}; good until {}", now.until)));
            out.push(Row::new("Its fingerprint (SHA-256)", now.fingerprint.clone(), "to read to each other by telephone"));
            for c in others {
                let why = format!("stands beside it while one takes over from the other; good until {}", c.until);
                out.push(Row::new("A further certificate", c.pem.clone(), why));
                out.push(Row::new("Its fingerprint (SHA-256)", c.fingerprint.clone(), "to read to each other by telephone"));
            }
            let must = trust.is_some_and(|t| t.require_encrypted);
            let why = if must { "required: what comes in clear is refused" } else { "welcome" };
            out.push(Row::new("Encryption of assertions", "AES-GCM with RSA-OAEP, for our certificate", why));
        }
    }
    if let Some(p) = provider {
        out.extend(contexts(p, "asked for with RequestedAuthnContext, checked in AuthnContextClassRef"));
    }
    out
}

fn saml_back(provider: Option<&Provider>) -> Vec<Row> {
    let source = provider.and_then(Provider::saml).map(|t: &SamlTrust| &t.source);
    let address = match source {
        Some(SamlSource::Metadata { address, .. }) => address.as_str(),
        Some(SamlSource::ByHand(_)) | None => "",
    };
    vec![
        Row::new("Address of your metadata", address, "then nothing else is needed; a file will do as well"),
        Row::new("Entity id", provider.map_or("", |p| p.issuer.as_str()), "to the letter, as in your metadata"),
        Row::new("Fingerprint of your signing certificate (SHA-256)", "", "to compare by telephone"),
        Row::new("When the next certificate comes", "", "both stand in the metadata for a time, and nobody is refused"),
    ]
}

/// What to release, each with what needs it.
fn released(site: &Site, provider: Option<&Provider>, gate: Option<&Gate>, saml: bool) -> Vec<Row> {
    let mut out = vec![];
    if !saml {
        out.push(Row::new("sub", "always", "the person's only key, never reassigned"));
    }
    let Some(provider) = provider else {
        let (user, name) = if saml { ("a user name", "a name to show") } else { ("preferred_username", "name, email") };
        out.push(Row::new(user, "usually", "feeds the directory look-up"));
        out.push(Row::new(name, "usually", "shown to engineers; delivered where a gate wants it"));
        return out;
    };
    if let Some(attribute) = provider.saml().and_then(|t| t.subject.as_deref()) {
        out.push(Row::new(attribute, "always, exactly one value", "the person's only key, never reassigned"));
    }
    let using: Vec<&Gate> = site.gates.iter().filter(|g| g.access.ways.contains(&provider.name)).collect();
    let gates: Vec<&Gate> = match gate {
        Some(one) => vec![one],
        // Before any gate is switched: what they need all the same.
        None if using.is_empty() => site.gates.iter().collect(),
        None => using,
    };
    for (id, claim) in &provider.attributes {
        let why = needs(site, *id, &gates);
        if why.is_empty() && gate.is_some() {
            continue;
        }
        let why = if why.is_empty() { "mapped, not used yet".to_owned() } else { why.join("; ") };
        out.push(Row::new(claim.clone(), site.attribute_name(*id), why));
    }
    if let Some(groups) = &provider.groups {
        let asking =
            |g: &&&Gate| g.access.groups == GroupsFrom::Provider && g.access.rules.iter().any(|r| !r.when.groups().is_empty());
        let at: Vec<&str> = gates.iter().filter(asking).map(|g| g.name.as_str()).collect();
        if !at.is_empty() || gate.is_none() {
            let why = match at.as_slice() {
                [] => "mapped, not used yet".to_owned(),
                at => format!("rules at {}", at.join(", ")),
            };
            out.push(Row::new(groups.claim.clone(), "groups; names, or identifiers with a list of their names", why));
        }
    }
    if !saml && (!provider.require_acr.is_empty() || !provider.require_amr.is_empty()) {
        out.push(Row::new("acr, amr, auth_time", "always", "how and when the person proved who they are"));
    }
    out
}
