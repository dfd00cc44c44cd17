//! `passeur provider`.

use std::path::Path;

use passeur_api::{ProviderPart, ReadProvider, Refreshed, SamlParty};

use super::{no_csv, read_text};
use crate::args::{ClientArgs, Output, ProviderCommand};
use crate::client::{Client, segment};
use crate::exit::Exit;
use crate::output::json;

pub async fn run(args: ProviderCommand, c: &ClientArgs) -> Result<(), Exit> {
    no_csv(c)?;
    let client = Client::new(c)?;
    match args {
        ProviderCommand::Read { source, name, ca_file } => {
            let mut ask = ReadProvider { name, ca_file, ..ReadProvider::default() };
            if source.starts_with("https://") || source.starts_with("http://") {
                ask.address = Some(source);
            } else {
                ask.text = Some(read_text(Path::new(&source))?);
            }
            let part: ProviderPart = client.post("/providers/read", &ask).await?;
            if c.output == Output::Json {
                return json(&part);
            }
            // As comments, so that all of it can go into the site file.
            for check in &part.checks {
                say!("# {}: {}: {}", check.verdict, check.value, check.words);
                if let Some(remedy) = &check.remedy {
                    say!("#   → {remedy}");
                }
            }
            tell!("{}", part.part);
            Ok(())
        }
        ProviderCommand::Refresh { name } => {
            let path = format!("/providers/{}/refresh", segment(&name));
            let done: Refreshed = client.post(&path, &serde_json::json!({})).await?;
            if c.output == Output::Json {
                return json(&done);
            }
            say!("{}: fetched anew; keys: {}", name, passeur_core::text::visible(&done.keys.join(", ")));
            Ok(())
        }
        ProviderCommand::Metadata { name } => {
            let query: Vec<(&str, String)> = name.into_iter().map(|n| ("provider", n)).collect();
            let party: SamlParty = client.get("/saml", &query).await?;
            if c.output == Output::Json {
                return json(&party);
            }
            tell!("{}", party.metadata);
            Ok(())
        }
    }
}
