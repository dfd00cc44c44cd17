//! `passeur trial`.

use passeur_api::{
    CheckVerdict, DirectoryTrial, FareVerdict, Outcome, ProviderTrial, Source, TrialAnswer, TrialBrought, TrialSignIn,
    TrialSignInRequest,
};

use super::{no_csv, read_secret, read_text};
use crate::args::{ClientArgs, Output, Trial};
use crate::client::{Client, segment};
use crate::exit::Exit;
use crate::output::{Screen, Tone, json, wrap};

pub async fn run(args: Trial, c: &ClientArgs) -> Result<(), Exit> {
    no_csv(c)?;
    let client = Client::new(c)?;
    let answer: TrialAnswer = match args {
        Trial::SignIn { provider, draft, file, id, full } => return sign_in(&client, c, provider, (draft, file, id), full).await,
        Trial::Entrance(of) => return super::trial_entrance::run(of, c).await,
        Trial::Provider { name, of, kind, metadata, issuer, client: client_id, secret_file, secret_version, ca_file } => {
            let secret = secret_file.as_deref().map(|f| read_secret(Some(f))).transpose()?;
            client
                .post(
                    "/trials/provider",
                    &ProviderTrial {
                        name,
                        source: source(of.file.as_deref(), of.draft)?,
                        kind,
                        metadata,
                        issuer,
                        client_id,
                        secret,
                        secret_version,
                        ca_file,
                    },
                )
                .await?
        }
        Trial::Directory {
            name,
            of,
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
                source: source(of.file.as_deref(), of.draft)?,
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
        let (mark, tone) = match check.verdict {
            CheckVerdict::Good => ("good     ", Tone::Good),
            CheckVerdict::Wrong => ("WRONG    ", Tone::Bad),
            CheckVerdict::NotKnown => ("not known", Tone::Quiet),
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

/// How often it is asked whether something came back.
const EVERY: std::time::Duration = std::time::Duration::from_secs(1);

/// The document that a trial takes its values from.
fn source(file: Option<&std::path::Path>, draft: bool) -> Result<Source, Exit> {
    Ok(Source { document: file.map(read_text).transpose()?, draft, edition: None })
}

async fn sign_in(
    client: &Client,
    c: &ClientArgs,
    provider: String,
    (draft, file, id): (bool, Option<std::path::PathBuf>, Option<String>),
    full: bool,
) -> Result<(), Exit> {
    let id = match id {
        Some(id) => id,
        None => {
            let source = source(file.as_deref(), draft)?;
            let begun: TrialSignIn = client.post("/trials/sign-in", &TrialSignInRequest { provider, source }).await?;
            // Where the answer goes is for programs; this is for the one who sits there.
            eprintln!(
                "Open in any browser, and sign in:\n  {}\nWaiting until {}.",
                begun.address,
                begun.until.format("%H:%M UTC")
            );
            if let Some(address) = &begun.register {
                eprintln!(
                    "The live edition means another issuer by this name. Register this redirect address at the provider for the trial:\n  {address}"
                );
            }
            begun.id
        }
    };
    let trial = loop {
        let trial: TrialSignIn = client.get(&format!("/trials/sign-in/{}", segment(&id)), &[]).await?;
        if trial.brought.is_some() {
            break trial;
        }
        tokio::time::sleep(EVERY).await;
    };
    let Some(brought) = &trial.brought else { return Err(Exit::No) };
    if c.output == Output::Json {
        json(&trial)?;
    } else {
        print_brought(&trial, brought, full);
    }
    if brought.outcome == Outcome::Tried { Ok(()) } else { Err(Exit::No) }
}

fn print_brought(trial: &TrialSignIn, b: &TrialBrought, full: bool) {
    let s = Screen::of_stdout();
    let tone = if b.outcome == Outcome::Tried { Tone::Good } else { Tone::Bad };
    say!(
        "{}  through provider {}, with {}",
        s.paint(&b.outcome_words, tone),
        s.paint(&trial.provider, Tone::Strong),
        trial.source
    );
    say!("{}", wrap(&b.why, s.width, 0));
    if let Some(remedy) = b.steps.iter().filter(|st| st.decided).find_map(|st| st.remedy.as_ref()) {
        say!("→ {}", wrap(remedy, s.width, 2));
    }
    say!();
    for st in &b.steps {
        say!("{:>3}  {}", st.number, wrap(&st.sentence, s.width, 5));
    }
    for raw in &b.raw {
        say!();
        say!("{}", s.paint(&raw.name, Tone::Strong));
        for line in raw.text.lines() {
            say!("  {}", passeur_core::text::visible(line));
        }
    }
    for g in &b.gates {
        say!();
        let tone = if g.verdict == FareVerdict::In { Tone::Good } else { Tone::Bad };
        let as_if = if g.uses { "" } else { ", if it were entered by this provider" };
        say!("{} {}{as_if}", s.paint(g.verdict.word(), tone), s.paint(&g.gate, Tone::Strong));
        say!("     {}", wrap(&g.because, s.width, 5));
        let steps = g.steps.iter().map(|st| &st.sentence);
        for line in if full { steps.collect::<Vec<_>>() } else { g.missing.iter().collect() } {
            say!("     {}", wrap(line, s.width, 5));
        }
    }
}
