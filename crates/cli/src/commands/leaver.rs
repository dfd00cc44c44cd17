//! `passeur leaver`, `passeur kept-out` and `passeur let-in`.

use std::path::Path;

use passeur_api::{
    Block, FindRequest, FoundPeople, FoundPerson, LiftRequest, Lifted, LookUpState, Summary, SummaryAnswer, TakeAwayRequest,
    TakenAway,
};

use super::{list, no_csv, read_text};
use crate::args::{ClientArgs, Leaver, Output};
use crate::client::Client;
use crate::exit::Exit;
use crate::output::{Cell, Tone, fixed, json, moment, rest};

/// The line between a summary and its signature.
const SIGNED: &str = "signature: ";

pub async fn leaver(args: Leaver, c: &ClientArgs) -> Result<(), Exit> {
    let client = Client::new(c)?;
    if let Some(file) = &args.check {
        return check(&client, file, c).await;
    }
    let text = args.person.unwrap_or_default();
    let found: FoundPeople = client.post("/people/find", &FindRequest { text: text.clone() }).await?;
    if args.look {
        return show(&found, c);
    }
    no_csv(c)?;
    let people = match args.only.is_empty() {
        false => args.only,
        true => match unambiguous(&text, &found) {
            Some(people) => people,
            None => {
                show(&found, c)?;
                return Err(Exit::Failed(format!(
                    "\"{text}\" is not one person for certain, so nothing was taken away: name who is meant by --only PROVIDER/SUBJECT, once for each identity"
                )));
            }
        },
    };
    if people.is_empty() {
        return Err(Exit::NotFound(format!(
            "nobody is known here by \"{text}\". Whoever never came can be kept out all the same: --only PROVIDER/SUBJECT"
        )));
    }
    let block = (!args.no_block).then(|| args.why.clone());
    let ask = TakeAwayRequest { people, factors: !args.keep_factors, block };
    let taken: TakenAway = client.post("/people/take-away", &ask).await?;
    if let (Some(file), Some(summary)) = (&args.summary, &taken.summary) {
        let text = format!("{}{SIGNED}{}\n", summary.text, summary.signature);
        std::fs::write(file, text).map_err(|e| Exit::Failed(format!("{}: {e}", file.display())))?;
    }
    if c.output == Output::Json {
        return json(&taken);
    }
    say_taken(&taken);
    if taken.behind.is_empty() { Ok(()) } else { Err(Exit::No) }
}

/// The identities that a text means, where it can only mean one person: it is a mail address or an identity, or to the letter the name
/// or subject of the only one who was found; several bear one name at different providers. A part of a name is nobody's.
fn unambiguous(text: &str, found: &FoundPeople) -> Option<Vec<String>> {
    let distinct = |of: fn(&FoundPerson) -> String| found.people.iter().map(of).collect::<std::collections::HashSet<_>>().len();
    let names = distinct(|p| p.name.trim().to_lowercase());
    let providers = distinct(|p| p.person.split('/').next().unwrap_or_default().to_owned());
    let is = |p: &FoundPerson| {
        let subject = p.person.split_once('/').map_or("", |(_, s)| s);
        [p.name.trim(), subject].iter().any(|n| n.to_lowercase() == text.trim().to_lowercase())
    };
    let whole = text.contains(['@', '/']) || found.people.len() == 1 && found.people.iter().all(is);
    let same = names <= 1 && providers == found.people.len();
    (!found.more && (found.people.is_empty() || whole && same)).then(|| found.people.iter().map(|p| p.person.clone()).collect())
}

fn show(found: &FoundPeople, c: &ClientArgs) -> Result<(), Exit> {
    let columns = [
        rest("identity"),
        fixed("name"),
        fixed("sessions"),
        fixed("tokens"),
        fixed("factors"),
        fixed("last seen"),
        fixed("kept out"),
        fixed("found by"),
    ];
    let rows: Vec<Vec<Cell>> = found
        .people
        .iter()
        .map(|p| {
            vec![
                Cell(p.person.clone(), Tone::Strong),
                p.name.clone().into(),
                p.sessions.to_string().into(),
                (p.personal_tokens + p.api_tokens).to_string().into(),
                (p.factors + p.recovery_codes.min(1)).to_string().into(),
                p.seen.map(moment).unwrap_or_default().into(),
                p.blocked.clone().unwrap_or_default().into(),
                p.shares.clone().unwrap_or_default().into(),
            ]
        })
        .collect();
    list(c, found, &columns, &rows, "Nobody is known here by that.")?;
    if c.output == Output::Text {
        for e in &found.entries {
            let none = || {
                if e.state == LookUpState::NoEntry { "nothing under that, by its key".to_owned() } else { e.state.to_string() }
            };
            let entry = e.entry.clone().unwrap_or_else(none);
            say!("directory {}: {}", passeur_core::text::visible(&e.directory), passeur_core::text::visible(&entry));
        }
        if found.more {
            say!("More were found than are shown: give something that fewer have.");
        }
    }
    Ok(())
}

