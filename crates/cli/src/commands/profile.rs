//! `passeur profile`: personal profiles of tunnels, and certificates of a gate's own authority.

use std::fs::OpenOptions;
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use passeur_api::{
    Certificate, MadeProfile, MakeProfile, RevokeProfiles, RevokedProfiles, ServerCertificate, ServerKey, TunnelProfile,
};
use rcgen::KeyPair;

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
        ProfileCommand::Make { gate, person, device, entrance, into } => {
            let wanted = (gate, entrance, person, device);
            make(&client, wanted, &into, c).await
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

/// The key is made here, and written with the rest into a file that its user alone reads.
async fn make(
    client: &Client,
    (gate, entrance, person, device): (String, String, String, String),
    into: &Path,
    c: &ClientArgs,
) -> Result<(), Exit> {
    no_csv(c)?;
    let failed = |e: std::io::Error| Exit::Failed(format!("{}: {e}", into.display()));
    let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(into).map_err(failed)?;
    let done = async {
        let key = KeyPair::generate().map_err(|e| Exit::Failed(format!("no key could be made: {e}")))?;
        let ask = MakeProfile { gate, entrance, person, device, public_key: key.public_key_pem() };
        let made: MadeProfile = client.post("/profiles", &ask).await?;
        let whole = format!("{}<key>\n{}</key>\n", made.configuration, key.serialize_pem());
        file.write_all(whole.as_bytes()).map_err(failed)?;
        Ok(made.profile)
    };
    let made = match done.await {
        Ok(made) => made,
        Err(e) => {
            // Nothing of it is left behind.
            let _ = std::fs::remove_file(into);
            return Err(e);
        }
    };
    if c.output == Output::Json {
        return json(&made);
    }
    let visible = passeur_core::text::visible;
    say!(
        "{} holds a profile of {} for {}, good until {}.",
        into.display(),
        visible(&made.device),
        visible(&made.name),
        made.expires_at.format("%Y-%m-%d")
    );
    say!("Give the file to that machine, and keep no copy: its key is in it. To revoke it: passeur profile revoke {}", made.id);
    Ok(())
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
