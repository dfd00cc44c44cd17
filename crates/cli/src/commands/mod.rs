//! One file a command.

mod acts;
mod crossings;
mod emergency;
mod handover;
mod host;
mod kerberos;
mod key_ring;
mod leaver;
mod people;
mod present;
mod profile;
mod provider;
mod reach;
mod rehearse;
mod route;
mod serve;
mod sign_in;
mod site;
mod survey;
mod token;
mod trial;
mod trial_entrance;

use std::io::Read;
use std::path::Path;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use passeur_api::{Directory, Gate, Me, Node, Provider};

use crate::args::{Args, ClientArgs, Command, Output};
use crate::client::Client;
use crate::exit::Exit;
use crate::output::{Cell, Column, Screen, Tone, csv, fixed, json, moment, outcome_tone, rest, table};

/// Runs a command.
pub async fn run(args: Args) -> Result<(), Exit> {
    let c = &args.client;
    match args.command {
        Command::Serve(a) => serve::run(*a).await,
        Command::Emergency(a) => emergency::run(a),
        Command::KeyRing(a) => key_ring::run(a, c).await,
        Command::Site(a) => site::run(a, c).await,
        Command::Rehearse(a) => rehearse::run(a, c).await,
        Command::Token(a) => token::run(a, c).await,
        Command::Acts(a) => acts::run(a, c).await,
        Command::Secret(a) => site::secret(a, c).await,
        Command::Handover(a) => handover::run(a, c).await,
        Command::Trial(a) => trial::run(a, c).await,
        Command::Survey { last } => survey::run(last, c).await,
        Command::Kerberos(a) => kerberos::run(a, c).await,
        Command::Host(a) => host::run(a, c).await,
        Command::Gates { matching } => gates(matching, c).await,
        Command::Node => node(c).await,
        Command::Providers => providers(c).await,
        Command::Provider(a) => provider::run(a, c).await,
        Command::Route(a) => route::run(a, c).await,
        Command::Present(a) => present::run(a, c).await,
        Command::Profile(a) => profile::run(a, c).await,
        Command::Reach(a) => reach::run(a, c).await,
        Command::Zone(a) => reach::zone(a, c).await,
        Command::Directories => directories(c).await,
        Command::Crossings(a) => crossings::list(a, c).await,
        Command::Crossing { id } => crossings::one(&id, c).await,
        Command::Sessions { person } => people::sessions(person, c).await,
        Command::End { sessions, subject } => people::end(sessions, subject, c).await,
        Command::ReRead { sessions, subject } => people::re_read(sessions, subject, c).await,
        Command::Leaver(args) => leaver::leaver(args, c).await,
        Command::KeptOut => leaver::kept_out(c).await,
        Command::LetIn { people } => leaver::let_in(people, c).await,
        Command::Factors { person, remove, reset } => people::factors(&person, remove, reset, c).await,
        Command::Roles { person } => people::roles(&person, c).await,
        Command::PersonalTokens { person, revoke, all } => people::personal_tokens(&person, revoke, all, c).await,
        Command::SignIn => sign_in::sign_in(c).await,
        Command::SignOut => sign_in::sign_out(c).await,
        Command::Person { value, directory } => people::person(&value, &directory, c).await,
        Command::Whoami => whoami(c).await,
    }
}

/// Prints a list as table, CSV or JSON.
pub fn list(
    args: &ClientArgs,
    answer: &impl serde::Serialize,
    columns: &[Column],
    rows: &[Vec<Cell>],
    if_empty: &str,
) -> Result<(), Exit> {
    match args.output {
        Output::Json => json(answer),
        Output::Csv => {
            tell!("{}", csv(answer)?);
            Ok(())
        }
        Output::Text if rows.is_empty() => {
            say!("{if_empty}");
            Ok(())
        }
        Output::Text => {
            tell!("{}", table(&Screen::of_stdout(), columns, rows));
            Ok(())
        }
    }
}

/// Whether a text stands anywhere in something that is shown. Case does not count.
pub fn holds(shown: &impl serde::Serialize, text: &str) -> bool {
    serde_json::to_string(shown).is_ok_and(|all| all.to_lowercase().contains(&text.to_lowercase()))
}