fn say_taken(taken: &TakenAway) {
    let visible = passeur_core::text::visible;
    say!("taken away from {}:", visible(&taken.people.join(", ")));
    let names = |all: &[String]| if all.is_empty() { "none".to_owned() } else { visible(&all.join(", ")).to_string() };
    say!("  sessions ended   {}", taken.sessions.len());
    say!("  personal tokens  {}", names(&taken.personal_tokens));
    say!("  API tokens       {}", names(&taken.api_tokens));
    say!("  factors          {}", names(&taken.factors));
    say!("  recovery codes   {}", taken.recovery_codes);
    say!("  command lines    {}", taken.devices);
    say!("  profiles         {}", names(&taken.profiles));
    say!("  kept passwords   {}", taken.kept);
    match taken.blocked.is_empty() {
        true => say!("They are not kept out: whoever the rules admit may come back."),
        false => {
            say!("They are kept out of every gate and the console until `passeur let-in {}`.", visible(&taken.blocked.join(" ")))
        }
    }
    if !taken.outside.is_empty() {
        say!("What may live on outside, where nothing can be taken away from here:");
        for o in &taken.outside {
            let until = o.until.map(|u| format!(", until {} at the latest", u.format("%Y-%m-%d %H:%M UTC"))).unwrap_or_default();
            say!("  {}{until}", visible(&o.what));
        }
    }
    if !taken.behind.is_empty() {
        say!("Not acknowledged yet by: {}", visible(&taken.behind.join(", ")));
    }
}

/// Whether a kept summary is one of the service, unaltered.
async fn check(client: &Client, file: &Path, c: &ClientArgs) -> Result<(), Exit> {
    no_csv(c)?;
    let whole = read_text(file)?;
    let (text, signature) =
        whole.rsplit_once(SIGNED).ok_or_else(|| Exit::Failed(format!("{} has no signature", file.display())))?;
    let ask = Summary { text: text.to_owned(), signature: signature.trim().to_owned() };
    let answer: SummaryAnswer = client.post("/people/summary", &ask).await?;
    if c.output == Output::Json {
        json(&answer)?;
    } else if answer.genuine {
        say!("The summary is this service's, to the letter.");
    } else {
        say!("The summary is not this service's, or was altered.");
    }
    if answer.genuine { Ok(()) } else { Err(Exit::No) }
}

pub async fn kept_out(c: &ClientArgs) -> Result<(), Exit> {
    let blocks: Vec<Block> = Client::new(c)?.get("/blocks", &[]).await?;
    let columns = [rest("identity"), fixed("name"), fixed("since"), fixed("by"), fixed("because")];
    let rows: Vec<Vec<Cell>> = blocks
        .iter()
        .map(|b| {
            vec![
                Cell(b.person.clone(), Tone::Strong),
                b.name.clone().into(),
                moment(b.at).into(),
                b.by.clone().into(),
                b.why.clone().into(),
            ]
        })
        .collect();
    list(c, &blocks, &columns, &rows, "Nobody is kept out.")
}

pub async fn let_in(people: Vec<String>, c: &ClientArgs) -> Result<(), Exit> {
    no_csv(c)?;
    let lifted: Lifted = Client::new(c)?.post("/people/lift", &LiftRequest { people }).await?;
    if c.output == Output::Json {
        return json(&lifted);
    }
    for p in &lifted.lifted {
        say!("{} may come in again, where the rules admit them; what was taken away stays away", passeur_core::text::visible(p));
    }
    if lifted.lifted.is_empty() {
        Err(Exit::NotFound("none of these is kept out: see `passeur kept-out`".into()))
    } else {
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn found(names: &[(&str, &str)], more: bool) -> FoundPeople {
        let person = |(person, name): &(&str, &str)| FoundPerson {
            person: (*person).to_owned(),
            name: (*name).to_owned(),
            seen: None,
            shares: None,
            sessions: 0,
            kept: 0,
            personal_tokens: 0,
            api_tokens: 0,
            factors: 0,
            recovery_codes: 0,
            devices: 0,
            entries: vec![],
            blocked: None,
        };
        FoundPeople { people: names.iter().map(person).collect(), entries: vec![], more }
    }

    #[test]
    fn nothing_is_taken_from_anybody_whom_a_text_may_not_mean() {
        let one = found(&[("pilotage/p-1", "Anouk Le Goff"), ("masters/m-7", "anouk le goff")], false);
        let both = Some(vec!["pilotage/p-1".to_owned(), "masters/m-7".to_owned()]);
        assert_eq!(unambiguous("anouk@havrelune.example", &one), both);
        assert_eq!(unambiguous("pilotage/p-1", &one), both);
        // Two people may bear one name.
        assert_eq!(unambiguous("Anouk Le Goff", &one), None);
        assert_eq!(unambiguous("x@y.example", &found(&[("a/1", "Jean Dupré"), ("a/2", "Jean Dupré")], false)), None);
        assert_eq!(unambiguous("x@y.example", &found(&[("a/1", "Jean Dupré"), ("b/2", "The desk")], false)), None);
        for whole in ["jean dupré", "1", " Jean Dupré"] {
            assert_eq!(unambiguous(whole, &found(&[("a/1", "Jean Dupré")], false)), Some(vec!["a/1".to_owned()]), "{whole}");
        }
        assert_eq!(unambiguous("Jean", &found(&[("a/1", "Jean Dupré")], false)), None);
        assert_eq!(unambiguous("Jean Dupré", &found(&[("a/1", "Jean Dupré")], true)), None);
        assert_eq!(unambiguous("nobody", &found(&[], false)), Some(vec![]));
    }
}
