//! `passeur crossings` and `passeur crossing`.

use std::collections::HashSet;
use std::time::Duration;

use chrono::{DateTime, Utc};
use passeur_api::{Crossing, CrossingLine, CrossingList, Outcome, Step, StepBearing};

use super::{list as print_list, no_csv};
use crate::args::{ClientArgs, Crossings, Output};
use crate::client::{Client, segment};
use crate::exit::Exit;
use crate::output::{Cell, Column, Screen, Tone, fixed, json, moment, outcome_tone, rest, table, wrap};

/// A span such as `24h`, a date here, or a moment.
pub fn moment_of(option: &str, text: &str, now: DateTime<Utc>) -> Result<DateTime<Utc>, Exit> {
    if let Ok(at) = DateTime::parse_from_rfc3339(text) {
        return Ok(at.to_utc());
    }
    let wrong = || {
        Exit::Failed(format!(
            "{option} {text}: write a number with m, h or d, such as 24h, a date such as 2026-11-24, or a moment such as 2026-11-24T08:00:00Z"
        ))
    };
    if let Ok(day) = text.parse::<chrono::NaiveDate>() {
        let midnight = day.and_time(chrono::NaiveTime::MIN).and_local_timezone(chrono::Local);
        return midnight.earliest().map(|t| t.to_utc()).ok_or_else(wrong);
    }
    let unit = text.chars().last().ok_or_else(wrong)?;
    let n: i64 = text[..text.len() - unit.len_utf8()].parse().map_err(|_| wrong())?;
    let span = match unit {
        'm' => chrono::Duration::try_minutes(n),
        'h' => chrono::Duration::try_hours(n),
        'd' => chrono::Duration::try_days(n),
        _ => None,
    };
    span.filter(|_| n > 0).and_then(|s| now.checked_sub_signed(s)).ok_or_else(wrong)
}

fn columns() -> [Column; 6] {
    [fixed("time"), fixed("crossing"), fixed("gate"), fixed("outcome"), fixed("person"), rest("why")]
}

fn row(l: &CrossingLine) -> Vec<Cell> {
    let why = if l.repeats > 0 { format!("(and {} more) {}", l.repeats, l.why) } else { l.why.clone() };
    vec![
        moment(l.at).into(),
        Cell(l.id.clone(), Tone::Strong),
        l.gate.clone().into(),
        // The word that --outcome takes.
        Cell(l.outcome.to_string(), outcome_tone(l.outcome)),
        passeur_core::text::shorten(l.person.as_deref().unwrap_or("—"), 24).into(),
        why.into(),
    ]
}

pub async fn list(a: Crossings, c: &ClientArgs) -> Result<(), Exit> {
    let client = Client::new(c)?;
    let limit = if a.all { 1_000 } else { a.limit };
    let mut query: Vec<(&str, String)> = vec![("limit", limit.to_string())];
    let mut add = |name, value: Option<String>| query.extend(value.map(|v| (name, v)));
    add("gate", a.gate);
    add("person", a.person);
    let outcomes: Vec<&str> = a.outcome.iter().map(|o| o.word()).collect();
    add("outcome", (!outcomes.is_empty()).then(|| outcomes.join(",")));
    add("address", a.address);
    add("way", a.way);
    add("rule", a.rule);
    let at = |option, text: Option<&str>| text.map(|t| moment_of(option, t, Utc::now())).transpose();
    add("since", at("--since", a.since.as_deref())?.map(|t| t.to_rfc3339()));
    add("until", at("--until", a.until.as_deref())?.map(|t| t.to_rfc3339()));
    let mut answer: CrossingList = client.get("/crossings", &query).await?;
    while let Some(next) = answer.next.take_if(|_| a.all) {
        query.retain(|(n, _)| *n != "before");
        query.push(("before", next));
        let more: CrossingList = client.get("/crossings", &query).await?;
        answer.crossings.extend(more.crossings);
        answer.next = more.next;
    }
    if !a.follow {
        let rows: Vec<_> = answer.crossings.iter().map(row).collect();
        print_list(c, &answer, &columns(), &rows, "No crossing fits.")?;
        if c.output == Output::Text && answer.unrecorded > 0 {
            say!("and {} anonymous attempts in 24 hours that were only counted", answer.unrecorded);
        }
        if c.output == Output::Text && answer.next.is_some() {
            say!("There are more: --all, or --until a moment.");
        }
        return Ok(());
    }
    follow(&client, c, query, answer).await
}

