//! `passeur profile`: personal profiles of tunnels, and certificates of a gate's own authority.

use std::path::Path;

use passeur_api::{Certificate, RevokeProfiles, RevokedProfiles, ServerCertificate, ServerKey, TunnelProfile};

use super::{list, no_csv};
use crate::args::{ClientArgs, Output, ProfileCommand};
use crate::client::{Client, segment};
use crate::exit::Exit;
use crate::output::{Cell, Tone, fixed, json, rest};

pub async fn run(args: ProfileCommand, c: &ClientArgs) -> Result<(), Exit> {
    let client = Client::new(c)?;
    match args {
        ProfileCommand::List { text, gate } => {
            let mut query = vec![];
            query.extend(text.map(|t| ("text", t)));
            query.extend(gate.map(|g| ("gate", g)));
            let found: Vec<TunnelProfile> = client.get("/profiles", &query).await?;
            let columns =
                [fixed("profile"), fixed("person"), fixed("machine"), fixed("gate"), fixed("made"), fixed("used"), rest("state")];
            let rows: Vec<Vec<Cell>> = found.iter().map(row).collect();
            list(c, &found, &columns, &rows, "There are no personal profiles.")
        }
        ProfileCommand::Revoke { ids } => {
            no_csv(c)?;
            let answer: RevokedProfiles = client.post("/profiles/revoke", &RevokeProfiles { profiles: ids }).await?;
            if c.output == Output::Json {
                return json(&answer);
            }
            for p in &answer.revoked {
                let visible = passeur_core::text::visible;
                say!("revoked: {} of {}; a tunnel that came by it is ended", visible(&p.device), visible(&p.name));
            }
            if answer.revoked.is_empty() {
                say!("Nothing was revoked: no profile of these numbers counted any more.");
            }
            Ok(())
        }
        ProfileCommand::Authority { gate } => {
            no_csv(c)?;
            let found: Certificate = client.get(&format!("/gates/{}/authority", segment(&gate)), &[]).await?;
            if c.output == Output::Json {
                return json(&found);
            }
            say!("{}", found.pem.trim_end());
            Ok(())
        }
        ProfileCommand::Server { gate, host, public_key } => server(&client, &gate, host, &public_key, c).await,
    }
}

fn row(p: &TunnelProfile) -> Vec<Cell> {
    let day = |at: chrono::DateTime<chrono::Utc>| at.format("%Y-%m-%d").to_string();
    let short = passeur_core::text::shorten;
    let (state, tone) = match p.revoked_at {
        Some(at) => (format!("revoked on {} by {}", day(at), p.revoked_by.as_deref().unwrap_or("—")), Tone::Quiet),
        None if p.expires_at <= chrono::Utc::now() => ("its time is over".to_owned(), Tone::Quiet),
        None => (format!("good until {}", day(p.expires_at)), Tone::Plain),
    };
    vec![
        p.id.to_string().into(),
        Cell(short(&p.name, 24), Tone::Strong),
        short(&p.device, 24).into(),
        p.gate.clone().into(),
        day(p.created_at).into(),
        p.used_at.map_or_else(|| "—".to_owned(), day).into(),
        Cell(state, tone),
    ]
}

async fn server(client: &Client, gate: &str, host: String, public_key: &Path, c: &ClientArgs) -> Result<(), Exit> {
    no_csv(c)?;
    let read = std::fs::read_to_string(public_key);
    let public_key = read.map_err(|e| Exit::Failed(format!("{} cannot be read: {e}", public_key.display())))?;
    let ask = ServerKey { host, public_key };
    let made: ServerCertificate = client.post(&format!("/gates/{}/server-certificate", segment(gate)), &ask).await?;
    if c.output == Output::Json {
        return json(&made);
    }
    say!("{}", made.certificate.pem.trim_end());
    Ok(())
}
