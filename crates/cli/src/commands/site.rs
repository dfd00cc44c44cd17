//! `passeur site` and `passeur secret`.

use passeur_api::{CheckAnswer, CheckRequest, Edition, Finding, PublishRequest, Secret as ApiSecret, SecretValue};
use passeur_core::site::{Severity, compile};

use super::{list, no_csv, read_secret};
use crate::args::{ClientArgs, Output, Secret, Site};
use crate::client::{Client, segment};
use crate::exit::Exit;
use crate::output::{Cell, Screen, Tone, fixed, json, moment, rest};

fn read(path: &std::path::Path) -> Result<String, Exit> {
    std::fs::read_to_string(path).map_err(|e| Exit::Failed(format!("{}: {e}", path.display())))
}

fn print_findings(file: &str, findings: &[Finding]) {
    let s = Screen::of_stdout();
    for f in findings {
        let tone = if f.severity == "error" { Tone::Bad } else { Tone::Strong };
        say!(
            "{file}:{}: {}: {}: {}",
            f.line,
            s.paint(&f.severity, tone),
            s.paint(&f.place, Tone::Plain),
            s.paint(&f.what, Tone::Plain)
        );
        say!("    {}", s.paint(&f.remedy, Tone::Quiet));
    }
}

pub async fn run(args: Site, c: &ClientArgs) -> Result<(), Exit> {
    no_csv(c)?;
    match args {
        Site::Check { file, online } => {
            let document = read(&file)?;
            let answer =
                if online { Client::new(c)?.post("/site/check", &CheckRequest { document }).await? } else { offline(&document) };
            if c.output == Output::Json {
                json(&answer)?;
            } else {
                print_findings(&file.display().to_string(), &answer.findings);
                let errors = answer.findings.iter().filter(|f| f.severity == "error").count();
                let warnings = answer.findings.len() - errors;
                let verdict = if answer.sound { "can be published" } else { "cannot be published" };
                say!("{}: {verdict}; mistakes: {errors}, warnings: {warnings}", file.display());
            }
            if answer.sound { Ok(()) } else { Err(Exit::No) }
        }
        Site::Publish { file, note, based_on } => {
            let ask = PublishRequest { document: read(&file)?, note, based_on };
            let edition: Edition = Client::new(c)?.post("/site/publish", &ask).await?;
            if c.output == Output::Json {
                return json(&edition);
            }
            print_findings(&file.display().to_string(), &edition.findings);
            say!("edition {} is live", edition.number);
            Ok(())
        }
        Site::Show => {
            let edition: Edition = Client::new(c)?.get("/site", &[]).await?;
            if c.output == Output::Json {
                return json(&edition);
            }
            let at = edition.published_at.format("%Y-%m-%d %H:%M UTC");
            eprintln!("# edition {}, {at}, {}: {}", edition.number, edition.author, edition.note);
            tell!("{}", edition.document);
            Ok(())
        }
    }
}

fn offline(document: &str) -> CheckAnswer {
    let (site, findings) = compile(document);
    let findings = findings.into_iter().map(|f| Finding {
        severity: if f.severity == Severity::Error { "error" } else { "warning" }.to_owned(),
        line: f.line,
        place: f.place,
        what: f.what,
        remedy: f.remedy,
    });
    CheckAnswer { sound: site.is_some(), findings: findings.collect() }
}

pub async fn secret(args: Secret, c: &ClientArgs) -> Result<(), Exit> {
    let client = Client::new(c)?;
    match args {
        Secret::Set { name, file } => {
            no_csv(c)?;
            let value = read_secret(file.as_deref())?;
            let secret: ApiSecret = client.put(&format!("/secrets/{}", segment(&name)), &SecretValue { value }).await?;
            if c.output == Output::Json {
                return json(&secret);
            }
            say!("{} version {} is stored and in use", secret.name, secret.version);
            Ok(())
        }
        Secret::List => {
            let secrets: Vec<ApiSecret> = client.get("/secrets", &[]).await?;
            let columns = [fixed("secret"), fixed("version"), fixed("changed"), fixed("by"), rest("needed by")];
            let rows: Vec<Vec<Cell>> = secrets
                .iter()
                .map(|s| {
                    let version = if s.version == 0 { Cell("missing".into(), Tone::Bad) } else { s.version.to_string().into() };
                    let changed = s.changed_at.map(moment).unwrap_or_default();
                    vec![
                        s.name.clone().into(),
                        version,
                        changed.into(),
                        s.changed_by.clone().unwrap_or_default().into(),
                        s.needed_by.join(", ").into(),
                    ]
                })
                .collect();
            list(c, &secrets, &columns, &rows, "No secret is stored or needed.")
        }
    }
}
