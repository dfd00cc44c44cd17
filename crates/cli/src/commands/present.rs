//! `passeur present`: who is on a network, who was, and who had an address.

use chrono::{DateTime, Utc};
use passeur_api::{Accepted, EndAnswer, EndPresences, HadAddress, Presence, Presences, Quarter};
use uuid::Uuid;

use super::{list, no_csv};
use crate::args::{ClientArgs, Output, PresentCommand};
use crate::client::Client;
use crate::exit::Exit;
use crate::output::{Cell, Tone, fixed, json, moment, rest};

pub async fn run(args: PresentCommand, c: &ClientArgs) -> Result<(), Exit> {
    let client = Client::new(c)?;
    match args {
        PresentCommand::List { text, gate, all } => {
            let found = everybody(&client, text, gate, all).await?;
            if c.output == Output::Json {
                return json(&found);
            }
            let columns = [
                fixed("machine"),
                fixed("person"),
                fixed("zone"),
                fixed("address"),
                fixed("since"),
                fixed(if all { "ended" } else { "until" }),
                fixed("up"),
                fixed("down"),
                rest("open"),
            ];
            let rows: Vec<Vec<Cell>> = found.iter().map(|p| row(p, all)).collect();
            list(c, &found, &columns, &rows, "Nobody is on a network, tunnel or gateway that Passeur lets people into.")
        }
        PresentCommand::End { ids, text, gate } => {
            no_csv(c)?;
            let ids = match ids.is_empty() {
                false => ids,
                true => {
                    everybody(&client, text, gate, false).await?.iter().filter(|p| p.session.is_some()).map(|p| p.id).collect()
                }
            };
            end(&client, ids, c).await
        }
        PresentCommand::Who { address, from, until } => {
            let mut query = vec![("address", address)];
            query.extend(from.map(|m| ("from", m.to_rfc3339())));
            query.extend(until.map(|m| ("until", m.to_rfc3339())));
            let found: Vec<HadAddress> = client.get("/presences/addresses", &query).await?;
            let columns = [fixed("from"), fixed("until"), fixed("person"), fixed("subject"), fixed("machine"), rest("crossing")];
            let exact = |m: DateTime<Utc>| m.format("%Y-%m-%d %H:%M:%S").to_string();
            let rows: Vec<Vec<Cell>> = found
                .iter()
                .map(|h| {
                    vec![
                        exact(h.from).into(),
                        h.until.map_or_else(|| "still".to_owned(), exact).into(),
                        Cell(passeur_core::text::shorten(&h.name, 24), Tone::Strong),
                        passeur_core::text::shorten(&format!("{}/{}", h.provider, h.subject), 30).into(),
                        h.hardware.clone().unwrap_or_else(|| "—".to_owned()).into(),
                        h.crossing.clone().unwrap_or_else(|| "—".to_owned()).into(),
                    ]
                })
                .collect();
            list(c, &found, &columns, &rows, "Nobody whom Passeur let through had this address then.")
        }
        PresentCommand::Day { gate } => {
            let query: Vec<_> = gate.into_iter().map(|g| ("gate", g)).collect();
            let found: Vec<Quarter> = client.get("/presences/day", &query).await?;
            let columns = [fixed("from"), fixed("people"), fixed("machines"), fixed("up"), rest("down")];
            let rows: Vec<Vec<Cell>> = found
                .iter()
                .map(|q| {
                    vec![
                        moment(q.at).into(),
                        q.people.to_string().into(),
                        q.machines.to_string().into(),
                        octets(q.up).into(),
                        octets(q.down).into(),
                    ]
                })
                .collect();
            list(c, &found, &columns, &rows, "Nothing is known of the last day.")
        }
        PresentCommand::Terms { gate } => {
            let query: Vec<_> = gate.into_iter().map(|g| ("gate", g)).collect();
            let found: Vec<Accepted> = client.get("/presences/terms", &query).await?;
            let columns = [fixed("accepted"), fixed("version"), fixed("person"), fixed("gate"), rest("from")];
            let rows: Vec<Vec<Cell>> = found
                .iter()
                .map(|a| {
                    vec![
                        moment(a.at).into(),
                        passeur_core::text::shorten(&a.version, 20).into(),
                        Cell(passeur_core::text::shorten(&a.name, 24), Tone::Strong),
                        a.gate.clone().into(),
                        a.address.clone().into(),
                    ]
                })
                .collect();
            list(c, &found, &columns, &rows, "Nobody has accepted terms of use.")
        }
    }
}

