//! `passeur sessions`, `passeur end` and `passeur person`.

use passeur_api::{
    EndAnswer, EndRequest, Factors, FactorsRemoved, LookUpAnswer, LookUpRequest, LookUpState, PersonRoles, PersonalToken, ReRead,
    Session, TokensRevoked,
};
use uuid::Uuid;

use super::{list, no_csv};
use crate::args::{ClientArgs, Output};
use crate::client::{Client, segment};
use crate::exit::Exit;
use crate::output::{Cell, Screen, Tone, fixed, json, moment, rest, wrap};

pub async fn sessions(person: Option<String>, c: &ClientArgs) -> Result<(), Exit> {
    let query: Vec<_> = person.into_iter().map(|p| ("person", p)).collect();
    let sessions: Vec<Session> = Client::new(c)?.get("/sessions", &query).await?;
    let columns = [fixed("session"), fixed("person"), fixed("subject"), fixed("began"), fixed("last seen"), rest("address")];
    let rows: Vec<Vec<Cell>> = sessions
        .iter()
        .map(|s| {
            vec![
                s.id.to_string().into(),
                Cell(passeur_core::text::shorten(&s.name, 24), Tone::Strong),
                passeur_core::text::shorten(&s.subject, 24).into(),
                moment(s.began).into(),
                moment(s.last_seen).into(),
                s.address.clone().into(),
            ]
        })
        .collect();
    list(c, &sessions, &columns, &rows, "Nobody has a live session.")
}

pub async fn end(ids: Vec<Uuid>, subject: Option<String>, c: &ClientArgs) -> Result<(), Exit> {
    no_csv(c)?;
    let client = Client::new(c)?;
    let ids = chosen(&client, ids, subject).await?;
    let answer: EndAnswer = client.post("/sessions/end", &EndRequest { sessions: ids }).await?;
    if c.output == Output::Json {
        return json(&answer);
    }
    for id in &answer.ended {
        say!("ended {id}");
    }
    if !answer.behind.is_empty() {
        say!("not acknowledged yet by: {}", passeur_core::text::visible(&answer.behind.join(", ")));
    }
    if answer.ended.is_empty() { Err(Exit::NotFound("none of these was live".into())) } else { Ok(()) }
}

/// Session ids as given, or those of a subject.
async fn chosen(client: &Client, mut ids: Vec<Uuid>, subject: Option<String>) -> Result<Vec<Uuid>, Exit> {
    if let Some(subject) = subject {
        let query = [("person", subject.clone()), ("limit", "1000".to_owned())];
        let found: Vec<Session> = client.get("/sessions", &query).await?;
        ids = found.into_iter().filter(|s| s.subject == subject).map(|s| s.id).collect();
    }
    if ids.is_empty() {
        return Err(Exit::NotFound("no such live session: see `passeur sessions`".into()));
    }
    Ok(ids)
}

pub async fn re_read(ids: Vec<Uuid>, subject: Option<String>, c: &ClientArgs) -> Result<(), Exit> {
    no_csv(c)?;
    let client = Client::new(c)?;
    let sessions = chosen(&client, ids, subject).await?;
    let answer: Vec<ReRead> = client.post("/sessions/re-read", &EndRequest { sessions }).await?;
    if c.output == Output::Json {
        return json(&answer);
    }
    let s = Screen::of_stdout();
    for r in &answer {
        say!("{} {}", s.paint(&r.name, Tone::Strong), r.session);
        for d in &r.directories {
            let list =
                |groups: &[String]| if groups.is_empty() { "none".to_owned() } else { s.paint(&groups.join(", "), Tone::Plain) };
            say!("  {}: {}; groups gained: {}; lost: {}", d.directory, d.state, list(&d.gained), list(&d.lost));
        }
        if r.ended {
            say!("  {}", s.paint("gone from the directory: the session is ended", Tone::Bad));
        }
    }
    Ok(())
}

/// The path of a person who is written as `provider/subject`.
fn path_of(person: &str) -> Result<String, Exit> {
    match person.split_once('/') {
        Some((provider, subject)) => Ok(format!("/people/{}/{}", segment(provider), segment(subject))),
        None => Err(Exit::NotFound("write the person as provider/subject: see `passeur sessions --output json`".into())),
    }
}

pub async fn personal_tokens(person: &str, revoke: Option<Uuid>, all: bool, c: &ClientArgs) -> Result<(), Exit> {
    let client = Client::new(c)?;
    let path = format!("{}/tokens", path_of(person)?);
    if revoke.is_some() || all {
        no_csv(c)?;
        let query = revoke.map(|id| format!("?id={id}")).unwrap_or_default();
        let gone: TokensRevoked = client.delete(&format!("{path}{query}")).await?;
        if c.output == Output::Json {
            return json(&gone);
        }
        for name in &gone.revoked {
            say!("revoked {}", passeur_core::text::visible(name));
        }
        say!("{} sessions ended", gone.ended.len());
        return match gone.revoked.is_empty() {
            true => Err(Exit::NotFound("there was no such token".into())),
            false => Ok(()),
        };
    }
    let found: Vec<PersonalToken> = client.get(&path, &[]).await?;
    let columns = [fixed("token"), fixed("name"), fixed("until"), fixed("used"), rest("good for")];
    let rows: Vec<Vec<Cell>> = found
        .iter()
        .map(|t| {
            let used = t.used.map_or_else(|| "never".to_owned(), moment).into();
            let name = Cell(passeur_core::text::shorten(&t.name, 30), Tone::Strong);
            let places = t.paths.as_ref().map(|p| format!(" {}", p.join(" "))).unwrap_or_default();
            vec![t.id.to_string().into(), name, moment(t.until).into(), used, format!("{}{places}", t.gates.join(", ")).into()]
        })
        .collect();
    list(c, &found, &columns, &rows, "This person has made none.")
}

