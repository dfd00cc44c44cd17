//! `passeur trial`.

use passeur_api::{DirectoryTrial, ProviderTrial, TrialAnswer};

use super::{no_csv, read_secret};
use crate::args::{ClientArgs, Output, Trial};
use crate::client::Client;
use crate::exit::Exit;
use crate::output::{Screen, Tone, json, wrap};

pub async fn run(args: Trial, c: &ClientArgs) -> Result<(), Exit> {
    no_csv(c)?;
    let client = Client::new(c)?;
    let answer: TrialAnswer = match args {
        Trial::Provider { name, kind, metadata, issuer, client: client_id, secret_file, secret_version, ca_file } => {
            let secret = secret_file.as_deref().map(|f| read_secret(Some(f))).transpose()?;
            client
                .post(
                    "/trials/provider",
                    &ProviderTrial { name, kind, metadata, issuer, client_id, secret, secret_version, ca_file },
                )
                .await?
        }
        Trial::Directory {
            name,
            directory_url,
            start_tls,
            account,
            password_file,
            secret_version,
            base,
            key,
            group_base,
            sample,
            ca_file,
        } => {
            let password = password_file.as_deref().map(|f| read_secret(Some(f))).transpose()?;
            let start_tls = start_tls.then_some(true);
            let ask = DirectoryTrial {
                name,
                url: directory_url,
                start_tls,
                account,
                password,
                secret_version,
                base,
                key,
                group_base,
                sample,
                ca_file,
            };
            client.post("/trials/directory", &ask).await?
        }
    };
    if c.output == Output::Json {
        json(&answer)?;
    } else {
        print_answer(&answer);
    }
    if answer.good { Ok(()) } else { Err(Exit::No) }
}

fn print_answer(answer: &TrialAnswer) {
    let s = Screen::of_stdout();
    let width = answer.checks.iter().map(|c| c.value.chars().count()).max().unwrap_or(0);
    for check in &answer.checks {
        let (mark, tone) = match check.verdict.as_str() {
            "good" => ("good     ", Tone::Good),
            "wrong" => ("WRONG    ", Tone::Bad),
            _ => ("not known", Tone::Quiet),
        };
        let pad = " ".repeat(width - check.value.chars().count());
        let indent = width + 13;
        say!(
            "{}  {}{pad}  {}",
            s.paint(mark, tone),
            s.paint(&check.value, Tone::Strong),
            wrap(&s.paint(&check.words, Tone::Plain), s.width, indent)
        );
        if let Some(remedy) = &check.remedy {
            say!("{}→ {}", " ".repeat(indent), wrap(&s.paint(remedy, Tone::Plain), s.width, indent + 2));
        }
    }
}
