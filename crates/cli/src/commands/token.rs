//! `passeur token`.

use passeur_api::ApiToken;

use super::{list, no_csv};
use crate::args::{ClientArgs, Output, Token};
use crate::client::{Client, segment};
use crate::exit::Exit;
use crate::output::{Cell, Tone, fixed, moment, rest};

pub async fn run(args: Token, c: &ClientArgs) -> Result<(), Exit> {
    let client = Client::new(c)?;
    match args {
        Token::List => {
            let tokens: Vec<ApiToken> = client.get("/tokens", &[]).await?;
            let columns = [fixed("token"), fixed("role"), fixed("until"), fixed("used"), fixed("owner"), rest("good for")];
            let rows: Vec<Vec<Cell>> = tokens
                .iter()
                .map(|t| {
                    vec![
                        Cell(t.name.clone(), Tone::Strong),
                        t.role.word().into(),
                        t.expires_at.map_or_else(|| "no end".to_owned(), |at| at.format("%Y-%m-%d").to_string()).into(),
                        t.used_at.map(moment).unwrap_or_default().into(),
                        t.owner.clone().unwrap_or_default().into(),
                        t.areas.as_ref().map_or_else(|| "everything".to_owned(), |a| a.join(", ")).into(),
                    ]
                })
                .collect();
            list(c, &tokens, &columns, &rows, "There is no API token.")
        }
        Token::Revoke { name } => {
            no_csv(c)?;
            client.delete::<Option<()>>(&format!("/tokens/{}", segment(&name))).await?;
            if c.output == Output::Text {
                say!("{} is revoked", passeur_core::text::visible(&name));
            }
            Ok(())
        }
    }
}