pub async fn factors(person: &str, remove: Option<Uuid>, reset: bool, c: &ClientArgs) -> Result<(), Exit> {
    let client = Client::new(c)?;
    let path = format!("{}/factors", path_of(person)?);
    if remove.is_some() || reset {
        no_csv(c)?;
        let query = remove.map(|id| format!("?id={id}")).unwrap_or_default();
        let gone: FactorsRemoved = client.delete(&format!("{path}{query}")).await?;
        if c.output == Output::Json {
            return json(&gone);
        }
        for name in &gone.removed {
            say!("removed {}", passeur_core::text::visible(name));
        }
        return match gone.removed.is_empty() {
            true => Err(Exit::NotFound("there was no such factor".into())),
            false => Ok(()),
        };
    }
    let found: Factors = client.get(&path, &[]).await?;
    let columns = [fixed("factor"), fixed("kind"), fixed("name"), fixed("enrolled"), rest("used")];
    let rows: Vec<Vec<Cell>> = found
        .factors
        .iter()
        .map(|f| {
            let used = f.used.map_or_else(|| "never".to_owned(), |at| at.format("%Y-%m-%d %H:%M:%S").to_string());
            let name = Cell(passeur_core::text::shorten(&f.name, 30), Tone::Strong);
            vec![f.id.to_string().into(), f.kind.to_string().into(), name, moment(f.enrolled).into(), used.into()]
        })
        .collect();
    list(c, &found, &columns, &rows, "This person has enrolled none.")?;
    if c.output == Output::Text && !rows.is_empty() {
        say!("recovery codes left: {}", found.recovery_codes);
    }
    Ok(())
}

pub async fn roles(person: &str, c: &ClientArgs) -> Result<(), Exit> {
    let found: PersonRoles = Client::new(c)?.get(&format!("{}/roles", path_of(person)?), &[]).await?;
    let columns = [fixed("gate"), fixed("since"), fixed("crossing"), rest("roles")];
    let of = |roles: &[String]| if roles.is_empty() { "none".to_owned() } else { roles.join(", ") };
    let rows: Vec<Vec<Cell>> = found
        .roles
        .iter()
        .map(|r| vec![Cell(r.gate.clone(), Tone::Strong), moment(r.since).into(), r.crossing.clone().into(), of(&r.roles).into()])
        .collect();
    list(c, &found, &columns, &rows, "Nothing was decided for this person while crossings were kept.")?;
    if c.output == Output::Text {
        let s = Screen::of_stdout();
        for change in &found.changes {
            say!();
            let head = format!("{}  {}", moment(change.at), change.gate);
            say!("{}  crossing {}", s.paint(&head, Tone::Strong), change.crossing);
            for (sign, roles, tone) in [("+", &change.gained, Tone::Good), ("−", &change.lost, Tone::Bad)] {
                if !roles.is_empty() {
                    say!("  {} {}", s.paint(sign, tone), s.paint(&roles.join(", "), Tone::Plain));
                }
            }
            for why in &change.why {
                say!("    {}", wrap(&s.paint(why, Tone::Quiet), s.width, 4));
            }
        }
    }
    Ok(())
}

pub async fn person(value: &str, directory: &str, c: &ClientArgs) -> Result<(), Exit> {
    no_csv(c)?;
    let ask = LookUpRequest { value: value.to_owned() };
    let found: LookUpAnswer = Client::new(c)?.post(&format!("/directories/{}/look-up", segment(directory)), &ask).await?;
    if c.output == Output::Json {
        json(&found)?;
    } else {
        print(&found);
    }
    if found.dn.is_some() { Ok(()) } else { Err(Exit::No) }
}

fn print(f: &LookUpAnswer) {
    let s = Screen::of_stdout();
    let tone = if f.state == LookUpState::Answered { Tone::Good } else { Tone::Bad };
    say!("{} = {} in {}", s.paint(&f.key, Tone::Plain), s.paint(&f.value, Tone::Strong), s.paint(&f.directory, Tone::Plain));
    say!("{}", wrap(&s.paint(&f.words, tone), s.width, 0));
    for a in &f.attributes {
        let value = match &a.absent {
            Some(why) => s.paint(&format!("— {why}"), Tone::Quiet),
            None => s.paint(&a.values.join(", "), Tone::Plain),
        };
        say!("  {:<16} {value}  {}", passeur_core::text::visible(&a.name), s.paint(&format!("({})", a.from), Tone::Quiet));
    }
    if f.dn.is_some() {
        say!("  in {} groups{}", f.groups.len(), if f.cached { ", from the cache" } else { "" });
    }
    for g in &f.groups {
        let via = g.via.as_ref().map(|v| format!("  through {v}")).unwrap_or_default();
        say!("    {}{}", s.paint(&g.name, Tone::Plain), s.paint(&via, Tone::Quiet));
    }
}
