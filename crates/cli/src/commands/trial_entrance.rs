//! `passeur trial entrance`: an engineer connects by an entrance of tunnels with nothing opened, and reads all of it.

use std::time::Duration;

use passeur_api::{EntranceTrial, EntranceTrialRequest, EntranceTried, TriedStage, WaitingClient};

use super::crossings::step_lines;
use super::{list, no_csv};
use crate::args::{ClientArgs, Output, TrialEntrance};
use crate::client::Client;
use crate::exit::Exit;
use crate::output::{Screen, Tone, fixed, json, moment, rest, wrap};

/// How often it is asked what came.
const EVERY: Duration = Duration::from_secs(1);

pub async fn run(args: TrialEntrance, c: &ClientArgs) -> Result<(), Exit> {
    let client = Client::new(c)?;
    if args.list {
        return show_list(&client, c).await;
    }
    no_csv(c)?;
    let trial: EntranceTrial = match (args.id, args.entrance) {
        (Some(id), _) if args.end => client.delete(&at(id)).await?,
        (Some(id), _) => client.get(&at(id), &[]).await?,
        (None, Some(entrance)) => {
            let ask = EntranceTrialRequest { entrance, from: args.from, person: args.person };
            client.post("/trials/entrance", &ask).await?
        }
        (None, None) => return Err(Exit::Failed("say which entrance".into())),
    };
    if args.end {
        return shown(&trial, c);
    }
    // What to do next is for the one who sits there; what came is for programs as well.
    for line in guide(&trial) {
        eprintln!("{}", passeur_core::text::visible(&line));
    }
    let trial = follow(&client, trial).await?;
    if trial.open && !args.keep {
        // What is shown is how it came, and not that it was ended by this.
        let _: EntranceTrial = client.delete(&at(trial.id)).await?;
    }
    shown(&trial, c)
}

fn at(id: uuid::Uuid) -> String {
    format!("/trials/entrance/{id}")
}

async fn show_list(client: &Client, c: &ClientArgs) -> Result<(), Exit> {
    let all: Vec<EntranceTrial> = client.get("/trials/entrance", &[]).await?;
    let row = |t: &EntranceTrial| {
        let tried = t.came.to_string();
        vec![
            t.entrance.clone().into(),
            whom(t).into(),
            t.begun_by.clone().into(),
            moment(t.until).into(),
            tried.into(),
            t.id.to_string().into(),
        ]
    };
    let columns = [fixed("ENTRANCE"), rest("FOR WHOM"), fixed("BY"), fixed("UNTIL"), fixed("CAME"), fixed("ID")];
    list(c, &all, &columns, &all.iter().map(row).collect::<Vec<_>>(), "No trial of an entrance goes on.")
}

/// Whom it is about.
fn whom(trial: &EntranceTrial) -> String {
    match (&trial.from, &trial.person) {
        (Some(from), Some(person)) => format!("{person} from {from}"),
        (Some(from), None) => format!("clients from {from}"),
        (None, Some(person)) => person.clone(),
        (None, None) => "whoever connects".to_owned(),
    }
}

/// What to do, and what is wrong before any client comes.
fn guide(trial: &EntranceTrial) -> Vec<String> {
    let (id, entrance, until) = (trial.id, &trial.entrance, moment(trial.until));
    let mut out = vec![format!("Trial {id} of entrance {entrance} for {}, until {until}. Nothing is opened to it.", whom(trial))];
    for f in &trial.findings {
        out.extend([format!("! {} {}", f.what, f.seen), format!("  → {}", f.remedy)]);
    }
    out.push(match trial.servers.as_slice() {
        [] => "Connect with a client now.".to_owned(),
        servers => format!("Connect with a client to {} now.", servers.join(" or ")),
    });
    out
}

/// Waits until a connection of it has come to an end of some kind, or it is over.
async fn follow(client: &Client, mut trial: EntranceTrial) -> Result<EntranceTrial, Exit> {
    let mut told = vec![];
    loop {
        for line in trial.waiting.iter().map(waits).chain(trial.tried.iter().map(came)).rev() {
            if !told.contains(&line) {
                eprintln!("{}", passeur_core::text::visible(&line));
                told.push(line);
            }
        }
        let is_done = |t: &EntranceTried| matches!(t.stage, TriedStage::Refused | TriedStage::Stands | TriedStage::Over);
        if !trial.open || trial.tried.first().is_some_and(is_done) {
            return Ok(trial);
        }
        tokio::time::sleep(EVERY).await;
        trial = client.get(&at(trial.id), &[]).await?;
    }
}

fn waits(w: &WaitingClient) -> String {
    let says = if w.says.is_empty() { "says nothing of itself".to_owned() } else { format!("says that it is {}", w.says) };
    match w.answered {
        false => {
            format!("A client at {} connected and {says}; it waits for its person, to whom it shows where to sign in.", w.outside)
        }
        true => format!("The person of the client at {} answered.", w.outside),
    }
}

fn came(t: &EntranceTried) -> String {
    format!("{}: {}", t.crossing.line.person.as_deref().unwrap_or("Somebody"), t.stage_words)
}

/// All of it; no where the last that came was not let in, or nobody came.
fn shown(trial: &EntranceTrial, c: &ClientArgs) -> Result<(), Exit> {
    if c.output == Output::Json {
        json(trial)?;
    } else {
        print_all(&Screen::of_stdout(), trial);
    }
    match trial.tried.first() {
        Some(t) if t.stage != TriedStage::Refused => Ok(()),
        _ => Err(Exit::No),
    }
}

fn print_all(s: &Screen, trial: &EntranceTrial) {
    if trial.tried.is_empty() {
        say!("Nobody came by entrance {} in this trial.", s.paint(&trial.entrance, Tone::Strong));
    }
    for t in trial.tried.iter().rev() {
        let tone = if t.stage == TriedStage::Refused { Tone::Bad } else { Tone::Good };
        let (who, line) = (t.crossing.line.person.as_deref().unwrap_or("somebody"), &t.crossing.line);
        say!(
            "{}  {}, entrance {}, crossing {}",
            s.paint(&t.stage_words, tone),
            s.paint(who, Tone::Strong),
            trial.entrance,
            line.id
        );
        for (name, of) in [("would be open", &t.would_open), ("addresses", &t.addresses), ("told", &t.lines)] {
            if !of.is_empty() {
                say!("  {name:<14} {}", wrap(&s.paint(&of.join(", "), Tone::Plain), s.width, 17));
            }
        }
        for step in &t.crossing.steps {
            say!("{}", step_lines(s, step));
        }
        say!();
    }
}