/// Prints what was there, then each crossing as it is recorded, until interrupted.
async fn follow(
    client: &Client,
    c: &ClientArgs,
    mut query: Vec<(&'static str, String)>,
    first: CrossingList,
) -> Result<(), Exit> {
    let mut seen: HashSet<(String, Outcome)> = HashSet::new();
    let mut fresh: Vec<CrossingLine> = first.crossings.into_iter().rev().collect();
    // What was recorded at the edge of two looks is asked for twice and shown once.
    let mut from = Utc::now() - chrono::Duration::seconds(5);
    let screen = Screen::of_stdout();
    let mut headed = false;
    loop {
        fresh.retain(|l| seen.insert((l.id.clone(), l.outcome)));
        if !fresh.is_empty() {
            if c.output == Output::Json {
                for l in &fresh {
                    say!("{}", serde_json::to_string(l).map_err(|e| Exit::Failed(e.to_string()))?);
                }
            } else {
                let rows: Vec<_> = fresh.iter().map(row).collect();
                let text = table(&screen, &columns(), &rows);
                tell!("{}", if headed { text.split_once('\n').map_or("", |(_, rest)| rest) } else { &text });
                headed = true;
            }
        }
        tokio::select! {
            _ = tokio::signal::ctrl_c() => return Ok(()),
            () = tokio::time::sleep(Duration::from_secs(1)) => {}
        }
        let next = Utc::now() - chrono::Duration::seconds(5);
        query.retain(|(n, _)| !matches!(*n, "recorded_after" | "limit"));
        query.push(("recorded_after", from.to_rfc3339()));
        query.push(("limit", "1000".into()));
        let answer: CrossingList = client.get("/crossings", &query).await?;
        from = next;
        fresh = answer.crossings.into_iter().rev().collect();
    }
}

pub async fn one(id: &str, c: &ClientArgs) -> Result<(), Exit> {
    no_csv(c)?;
    let crossing: Crossing = Client::new(c)?.get(&format!("/crossings/{}", segment(id)), &[]).await?;
    if c.output == Output::Json {
        return json(&crossing);
    }
    tell!("{}", story(&Screen::of_stdout(), &crossing));
    Ok(())
}

/// The story of a crossing, for reading from top to bottom; the step that decided stands out.
pub fn story(s: &Screen, x: &Crossing) -> String {
    let l = &x.line;
    let mut out = String::new();
    let mut say = |text: String| {
        out.push_str(text.trim_end());
        out.push('\n');
    };
    let head = format!("crossing {}", l.id);
    say(format!("{}  {}", s.paint(&head, Tone::Strong), s.paint(&l.outcome_words, outcome_tone(l.outcome))));
    let who = l.person.as_deref().unwrap_or("nobody known");
    let by = match (&l.provider, &l.subject) {
        (Some(p), Some(sub)) => format!(" ({p}, subject {sub})"),
        (Some(p), None) => format!(" (provider {p})"),
        _ => String::new(),
    };
    say(format!(
        "{}{} at gate {} from {}",
        s.paint(who, Tone::Plain),
        s.paint(&by, Tone::Quiet),
        s.paint(&l.gate, Tone::Plain),
        l.address
    ));
    say(s.paint(&format!("{}, edition {}, node {}", l.at.format("%Y-%m-%d %H:%M:%S UTC"), l.edition, x.node), Tone::Quiet));
    if l.repeats > 0 {
        say(format!("and {} more like it in that minute, counted", l.repeats));
    }
    if l.requests > 0 {
        say(format!("{} requests since, {} bytes received, {} sent", l.requests, l.bytes_in, l.bytes_out));
    }
    // What decided stands first; the whole story, in which it has its place, may be long.
    if let Some(decided) = x.steps.iter().find(|s| s.decided) {
        say(format!("\n{}", s.paint("decided by", Tone::Quiet)));
        say(step_lines(s, decided));
    }
    let mut stage = None;
    for step in &x.steps {
        if stage != Some(step.stage) {
            stage = Some(step.stage);
            say(format!("\n{}", s.paint(step.stage.word(), Tone::Quiet)));
        }
        say(step_lines(s, step));
    }
    out
}

/// One step, as stories show it.
pub fn step_lines(s: &Screen, step: &Step) -> String {
    let (mark, tone) = match (step.decided, step.bearing) {
        (true, StepBearing::Stop) => (">✗", Tone::Bad),
        (true, _) => (">✓", Tone::Good),
        (false, StepBearing::Stop) => (" ✗", Tone::Bad),
        (false, StepBearing::Pass) => (" ✓", Tone::Good),
        (false, StepBearing::Notice) => (" !", Tone::Strong),
        (false, StepBearing::Fact) => (" ·", Tone::Quiet),
    };
    let time = match step.at_ms {
        ms if ms < 10_000 => format!("{ms} ms"),
        ms => format!("{} s", ms / 1000),
    };
    let lead = format!("{mark} {:>2}  {:>8}  ", step.number, time);
    let indent = 17;
    let words = wrap(&s.paint(&step.sentence, Tone::Plain), s.width, indent);
    let words = if step.decided && s.colour { format!("\x1b[1m{words}\x1b[0m") } else { words };
    let mut out = format!("{}{words}", s.paint(&lead, tone));
    if let Some(remedy) = &step.remedy {
        let blanks = " ".repeat(indent);
        out.push_str(&format!("\n{blanks}→ {}", wrap(&s.paint(remedy, Tone::Plain), s.width, indent + 2)));
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spans_and_moments_are_read() {
        let now = DateTime::from_timestamp(1_795_000_000, 0).unwrap();
        assert_eq!(moment_of("--since", "30m", now).unwrap(), now - chrono::Duration::minutes(30));
        assert_eq!(moment_of("--since", "7d", now).unwrap(), now - chrono::Duration::days(7));
        assert_eq!(moment_of("--since", "2026-11-24T08:00:00+01:00", now).unwrap().to_rfc3339(), "2026-11-24T07:00:00+00:00");
        for bad in ["", "h", "-1h", "0m", "5y", "yesterday", "é"] {
            assert!(moment_of("--since", bad, now).is_err(), "{bad}");
        }
    }
}
