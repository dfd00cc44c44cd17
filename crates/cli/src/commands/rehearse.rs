//! `passeur rehearse`.

use passeur_api::{Affected, Effect, Fare, FareVerdict, PersonRehearsal, PersonRequest, Rehearsal, RehearseRequest, TunnelAsked};
use passeur_core::text::shorten;

use super::crossings::step_lines;
use super::no_csv;
use super::site::source;
use crate::args::{ClientArgs, Output, PersonArgs, Rehearse, RehearsePerson};
use crate::client::Client;
use crate::exit::Exit;
use crate::output::{Cell, Column, Screen, Tone, fixed, json, moment, rest, table, wrap};

/// The most people printed of one kind; JSON holds more.
const SHOWN: usize = 50;

fn people(s: &Screen, title: &str, tone: Tone, crossings: i64, all: &[Affected]) {
    if all.is_empty() {
        return;
    }
    say!();
    say!("{}  {} people, {crossings} crossings", s.paint(title, tone), all.len());
    let columns: [Column; 5] = [fixed("person"), fixed("gate"), fixed("crossings"), fixed("last"), rest("what")];
    let rows: Vec<Vec<Cell>> = all
        .iter()
        .take(SHOWN)
        .map(|a| {
            let what = if a.what.is_empty() { a.then.clone() } else { a.what.join("; ") };
            vec![
                shorten(&a.person, 28).into(),
                a.gate.clone().into(),
                a.crossings.to_string().into(),
                moment(a.last).into(),
                what.into(),
            ]
        })
        .collect();
    tell!("{}", table(s, &columns, &rows));
    if all.len() > SHOWN {
        say!("and {} more; --output json lists them", all.len() - SHOWN);
    }
}

fn show_past(s: &Screen, r: &Rehearsal) {
    say!(
        "{} against {}, on {} crossings since {} ({} of them distinct, {} ms)",
        s.paint(&r.after, Tone::Strong),
        r.before,
        r.crossings,
        r.since.format("%Y-%m-%d %H:%M UTC"),
        r.distinct,
        r.millis
    );
    say!(
        "{} the same, {} would be refused, {} would come in, {} with other values, {} cannot be known",
        r.same,
        r.refused,
        r.admitted,
        r.differing,
        r.not_known
    );
    people(s, "would be refused", Tone::Bad, r.refused, &r.refuses);
    people(s, "would come in", Tone::Good, r.admitted, &r.admits);
    people(s, "would get other values", Tone::Strong, r.differing, &r.differs);
    people(s, "cannot be known", Tone::Quiet, r.not_known, &r.cannot_be_known);
}

fn verdict(s: &Screen, f: &Fare) -> String {
    let (word, tone) = match f.verdict {
        FareVerdict::In => ("comes in", Tone::Good),
        FareVerdict::Out => ("is refused", Tone::Bad),
        FareVerdict::NoGate => ("no such gate", Tone::Quiet),
        FareVerdict::NotKnown => ("cannot be known", Tone::Quiet),
    };
    s.paint(word, tone)
}

fn fare(s: &Screen, when: &str, f: &Fare, story: bool) {
    say!("  {when}: {}", verdict(s, f));
    if !f.because.is_empty() {
        say!("    {}", wrap(&s.paint(&f.because, Tone::Plain), s.width, 4));
    }
    for t in &f.terms {
        say!("    {}", s.paint(t, Tone::Plain));
    }
    for h in &f.headers {
        say!("    {}", wrap(&s.paint(h, Tone::Plain), s.width, 6));
    }
    if story {
        for step in &f.steps {
            say!("{}", step_lines(s, step));
        }
    }
}

fn show_person(s: &Screen, r: &PersonRehearsal, story: bool) {
    for (i, g) in r.gates.iter().enumerate() {
        if i > 0 {
            say!();
        }
        let (word, tone) = match g.effect {
            Effect::Same => ("the same", Tone::Quiet),
            Effect::Refused => ("would be refused", Tone::Bad),
            Effect::Admitted => ("would come in", Tone::Good),
            Effect::Differs => ("would get other values", Tone::Strong),
            Effect::NotKnown => ("cannot be known", Tone::Quiet),
        };
        say!("{}  {}", s.paint(&g.gate, Tone::Strong), if r.before == r.after { String::new() } else { s.paint(word, tone) });
        for what in &g.what {
            say!("  {}", wrap(&s.paint(what, Tone::Plain), s.width, 2));
        }
        fare(s, &r.before, &g.now, story);
        if r.before != r.after {
            fare(s, &r.after, &g.then, story);
        }
    }
}

/// Whom the arguments mean.
pub(super) fn request(args: PersonArgs) -> Result<PersonRequest, Exit> {
    let PersonArgs { source: of, provider, subject, fresh, claim, group, attribute, amr, acr, gate, address, at, .. } = args;
    let (platform, version, profile) = (args.platform, args.client_version, args.profile);
    let tunnel = args.entrance.map(|entrance| TunnelAsked { entrance, platform, version, profile });
    let mut attributes = std::collections::BTreeMap::<String, Vec<String>>::new();
    for (name, value) in attribute {
        attributes.entry(name).or_default().push(value);
    }
    let device = match args.device_check.as_slice() {
        [] => None,
        [none] if none == "none" => Some(vec![]),
        _ => Some(args.device_check),
    };
    Ok(PersonRequest {
        source: source(&of)?,
        device,
        provider: provider
            .ok_or_else(|| Exit::Usage("say who: --provider NAME, with --subject, or somebody described by hand".into()))?,
        claims: subject.is_none().then(|| claim.into_iter().map(|(n, v)| (n, v.into())).collect()),
        subject,
        fresh,
        amr,
        acr,
        groups: (!group.is_empty()).then_some(group),
        attributes,
        gate,
        address,
        at,
        method: None,
        path: None,
        tunnel,
    })
}

pub async fn run(args: Rehearse, c: &ClientArgs) -> Result<(), Exit> {
    no_csv(c)?;
    let client = Client::new(c)?;
    let s = Screen::of_stdout();
    match args {
        Rehearse::Past { source: of, days, gate } => {
            let ask = RehearseRequest { source: source(&of)?, days: Some(days), gate };
            let answer: Rehearsal = client.post("/rehearse", &ask).await?;
            if c.output == Output::Json {
                return json(&answer);
            }
            show_past(&s, &answer);
            Ok(())
        }
        Rehearse::Person(ask) => {
            let RehearsePerson { person, method, path, story } = *ask;
            let ask = PersonRequest { method, path, ..request(person)? };
            let answer: PersonRehearsal = client.post("/rehearse/person", &ask).await?;
            if c.output == Output::Json {
                return json(&answer);
            }
            show_person(&s, &answer, story);
            Ok(())
        }
    }
}
