//! `passeur site` and `passeur secret`.

use passeur_api::{
    ChangeBearing, CheckAnswer, CheckRequest, CompareRequest, Comparison, Draft as ApiDraft, DraftRequest, Edition, EditionLine,
    Finding, MadeKey, MakeKey, PublishRequest, Secret as ApiSecret, SecretValue, Severity, Source, UseSecret,
};
use passeur_core::document::{compile, schema};
use passeur_core::expect;
use passeur_core::step::Lang;
use passeur_service::findings;

use super::{holds, list, no_csv, read_secret, read_text};
use crate::args::{ClientArgs, Draft, Language, Output, Secret, Site, SourceArgs};
use crate::client::{Client, segment};
use crate::exit::Exit;
use crate::output::{Cell, Screen, Tone, fixed, json, moment, rest, wrap};

fn print_findings(file: &str, findings: &[Finding]) {
    let s = Screen::of_stdout();
    for f in findings {
        let tone = if f.severity == Severity::Warning { Tone::Strong } else { Tone::Bad };
        say!(
            "{file}:{}: {}: {}: {}",
            f.line,
            s.paint(f.severity.word(), tone),
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
            let document = read_text(&file)?;
            let answer = if online {
                Client::new(c)?.post("/site/check", &CheckRequest { document }).await?
            } else {
                offline(&document, c)
            };
            if c.output == Output::Json {
                json(&answer)?;
            } else {
                print_findings(&file.display().to_string(), &answer.findings);
                let errors = answer.findings.iter().filter(|f| f.severity == Severity::Error).count();
                let untrue = answer.findings.iter().filter(|f| f.severity == Severity::Expectation).count();
                let warnings = answer.findings.len() - errors - untrue;
                let verdict = if answer.sound { "can be published" } else { "cannot be published" };
                let untold = if untrue > 0 { format!(", expectations that do not hold: {untrue}") } else { String::new() };
                say!("{}: {verdict}; mistakes: {errors}, warnings: {warnings}{untold}", file.display());
            }
            if answer.sound && !answer.findings.iter().any(|f| f.severity == Severity::Expectation) {
                Ok(())
            } else {
                Err(Exit::No)
            }
        }
        Site::Schema => {
            no_csv(c)?;
            json(&schema::schema())
        }
        Site::Expect { source: of } => {
            let (name, document) = match &of {
                SourceArgs { file: Some(file), .. } => (file.display().to_string(), read_text(file)?),
                SourceArgs { draft: true, .. } => {
                    let draft: ApiDraft = Client::new(c)?.get("/site/draft", &[]).await?;
                    ("the draft".to_owned(), draft.document)
                }
                SourceArgs { edition, .. } => {
                    let edition = read_edition(*edition, c).await?;
                    (format!("edition {}", edition.number), edition.document)
                }
            };
            expectations(&name, &document, c)
        }
        Site::Compare { after, with } => {
            let before = Source { edition: with, ..Source::default() };
            let ask = CompareRequest { before, after: source(&after)? };
            let answer: Comparison = Client::new(c)?.post("/site/compare", &ask).await?;
            if c.output == Output::Json {
                return json(&answer);
            }
            print_comparison(&answer);
            Ok(())
        }
        Site::Publish { source: of, note, based_on, anyway, confirm_within, move_issuers } => {
            if of.file.is_none() && !of.draft && of.edition.is_none() {
                return Err(Exit::Failed("publish what? Give a file, or --draft".into()));
            }
            let ask = PublishRequest { source: source(&of)?, note, based_on, anyway, move_issuers, confirm_within };
            publish(&ask, of.file.as_deref(), c).await
        }
        Site::RollBack { edition, note, anyway } => {
            let source = Source { edition: Some(edition), ..Source::default() };
            publish(&PublishRequest { source, note, anyway, ..PublishRequest::default() }, None, c).await
        }
        Site::Show { edition } => {
            let edition = read_edition(edition, c).await?;
            if c.output == Output::Json {
                return json(&edition);
            }
            let at = edition.published_at.format("%Y-%m-%d %H:%M UTC");
            eprintln!("# edition {}, {at}, {}: {}", edition.number, edition.author, edition.note);
            tell!("{}", edition.document);
            Ok(())
        }
        Site::Editions { matching, limit } => {
            let mut editions: Vec<EditionLine> = Client::new(c)?.get("/site/editions", &[("limit", limit.to_string())]).await?;
            if let Some(text) = &matching {
                editions.retain(|e| holds(&(&e.note, &e.author), text));
            }
            let columns = [fixed("edition"), fixed("published"), fixed("by"), fixed("state"), rest("note")];
            let rows: Vec<Vec<Cell>> = editions.iter().map(edition_row).collect();
            list(c, &editions, &columns, &rows, "Nothing is published.")
        }
        Site::Draft(d) => draft(d, c).await,
    }
}

