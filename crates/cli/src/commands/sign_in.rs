//! `passeur sign-in` and `passeur sign-out`: the device flow (RFC 8628).

use std::time::Duration;

use passeur_api::{KnownBy, Me};
use serde::Deserialize;

use super::no_csv;
use crate::args::{ClientArgs, Output};
use crate::client::{Client, base, forget, http, keep, segment};
use crate::exit::Exit;

#[derive(Deserialize)]
struct Begun {
    device_code: String,
    user_code: String,
    verification_uri: String,
    verification_uri_complete: String,
    expires_in: u64,
    interval: u64,
}

#[derive(Deserialize)]
struct Answer {
    access_token: Option<String>,
    error: Option<String>,
    error_description: Option<String>,
}

pub async fn sign_in(c: &ClientArgs) -> Result<(), Exit> {
    no_csv(c)?;
    let (base, http) = (base(c)?, http()?);
    let failed = |e: reqwest::Error| Exit::Failed(e.without_url().to_string());
    let asked = http.post(format!("{base}/.passeur/device/authorize")).form(&[("client_id", "passeur")]);
    let answer = asked.send().await.map_err(failed)?;
    if !answer.status().is_success() {
        let told = answer.json::<Answer>().await.ok().and_then(|a| a.error_description);
        return Err(Exit::Failed(told.unwrap_or_else(|| "the service does not begin a sign-in".into())));
    }
    let begun: Begun = answer.json().await.map_err(failed)?;
    if c.output == Output::Text {
        say!("Open {} and type", begun.verification_uri);
        say!("");
        say!("    {}", passeur_core::text::visible(&begun.user_code));
        say!("");
        say!("or open {}", begun.verification_uri_complete);
        say!("Waiting for {} minutes; Ctrl-C ends it.", begun.expires_in / 60);
    } else {
        eprintln!("{} {}", begun.verification_uri, begun.user_code);
    }
    let mut every = Duration::from_secs(begun.interval.clamp(1, 60));
    let until = std::time::Instant::now() + Duration::from_secs(begun.expires_in);
    let form = [
        ("grant_type", "urn:ietf:params:oauth:grant-type:device_code"),
        ("device_code", begun.device_code.as_str()),
        ("client_id", "passeur"),
    ];
    while std::time::Instant::now() < until {
        tokio::time::sleep(every).await;
        let sent = http.post(format!("{base}/.passeur/device/token")).form(&form).send().await.map_err(failed)?;
        let answer: Answer = sent.json().await.map_err(failed)?;
        match (answer.access_token, answer.error.as_deref()) {
            (Some(token), _) => {
                let path = keep(&base, &token)?;
                if c.output == Output::Text {
                    say!("Signed in. The token lies in {} for twelve hours; `passeur sign-out` revokes it.", path.display());
                }
                return Ok(());
            }
            (None, Some("authorization_pending")) => {}
            // RFC 8628 3.5: from now on five seconds more between two.
            (None, Some("slow_down")) => every += Duration::from_secs(5),
            (None, Some("access_denied")) => return Err(Exit::NotAllowed("the engineer said no".into())),
            (None, other) => {
                let words = answer.error_description.unwrap_or_else(|| other.unwrap_or("no answer").to_owned());
                return Err(Exit::Failed(words));
            }
        }
    }
    Err(Exit::Failed("nobody answered in time".into()))
}

pub async fn sign_out(c: &ClientArgs) -> Result<(), Exit> {
    no_csv(c)?;
    let client = Client::new(c)?;
    let me: Me = client.get("/me", &[]).await?;
    if me.by != KnownBy::Token {
        return Err(Exit::Failed("that is no token".into()));
    }
    client.delete::<Option<()>>(&format!("/tokens/{}", segment(&me.name))).await?;
    forget(&base(c)?);
    if c.output == Output::Text {
        say!("{} is revoked", passeur_core::text::visible(&me.name));
    }
    Ok(())
}
