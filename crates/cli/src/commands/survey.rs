//! `passeur survey`.

use passeur_api::{Harm, Survey, SurveyFinding};

use super::list;
use crate::args::{ClientArgs, Output};
use crate::client::Client;
use crate::exit::Exit;
use crate::output::{Cell, Screen, Tone, fixed, json, moment, rest, wrap};

/// Runs a survey, or shows the last one. Ends with 1 where something is in danger or broken.
pub async fn run(last: bool, c: &ClientArgs) -> Result<(), Exit> {
    let client = Client::new(c)?;
    let survey: Survey =
        if last { client.get("/survey", &[]).await? } else { client.post("/survey", &serde_json::json!({})).await? };
    match c.output {
        Output::Json => json(&survey)?,
        Output::Csv => {
            let columns = [fixed("harm"), fixed("code"), fixed("place"), rest("what"), rest("seen"), rest("remedy")];
            let row = |f: &SurveyFinding| {
                [f.harm.word(), &f.code, &f.place, &f.what, &f.seen, &f.remedy].map(|v| Cell::from(v.to_owned())).into()
            };
            let rows: Vec<Vec<Cell>> = survey.findings.iter().map(row).collect();
            list(c, &survey, &columns, &rows, "")?;
        }
        Output::Text => print(&survey),
    }
    let harmed = survey.findings.iter().any(|f| matches!(f.harm, Harm::Danger | Harm::Broken));
    if harmed || !survey.not_seen.is_empty() { Err(Exit::No) } else { Ok(()) }
}

/// Findings, each with what to do.
pub fn print_findings(s: &Screen, findings: &[SurveyFinding]) {
    for f in findings {
        print_one(s, f.harm, [&f.what, &f.seen, &f.code, &f.remedy]);
    }
}

/// One finding: what is wrong, how it was seen with its code, and what to do.
pub fn print_one(s: &Screen, harm: Harm, [what, seen, code, remedy]: [&str; 4]) {
    let tone = match harm {
        Harm::Danger | Harm::Broken => Tone::Bad,
        Harm::Soon => Tone::Strong,
        Harm::Untidy => Tone::Quiet,
    };
    say!("{}  {}", s.paint(&format!("{harm:<6}"), tone), wrap(&s.paint(what, Tone::Strong), s.width, 8));
    say!("        {}", wrap(&s.paint(&format!("{seen} ({code})"), Tone::Quiet), s.width, 8));
    say!("        → {}", wrap(&s.paint(remedy, Tone::Plain), s.width, 10));
}

fn print(survey: &Survey) {
    let s = Screen::of_stdout();
    print_findings(&s, &survey.findings);
    for n in &survey.not_seen {
        say!("{}", s.paint(&format!("not looked at: {n}"), Tone::Bad));
    }
    let count = |harm: Harm| survey.findings.iter().filter(|f| f.harm == harm).count();
    let counts: Vec<String> = Harm::ALL.iter().filter(|h| count(**h) > 0).map(|h| format!("{} {h}", count(*h))).collect();
    let found = if counts.is_empty() { "nothing is wrong".to_owned() } else { counts.join(", ") };
    say!(
        "edition {} seen from node {} at {}: {} things looked at in {} ms; {found}",
        survey.edition,
        survey.node,
        moment(survey.at),
        survey.looked_at,
        survey.millis
    );
}