/// The edition of a number, or the live one.
async fn read_edition(number: Option<i32>, c: &ClientArgs) -> Result<Edition, Exit> {
    let path = number.map_or_else(|| "/site".to_owned(), |n| format!("/site/editions/{n}"));
    Client::new(c)?.get(&path, &[]).await
}

fn edition_row(e: &EditionLine) -> Vec<Cell> {
    let state = match (e.live, e.confirm_by, &e.confirmed_by) {
        (true, Some(by), None) => Cell(format!("live, to confirm by {}", moment(by)), Tone::Bad),
        (true, ..) => Cell("live".into(), Tone::Good),
        (false, Some(_), None) => Cell("not confirmed".into(), Tone::Quiet),
        (false, ..) => Cell(String::new(), Tone::Quiet),
    };
    let note = match e.copy_of {
        Some(n) => format!("(edition {n} again) {}", e.note),
        None => e.note.clone(),
    };
    vec![e.number.to_string().into(), moment(e.published_at).into(), e.author.clone().into(), state, note.into()]
}

/// What a request names.
pub fn source(of: &SourceArgs) -> Result<Source, Exit> {
    let document = of.file.as_deref().map(read_text).transpose()?;
    Ok(Source { document, draft: of.draft, edition: of.edition })
}

fn print_comparison(answer: &Comparison) {
    let s = Screen::of_stdout();
    say!("from {} to {}", s.paint(&answer.before, Tone::Plain), s.paint(&answer.after, Tone::Strong));
    if answer.difference.is_empty() {
        say!("no difference");
        return;
    }
    if answer.changes.is_empty() {
        say!("nothing changes but comments and writing");
    }
    for change in &answer.changes {
        let (mark, tone) = match change.bearing {
            ChangeBearing::Narrower => ("−", Tone::Bad),
            ChangeBearing::Wider => ("+", Tone::Good),
            ChangeBearing::Other => ("·", Tone::Quiet),
        };
        say!("{} {}", s.paint(mark, tone), wrap(&s.paint(&change.words, Tone::Plain), s.width, 2));
    }
    say!();
    for line in answer.difference.lines() {
        let tone = match line.as_bytes().first() {
            Some(b'-') => Tone::Bad,
            Some(b'+') => Tone::Good,
            Some(b'@') => Tone::Quiet,
            _ => Tone::Plain,
        };
        say!("{}", s.paint(line, tone));
    }
}

async fn publish(ask: &PublishRequest, file: Option<&std::path::Path>, c: &ClientArgs) -> Result<(), Exit> {
    let edition: Edition = Client::new(c)?.post("/site/publish", ask).await?;
    if c.output == Output::Json {
        return json(&edition);
    }
    let read = match (file, ask.source.edition) {
        (Some(f), _) => f.display().to_string(),
        (None, Some(n)) => format!("edition {n}"),
        (None, None) => "the draft".to_owned(),
    };
    print_findings(&read, &edition.findings);
    let again = edition.copy_of.map(|n| format!(", edition {n} again")).unwrap_or_default();
    say!("edition {} is live{again}", edition.number);
    for secret in edition.secrets.iter().filter(|_| edition.copy_of.is_some()) {
        say!("  it uses secret {} version {}", secret.name, secret.version);
    }
    if let Some(by) = edition.confirm_by {
        say!("sign in to the console and confirm it by {}; otherwise the one before is put back", moment(by));
    }
    Ok(())
}

