//! `passeur handover`.

use passeur_api::Handover as Sheet;

use super::no_csv;
use crate::args::{ClientArgs, Handover, Output, Team};
use crate::client::{Client, segment};
use crate::exit::Exit;
use crate::output::json;

/// Prints the sheet as Markdown, ready to be sent.
pub async fn run(args: Handover, c: &ClientArgs) -> Result<(), Exit> {
    no_csv(c)?;
    let part = match args.team {
        Team::Provider => "provider",
        Team::Directory => "directory",
        Team::Realm => "realm",
        Team::Application => "application",
    };
    let query: Vec<(&str, String)> = [("gate", args.gate), ("kind", args.kind.map(|k| k.to_string()))]
        .into_iter()
        .filter_map(|(n, v)| Some((n, v?)))
        .collect();
    let sheet: Sheet = Client::new(c)?.get(&format!("/handover/{part}/{}", segment(&args.name)), &query).await?;
    if c.output == Output::Json {
        return json(&sheet);
    }
    tell!("{}", sheet.markdown);
    Ok(())
}
