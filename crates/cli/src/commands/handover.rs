//! `passeur handover`.

use passeur_api::Handover;

use super::no_csv;
use crate::args::{ClientArgs, Output};
use crate::client::{Client, segment};
use crate::exit::Exit;
use crate::output::json;

/// Prints the sheet as Markdown, ready to be sent.
pub async fn run(provider: &str, c: &ClientArgs) -> Result<(), Exit> {
    no_csv(c)?;
    let sheet: Handover = Client::new(c)?.get(&format!("/handover/{}", segment(provider)), &[]).await?;
    if c.output == Output::Json {
        return json(&sheet);
    }
    tell!("{}", sheet.markdown);
    Ok(())
}