async fn draft(args: Draft, c: &ClientArgs) -> Result<(), Exit> {
    let client = Client::new(c)?;
    match args {
        Draft::Show => {
            let draft: ApiDraft = client.get("/site/draft", &[]).await?;
            if c.output == Output::Json {
                return json(&draft);
            }
            let at = draft.changed_at.format("%Y-%m-%d %H:%M UTC");
            eprintln!("# draft, version {}, on edition {}, {at}, {}", draft.version, draft.based_on, draft.author);
            for second in draft.second.iter().filter(|s| s.wanted) {
                let by: Vec<&str> = second.given.iter().map(|a| a.name.as_str()).collect();
                let by = if by.is_empty() { "nobody yet".to_owned() } else { by.join(", ") };
                eprintln!("# it changes who may do what: a second engineer agrees in the console; agreed: {by}");
            }
            tell!("{}", draft.document);
            Ok(())
        }
        Draft::Put { file, over, based_on } => {
            let based_on = match based_on {
                Some(n) => n,
                None => client.get::<passeur_api::Me>("/me", &[]).await?.edition,
            };
            let ask = DraftRequest { document: read_text(&file)?, based_on };
            let draft: ApiDraft = client.put_over("/site/draft", over, &ask).await?;
            if c.output == Output::Json {
                return json(&draft);
            }
            print_findings(&file.display().to_string(), &draft.findings);
            say!(
                "the draft is kept as version {}{}",
                draft.version,
                if draft.sound { "" } else { "; it cannot be published yet" }
            );
            Ok(())
        }
        Draft::Discard { over } => {
            client.delete_over("/site/draft", over).await?;
            if c.output == Output::Text {
                say!("the draft is discarded");
            }
            Ok(())
        }
    }
}

fn lang(c: &ClientArgs) -> Lang {
    match c.language {
        Language::En => Lang::En,
        Language::Fr => Lang::Fr,
    }
}

/// Tries every expectation of a document, here.
fn expectations(name: &str, document: &str, c: &ClientArgs) -> Result<(), Exit> {
    let (Some(site), _) = compile(document) else {
        return Err(Exit::Failed(format!("{name} holds mistakes: passeur site check lists them")));
    };
    let found = expect::broken(&site, chrono::Utc::now(), lang(c));
    let s = Screen::of_stdout();
    if c.output == Output::Json {
        json(&found.iter().cloned().map(findings::of_expectation).collect::<Vec<_>>())?;
    } else {
        for e in &site.expectations {
            match found.iter().find(|b| b.name == e.name) {
                None => say!("{} {}", s.paint("✓", Tone::Good), s.paint(&e.name, Tone::Plain)),
                Some(b) => {
                    say!(
                        "{} {}, at {}: {}",
                        s.paint("✗", Tone::Bad),
                        s.paint(&b.name, Tone::Strong),
                        b.place,
                        s.paint(&b.what.join("; "), Tone::Plain)
                    );
                    say!("  {}", wrap(&s.paint(&b.because, Tone::Plain), s.width, 2));
                }
            }
        }
        say!("{name}: {} expectations, {} do not hold", site.expectations.len(), found.len());
    }
    if found.is_empty() { Ok(()) } else { Err(Exit::No) }
}

fn offline(document: &str, c: &ClientArgs) -> CheckAnswer {
    let (site, findings) = compile(document);
    let untrue = site.iter().flat_map(|s| expect::broken(s, chrono::Utc::now(), lang(c))).map(findings::of_expectation);
    CheckAnswer { sound: site.is_some(), findings: findings.into_iter().map(findings::of_document).chain(untrue).collect() }
}