/// Every page.
async fn everybody(client: &Client, text: Option<String>, gate: Option<String>, all: bool) -> Result<Vec<Presence>, Exit> {
    let mut out: Vec<Presence> = vec![];
    let mut before: Option<DateTime<Utc>> = None;
    loop {
        let mut query = vec![("limit", "1000".to_owned()), ("all", all.to_string())];
        query.extend(text.clone().map(|t| ("text", t)));
        query.extend(gate.clone().map(|g| ("gate", g)));
        query.extend(before.map(|b| ("before", b.to_rfc3339())));
        let page: Presences = client.get("/presences", &query).await?;
        out.extend(page.presences);
        match page.before {
            Some(next) if out.len() < 20_000 => before = Some(next),
            _ => return Ok(out),
        }
    }
}

fn octets(n: i64) -> String {
    passeur_core::site::octets_in_words(u64::try_from(n).unwrap_or(0), passeur_core::step::Lang::En)
}

fn row(p: &Presence, all: bool) -> Vec<Cell> {
    let open: Vec<&str> = p.opens.iter().map(|o| o.reach.as_str()).collect();
    let last = match (all, p.ended_at) {
        (true, Some(at)) => format!("{}, {}", moment(at), p.ended_by.as_deref().unwrap_or("—")),
        (true, None) => "on".to_owned(),
        (false, _) => p.until.map_or_else(|| "—".to_owned(), moment),
    };
    let disobeyed = p.gateway.as_ref().is_some_and(|g| g.disobeyed && p.ended_at.is_none());
    let tone = if p.in_kernel == Some(false) || disobeyed { Tone::Bad } else { Tone::Plain };
    let at_gateway = || p.gateway.as_ref().and_then(|g| g.number.clone()).map(|n| format!("№ {n}"));
    let known_by = p.hardware.clone().or_else(|| Some(p.address.clone()).filter(|a| !a.is_empty())).or_else(at_gateway);
    vec![
        Cell(passeur_core::text::shorten(&known_by.unwrap_or_else(|| "—".to_owned()), 24), tone),
        Cell(passeur_core::text::shorten(&p.name, 24), Tone::Strong),
        p.zone.clone().into(),
        match (&p.outside, p.addresses.first()) {
            (Some(outside), _) => format!("from {outside}"),
            (None, Some(address)) => address.clone(),
            (None, None) => "—".to_owned(),
        }
        .into(),
        moment(p.began).into(),
        last.into(),
        octets(p.up).into(),
        octets(p.down).into(),
        match (&p.gateway, open.is_empty()) {
            (Some(g), _) if disobeyed => format!("still on there; {}", g.order.as_deref().unwrap_or_default()),
            (Some(_), true) if p.session.is_none() => "let in by the gateway itself".to_owned(),
            (_, true) if p.tried => "nothing: on trial".to_owned(),
            (_, true) => "nothing".to_owned(),
            (_, false) => open.join(", "),
        }
        .into(),
    ]
}

async fn end(client: &Client, ids: Vec<Uuid>, c: &ClientArgs) -> Result<(), Exit> {
    if ids.is_empty() {
        return Err(Exit::NotFound("nobody like that is on: see `passeur present list`".into()));
    }
    let answer: EndAnswer = client.post("/presences/end", &EndPresences { presences: ids }).await?;
    if c.output == Output::Json {
        return json(&answer);
    }
    for id in &answer.ended {
        say!("ended session {id}, and what it opened");
    }
    if !answer.behind.is_empty() {
        say!("not acknowledged yet by: {}", passeur_core::text::visible(&answer.behind.join(", ")));
    }
    if answer.ended.is_empty() { Err(Exit::NotFound("none of these was on".into())) } else { Ok(()) }
}