/// What a file holds, or standard input where it is `-`.
pub fn read_text(path: &Path) -> Result<String, Exit> {
    let failed = |e: std::io::Error| Exit::Failed(format!("{}: {e}", path.display()));
    if path == Path::new("-") {
        return std::io::read_to_string(std::io::stdin()).map_err(failed);
    }
    std::fs::read_to_string(path).map_err(failed)
}

/// Text for which there is no table.
pub fn no_csv(args: &ClientArgs) -> Result<(), Exit> {
    if args.output == Output::Csv { Err(Exit::Failed("this is no list: use --output text or json".into())) } else { Ok(()) }
}

/// How much is read of a secret.
const SECRET_MAX: u64 = 100_000;
/// How a keytab begins (file format 0502).
const KEYTAB: &[u8] = &[5, 2];

/// A secret from a file or standard input; one line end is dropped. A keytab, which is no text, becomes base64.
pub fn read_secret(file: Option<&Path>) -> Result<String, Exit> {
    let mut bytes = vec![];
    let read = match file {
        Some(path) if path != Path::new("-") => {
            std::fs::File::open(path).and_then(|f| f.take(SECRET_MAX).read_to_end(&mut bytes))
        }
        _ => std::io::stdin().take(SECRET_MAX).read_to_end(&mut bytes),
    };
    let place = file.map_or_else(|| "standard input".to_owned(), |p| p.display().to_string());
    read.map_err(|e| Exit::Failed(format!("{place}: {e}")))?;
    if bytes.starts_with(KEYTAB) {
        return Ok(STANDARD.encode(bytes));
    }
    let text = String::from_utf8(bytes).map_err(|_| Exit::Failed(format!("{place}: neither text nor a keytab")))?;
    let text = text.strip_suffix('\n').unwrap_or(&text);
    Ok(text.strip_suffix('\r').unwrap_or(text).to_owned())
}

async fn whoami(args: &ClientArgs) -> Result<(), Exit> {
    no_csv(args)?;
    let me: Me = Client::new(args)?.get("/me", &[]).await?;
    if args.output == Output::Json {
        return json(&me);
    }
    let s = Screen::of_stdout();
    say!(
        "{} at {}, role {}, by {}; edition {}, version {}",
        s.paint(&me.name, Tone::Strong),
        s.paint(&me.site, Tone::Plain),
        me.role.word(),
        me.by,
        me.edition,
        me.version
    );
    Ok(())
}

async fn node(args: &ClientArgs) -> Result<(), Exit> {
    let node: Node = Client::new(args)?.get("/node", &[]).await?;
    if args.output == Output::Text {
        say!("{}, version {}, edition {}", node.name, node.version, node.edition);
    }
    let columns = [rest("connections since the start"), fixed("count")];
    let rows: Vec<Vec<Cell>> = node.counters.iter().map(|c| vec![c.name.clone().into(), c.count.to_string().into()]).collect();
    list(args, &node, &columns, &rows, "The data path has not started.")
}