/// `passeur secret`: stored secrets and their versions.
pub async fn secret(args: Secret, c: &ClientArgs) -> Result<(), Exit> {
    let client = Client::new(c)?;
    match args {
        Secret::Set { name, file, stand_by } => {
            no_csv(c)?;
            let value = read_secret(file.as_deref())?;
            let secret: ApiSecret = client.put(&format!("/secrets/{}", segment(&name)), &SecretValue { value, stand_by }).await?;
            if c.output == Output::Json {
                return json(&secret);
            }
            if let Some(v) = secret.versions.iter().find(|v| v.waits) {
                say!("{} version {} waits for a second engineer, and serves nothing until then", secret.name, v.version);
                say!("Another engineer puts it into use in the console, under Secrets.");
                return Ok(());
            }
            match secret.next {
                Some(next) if stand_by => say!("{} version {next} stands beside version {}", secret.name, secret.version),
                _ => say!("{} version {} is stored and in use", secret.name, secret.version),
            }
            Ok(())
        }
        Secret::MakeKey { name, stand_by, years, authority } => {
            no_csv(c)?;
            let ask = MakeKey { stand_by, years, authority };
            let made: MadeKey = client.post(&format!("/secrets/{}/make-key", segment(&name)), &ask).await?;
            if c.output == Output::Json {
                return json(&made);
            }
            match made.secret.next {
                Some(next) if stand_by => {
                    say!("{name} version {next} is made, and stands beside version {}", made.secret.version)
                }
                _ => say!("{name} version {} is made and in use", made.secret.version),
            }
            let until = made.certificate.not_after.map(|u| u.format("%Y-%m-%d").to_string()).unwrap_or_default();
            say!("certificate {}, good until {until}", made.certificate.fingerprint);
            say!("Providers learn of it from our metadata: passeur provider metadata");
            Ok(())
        }
        Secret::Use { name, version, anyway } => {
            no_csv(c)?;
            let secret: ApiSecret =
                client.post(&format!("/secrets/{}/use", segment(&name)), &UseSecret { version, anyway }).await?;
            if c.output == Output::Json {
                return json(&secret);
            }
            say!("{} version {} is in use", secret.name, secret.version);
            Ok(())
        }
        Secret::Forget { name, version } => {
            no_csv(c)?;
            let secret: ApiSecret = client.delete(&format!("/secrets/{}/versions/{version}", segment(&name))).await?;
            if c.output == Output::Json {
                return json(&secret);
            }
            say!("{} version {version} is forgotten", secret.name);
            Ok(())
        }
        Secret::Remove { name } => {
            no_csv(c)?;
            client.delete_empty(&format!("/secrets/{}", segment(&name))).await?;
            if c.output == Output::Json {
                return json(&serde_json::json!({ "removed": name }));
            }
            say!("{name} is removed, with all its versions");
            Ok(())
        }
        Secret::List => list_secrets(&client, c).await,
    }
}

/// Secrets with their versions, and what needs each.
async fn list_secrets(client: &Client, c: &ClientArgs) -> Result<(), Exit> {
    let secrets: Vec<ApiSecret> = client.get("/secrets", &[]).await?;
    let columns =
        [fixed("secret"), fixed("version"), fixed("beside it"), fixed("waits"), fixed("changed"), fixed("by"), rest("needed by")];
    let rows: Vec<Vec<Cell>> = secrets
        .iter()
        .map(|s| {
            let waits = s.versions.iter().filter(|v| v.waits).map(|v| v.version.to_string()).collect::<Vec<_>>().join(", ");
            let version = match s.version {
                0 if waits.is_empty() => Cell("missing".into(), Tone::Bad),
                0 => Cell("none".into(), Tone::Bad),
                n => n.to_string().into(),
            };
            let changed = s.changed_at.map(moment).unwrap_or_default();
            vec![
                s.name.clone().into(),
                version,
                s.next.map(|n| n.to_string()).unwrap_or_default().into(),
                Cell(waits, Tone::Bad),
                changed.into(),
                s.changed_by.clone().unwrap_or_default().into(),
                s.needed_by.join(", ").into(),
            ]
        })
        .collect();
    list(c, &secrets, &columns, &rows, "No secret is stored or needed.")
}
