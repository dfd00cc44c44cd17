//! `passeur acts`.

use passeur_api::{Act, ActList, ActsCheck, EraseAnswer, EraseRequest};

use super::crossings::moment_of;
use super::{list, no_csv};
use crate::args::{Acts, ActsCommand, ClientArgs, Output};
use crate::client::Client;
use crate::exit::Exit;
use crate::output::{Cell, Screen, Tone, fixed, json, moment, rest};

/// What an act was done to, in one line.
fn about(a: &Act) -> String {
    let mut parts: Vec<String> = vec![];
    if let Some(map) = a.about.as_object() {
        for (name, value) in map {
            let value = match value {
                serde_json::Value::Null => continue,
                serde_json::Value::String(s) => s.clone(),
                serde_json::Value::Array(l) if l.is_empty() => continue,
                serde_json::Value::Array(l) => {
                    l.iter().map(|v| v.as_str().map_or_else(|| v.to_string(), str::to_owned)).collect::<Vec<_>>().join(", ")
                }
                other => other.to_string(),
            };
            parts.push(format!("{} {value}", name.replace('_', " ")));
        }
    }
    if !a.people.is_empty() {
        parts.push(format!("of {}", a.people.join(", ")));
    }
    parts.join("; ")
}

pub async fn run(args: Acts, c: &ClientArgs) -> Result<(), Exit> {
    let client = Client::new(c)?;
    match args.what {
        None => {
            let at = |option, text: Option<&str>| text.map(|t| moment_of(option, t, chrono::Utc::now())).transpose();
            let limit = if args.all { 500 } else { args.limit };
            let mut query = vec![("limit", limit.to_string())];
            let mut add = |name, value: Option<String>| query.extend(value.map(|v| (name, v)));
            add("what", args.what_done);
            add("person", args.person);
            add("since", at("--since", args.since.as_deref())?.map(|t| t.to_rfc3339()));
            add("until", at("--until", args.until.as_deref())?.map(|t| t.to_rfc3339()));
            let mut answer: ActList = client.get("/acts", &query).await?;
            while let Some(next) = answer.next.take_if(|_| args.all) {
                query.retain(|(n, _)| *n != "before");
                query.push(("before", next.to_string()));
                let more: ActList = client.get("/acts", &query).await?;
                answer.acts.extend(more.acts);
                answer.next = more.next;
            }
            let columns = [fixed("act"), fixed("time"), fixed("who"), fixed("by"), fixed("what"), rest("about")];
            let rows: Vec<Vec<Cell>> = answer
                .acts
                .iter()
                .map(|a| {
                    let who = a.who.clone().map_or_else(|| Cell("erased".into(), Tone::Quiet), Cell::from);
                    vec![
                        a.number.to_string().into(),
                        moment(a.at).into(),
                        who,
                        a.by.clone().unwrap_or_default().into(),
                        Cell(a.what.clone(), Tone::Strong),
                        about(a).into(),
                    ]
                })
                .collect();
            list(c, &answer, &columns, &rows, "No act fits.")
        }
        Some(ActsCommand::Check { number, head }) => {
            no_csv(c)?;
            let mut query = vec![];
            if let (Some(n), Some(h)) = (number, head) {
                query = vec![("number", n.to_string()), ("head", h)];
            }
            let found: ActsCheck = client.get("/acts/check", &query).await?;
            let s = Screen::of_stdout();
            if c.output == Output::Json {
                json(&found)?;
            } else if found.holds {
                let erased = if found.erased > 0 { format!(", names erased in {}", found.erased) } else { String::new() };
                say!("{}: {} acts{erased}", s.paint("the record holds", Tone::Good), found.acts);
                say!("count and head, to note elsewhere: {} {}", found.acts, found.head);
            } else {
                let (at, why) = (found.broken_at.unwrap_or_default(), found.why.clone().unwrap_or_default());
                say!("{}: act {at}: {}", s.paint("the record does not hold", Tone::Bad), s.paint(&why, Tone::Plain));
            }
            if found.holds { Ok(()) } else { Err(Exit::No) }
        }
        Some(ActsCommand::Erase { person }) => {
            no_csv(c)?;
            let answer: EraseAnswer = client.post("/acts/erase", &EraseRequest { person }).await?;
            if c.output == Output::Json {
                return json(&answer);
            }
            say!("names are erased from {} acts", answer.acts);
            Ok(())
        }
    }
}