async fn gates(only: Option<String>, args: &ClientArgs) -> Result<(), Exit> {
    let mut gates: Vec<Gate> = Client::new(args)?.get("/gates", &[]).await?;
    if let Some(text) = &only {
        gates.retain(|g| holds(g, text));
        if gates.is_empty() {
            return Err(Exit::NotFound(format!("no gate holds \"{text}\" in its name, address, ways in or rules")));
        }
    }
    if args.output != Output::Text {
        return list(args, &gates, &[], &[], "");
    }
    let s = Screen::of_stdout();
    if gates.is_empty() {
        say!("No gate is published. Add a [[gate]] to the site file.");
    }
    for (i, g) in gates.iter().enumerate() {
        if i > 0 {
            say!();
        }
        say!("{}  {}", s.paint(&g.name, Tone::Strong), s.paint(&g.title, Tone::Plain));
        say!("  {}", s.paint(&g.address, Tone::Plain));
        for u in &g.upstreams {
            let (state, tone) = match (u.draining, u.tried, u.well) {
                (true, ..) => ("draining", Tone::Quiet),
                (_, false, _) => ("nothing asked yet", Tone::Quiet),
                (_, true, true) => ("well", Tone::Good),
                (_, true, false) => ("down", Tone::Bad),
            };
            let why = u.last_failure.as_deref().filter(|_| !u.well).map(|w| format!(": {w}")).unwrap_or_default();
            say!("  → {}  {}{}", s.paint(&u.address, Tone::Plain), s.paint(state, tone), s.paint(&why, Tone::Plain));
            if let Some(finding) = &u.finding {
                say!("    {}", crate::output::wrap(&s.paint(finding, Tone::Plain), s.width, 4));
            }
        }
        say!(
            "  by {}; {}; {} live sessions",
            g.ways_in.join(", "),
            if g.directories.is_empty() {
                "no directory".to_owned()
            } else {
                format!("directory {}", g.directories.join(" or "))
            },
            g.live_sessions
        );
        for zone in &g.zones {
            say!("  zone   {}", crate::output::wrap(&s.paint(&zone.words, Tone::Plain), s.width, 9));
        }
        for machine in &g.machines {
            say!("  machine {}", crate::output::wrap(&s.paint(machine, Tone::Plain), s.width, 10));
        }
        if g.rules.is_empty() {
            say!("  {}", s.paint("no rule: admits nobody", Tone::Bad));
        }
        for r in &g.rules {
            say!("  rule   {}", crate::output::wrap(&s.paint(r, Tone::Plain), s.width, 9));
        }
        for p in &g.sections {
            say!("  part   {}", s.paint(p, Tone::Plain));
        }
        for m in &g.mappings {
            say!("  made   {}", crate::output::wrap(&s.paint(m, Tone::Plain), s.width, 9));
        }
        for h in &g.headers {
            say!("  header {}", crate::output::wrap(&s.paint(h, Tone::Plain), s.width, 9));
        }
        let counts: Vec<String> =
            g.last_day.iter().map(|c| format!("{} {}", c.count, s.paint(&c.words, outcome_tone(c.outcome)))).collect();
        say!("  last 24 hours: {}", if counts.is_empty() { "nothing".to_owned() } else { counts.join(", ") });
    }
    Ok(())
}

async fn directories(args: &ClientArgs) -> Result<(), Exit> {
    let all: Vec<Directory> = Client::new(args)?.get("/directories", &[]).await?;
    let columns =
        [fixed("directory"), fixed("server"), fixed("state"), fixed("answers"), fixed("failures"), rest("last failure")];
    let mut rows: Vec<Vec<Cell>> = vec![];
    for d in &all {
        for s in &d.servers {
            let state = match (s.well, s.last_answer) {
                (true, None) => Cell("not asked yet".into(), Tone::Quiet),
                (true, Some(_)) => Cell("answers".into(), Tone::Good),
                (false, _) => Cell("does not answer".into(), Tone::Bad),
            };
            let failure = s.last_failure.as_ref().zip(s.last_failure_at);
            rows.push(vec![
                d.name.clone().into(),
                s.address.clone().into(),
                state,
                s.answers.to_string().into(),
                s.failures.to_string().into(),
                failure.map(|(why, at)| format!("{}: {why}", moment(at))).unwrap_or_default().into(),
            ]);
        }
    }
    list(args, &all, &columns, &rows, "No directory is published.")
}

async fn providers(args: &ClientArgs) -> Result<(), Exit> {
    let providers: Vec<Provider> = Client::new(args)?.get("/providers", &[]).await?;
    let columns = [
        fixed("provider"),
        fixed("kind"),
        fixed("sent"),
        fixed("answered"),
        fixed("never came back"),
        fixed("secret"),
        rest("issuer"),
    ];
    let rows: Vec<Vec<Cell>> = providers
        .iter()
        .map(|p| {
            let never = Cell(p.never_came_back.to_string(), if p.never_came_back > 0 { Tone::Bad } else { Tone::Plain });
            let secret = if p.secret_stored { Cell::from("stored") } else { Cell("missing".into(), Tone::Bad) };
            vec![
                p.name.clone().into(),
                p.kind.to_string().into(),
                p.sent.to_string().into(),
                p.answered.to_string().into(),
                never,
                secret,
                p.issuer.clone().into(),
            ]
        })
        .collect();
    list(args, &providers, &columns, &rows, "No provider is published.")
}
