//! `passeur reach` and `passeur zone`.

use passeur_api::{FareVerdict, Reach, ReachAnswer, ReachRequest, ZoneProposal};

use super::crossings::step_lines;
use super::rehearse::request;
use super::site::source;
use super::{list, no_csv};
use crate::args::{ClientArgs, Output, ReachCommand, ReachTry, ZoneCommand};
use crate::client::Client;
use crate::exit::Exit;
use crate::output::{Screen, Tone, json, moment, wrap};

/// Whether every step is told.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Telling {
    Answer,
    Story,
}

pub async fn run(args: ReachCommand, c: &ClientArgs) -> Result<(), Exit> {
    let client = Client::new(c)?;
    match args {
        ReachCommand::List => {
            let all: Vec<Reach> = client.get("/reaches", &[]).await?;
            if c.output != Output::Text {
                return list(c, &all, &[], &[], "");
            }
            show_all(&Screen::of_stdout(), &all);
            Ok(())
        }
        ReachCommand::Try(ask) => {
            no_csv(c)?;
            let ReachTry { to, nobody, device, mut person, story } = *ask;
            let gate = person.gate.clone();
            let machine = match (device, nobody || person.provider.is_some()) {
                (Some(hardware), _) => Some(hardware),
                (None, false) => person.address.take(),
                (None, true) => None,
            };
            let at = person.at.filter(|_| machine.is_some());
            let (source, person) = match nobody || machine.is_some() {
                true => (source(&person.source)?, None),
                false => {
                    let mut asked = request(person)?;
                    (std::mem::take(&mut asked.source), Some(asked))
                }
            };
            let ask = ReachRequest { to, gate, source, person, machine, at };
            let answer: ReachAnswer = client.post("/reach/try", &ask).await?;
            if c.output == Output::Json {
                return json(&answer);
            }
            show(&Screen::of_stdout(), &answer, ask.machine.as_deref(), if story { Telling::Story } else { Telling::Answer });
            if answer.gates.iter().any(|g| g.open) { Ok(()) } else { Err(Exit::No) }
        }
    }
}

fn show_all(s: &Screen, all: &[Reach]) {
    if all.is_empty() {
        say!("no reach: the site opens no network");
    }
    for (i, r) in all.iter().enumerate() {
        if i > 0 {
            say!();
        }
        let title = if r.title == r.name { String::new() } else { format!("  {}", s.paint(&r.title, Tone::Plain)) };
        say!("{}{title}", s.paint(&r.name, Tone::Strong));
        say!("  to {}", wrap(&s.paint(&r.leads_to, Tone::Plain), s.width, 5));
        for by in &r.opened_by {
            say!("  by {}", wrap(&s.paint(by, Tone::Plain), s.width, 5));
        }
        if r.opened_by.is_empty() {
            say!("  {}", s.paint("nothing opens it", Tone::Quiet));
        }
    }
}

fn show(s: &Screen, answer: &ReachAnswer, asked: Option<&str>, telling: Telling) {
    let resolved = match answer.addresses.as_slice() {
        [] => String::new(),
        some => format!(" ({})", some.join(", ")),
    };
    say!("{}{resolved}, by {}", s.paint(&answer.to, Tone::Strong), answer.source);
    for m in &answer.machines {
        let since = match m.ended_at {
            None => format!("on since {}", moment(m.began)),
            Some(ended) => format!("on from {} to {}", moment(m.began), moment(ended)),
        };
        let person = passeur_core::text::shorten(&m.name, 40);
        say!("{}  {}, {since}", s.paint(&m.known_by, Tone::Strong), s.paint(&person, Tone::Plain));
        let tone = if m.kernel_open == Some(false) { Tone::Bad } else { Tone::Quiet };
        say!("  {}", wrap(&s.paint(&m.kernel, tone), s.width, 2));
    }
    if let Some(machine) = asked.filter(|_| answer.machines.is_empty()) {
        say!("nobody is on with {}: it is judged as a machine on which nobody is signed in", s.paint(machine, Tone::Strong));
    }
    if answer.gates.is_empty() {
        say!("no gate of kind network");
    }
    for g in &answer.gates {
        let (word, tone) = if g.open { ("open", Tone::Good) } else { ("closed", Tone::Bad) };
        say!("{}  {}", s.paint(&g.gate, Tone::Strong), s.paint(word, tone));
        if matches!(g.verdict, Some(FareVerdict::Out | FareVerdict::NotKnown))
            && let Some(because) = &g.because
        {
            say!("  {}", wrap(&s.paint(&format!("Not let in: {because}"), Tone::Plain), s.width, 2));
        }
        say!("  {}", wrap(&s.paint(&g.sentence, Tone::Plain), s.width, 2));
        if let Some(remedy) = &g.remedy {
            say!("  {}", wrap(&s.paint(remedy, Tone::Quiet), s.width, 2));
        }
        if telling == Telling::Story {
            for step in &g.steps {
                say!("{}", step_lines(s, step));
            }
        }
    }
}

pub async fn zone(args: ZoneCommand, c: &ClientArgs) -> Result<(), Exit> {
    no_csv(c)?;
    let ZoneCommand::Propose { name, seen_from } = args;
    let seen = seen_from.map(|a| format!("?seen_from={a}")).unwrap_or_default();
    let path = format!("/zones/{}/proposal{seen}", crate::client::segment(&name));
    let proposal: ZoneProposal = Client::new(c)?.post(&path, &serde_json::json!({})).await?;
    let is_whole = proposal.document.is_none() && proposal.unknown.is_empty();
    if c.output == Output::Json {
        json(&proposal)?;
    } else {
        show_proposal(&Screen::of_stdout(), &proposal);
    }
    if is_whole { Ok(()) } else { Err(Exit::No) }
}

fn show_proposal(s: &Screen, p: &ZoneProposal) {
    say!("{}, guarded by gate {}", s.paint(&p.zone, Tone::Strong), p.gate);
    for n in &p.needs {
        let (word, tone) = if n.open { ("open  ", Tone::Good) } else { ("closed", Tone::Bad) };
        let by = match (&n.reach, n.open, n.given.is_empty()) {
            (Some(reach), ..) => format!("by reach {reach}"),
            (None, true, _) => "in the zone itself".to_owned(),
            (None, false, true) => "no reach that a rule gives leads there either".to_owned(),
            (None, false, false) => format!("rules open it afterwards, by {}", n.given.join(", ")),
        };
        say!("  {}  {}:{}", s.paint(word, tone), n.host, n.port);
        say!("          {}", wrap(&s.paint(&format!("{}; {by}", n.why), Tone::Quiet), s.width, 10));
    }
    if p.needs.is_empty() && p.unknown.is_empty() {
        say!("  {}", s.paint("no way in of this zone sends anybody to a provider", Tone::Quiet));
    }
    for u in &p.unknown {
        say!("  {}  {}", s.paint("not known", Tone::Bad), wrap(&s.paint(u, Tone::Plain), s.width, 13));
    }
    if let Some(document) = &p.document {
        say!();
        say!("To open what is closed, to every machine of the zone:");
        say!();
        for line in document.lines() {
            say!("{}", s.paint(line, Tone::Plain));
        }
    }
}
