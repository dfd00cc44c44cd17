//! `passeur kerberos`.

use std::path::PathBuf;

use chrono::Utc;
use passeur_api::{KerberosFile, KerberosKey, KerberosSeen};
use passeur_service::kerberos::files;

use super::no_csv;
use super::survey::print_findings;
use crate::args::{ClientArgs, Kerberos, Output};
use crate::client::Client;
use crate::exit::Exit;
use crate::output::{Cell, Screen, Tone, fixed, json, moment, rest, table, wrap};

pub async fn run(args: Kerberos, c: &ClientArgs) -> Result<(), Exit> {
    no_csv(c)?;
    match args {
        Kerberos::Check => check(c).await,
        Kerberos::Read { files, ask, .. } => {
            // It may wait for a KDC, and nothing else is to be done meanwhile.
            tokio::task::spawn_blocking(move || files.into_iter().map(|f| (files::read(&f, ask, Utc::now()), f)).collect())
                .await
                .map_err(|e| Exit::Failed(e.to_string()))
                .and_then(|read| print_files(read, c))
        }
    }
}

async fn check(c: &ClientArgs) -> Result<(), Exit> {
    let seen: KerberosSeen = Client::new(c)?.post("/kerberos", &serde_json::json!({})).await?;
    if c.output == Output::Json {
        json(&seen)?;
    } else {
        print(&seen);
    }
    let harmed = seen.findings.iter().any(|f| f.harm == "danger" || f.harm == "broken");
    if harmed { Err(Exit::No) } else { Ok(()) }
}

fn head(s: &Screen, words: &str) {
    say!("{}", s.paint(words, Tone::Strong));
}

fn key_cells(k: &KerberosKey) -> Vec<Cell> {
    let enctype = Cell(k.enctype.clone(), if k.weak { Tone::Bad } else { Tone::Plain });
    vec![k.principal.clone().into(), k.kvno.to_string().into(), enctype, k.written.map(moment).unwrap_or_default().into()]
}

fn print(seen: &KerberosSeen) {
    let s = Screen::of_stdout();
    for k in &seen.keytabs {
        head(&s, &format!("{} version {}, for {}", k.secret, k.version, k.needed_by.join(", ")));
        if let Some(why) = &k.trouble {
            say!("  {}", s.paint(why, Tone::Bad));
            continue;
        }
        let rows: Vec<Vec<Cell>> = k.keys.iter().map(key_cells).collect();
        tell!("{}", table(&s, &[rest("principal"), fixed("version"), fixed("encryption type"), fixed("written")], &rows));
        say!();
    }
    if !seen.realms.is_empty() {
        let rows = seen.realms.iter().map(|r| {
            let tone = match r.answer.as_str() {
                "answered" => Tone::Good,
                "silent" => Tone::Bad,
                _ => Tone::Quiet,
            };
            let clock = r.ahead.map(|a| format!("{a:+} s")).unwrap_or_default();
            vec![r.realm.clone().into(), Cell(r.answer.clone(), tone), clock.into(), r.words.clone().into()]
        });
        let rows: Vec<Vec<Cell>> = rows.collect();
        tell!("{}", table(&s, &[fixed("realm"), fixed("its KDC"), fixed("clock"), rest("how")], &rows));
        say!();
    }
    if !seen.services.is_empty() {
        let rows = seen.services.iter().map(|v| {
            let tone = match v.found.as_str() {
                "sealed" => Tone::Good,
                "unknown" => Tone::Bad,
                _ => Tone::Quiet,
            };
            vec![v.service.clone().into(), v.of.clone().into(), Cell(v.words.clone(), tone)]
        });
        let rows: Vec<Vec<Cell>> = rows.collect();
        tell!("{}", table(&s, &[rest("service"), fixed("for"), rest("tickets of the KDC")], &rows));
        say!();
    }
    if !seen.accounts.is_empty() {
        let rows = seen.accounts.iter().map(|a| {
            let tone = match a.state.as_str() {
                "acts" => Tone::Good,
                "refused" => Tone::Bad,
                _ => Tone::Quiet,
            };
            let words = Cell(a.words.clone(), tone);
            vec![a.account.clone().into(), a.gate.clone().into(), words]
        });
        let rows: Vec<Vec<Cell>> = rows.collect();
        tell!("{}", table(&s, &[rest("account"), fixed("gate"), rest("acting for people")], &rows));
        say!();
    }
    print_findings(&s, &seen.findings);
    let found = match seen.findings.len() {
        0 => "nothing is wrong".to_owned(),
        1 => "1 finding".to_owned(),
        n => format!("{n} findings"),
    };
    say!("edition {} seen from node {} at {} in {} ms: {found}", seen.edition, seen.node, moment(seen.at), seen.millis);
}

fn print_files(read: Vec<(Result<KerberosFile, String>, PathBuf)>, c: &ClientArgs) -> Result<(), Exit> {
    let mut good = vec![];
    let mut wrong = vec![];
    for (one, path) in read {
        match one {
            Ok(file) => good.push(file),
            Err(why) => wrong.push(format!("{}: {why}", path.display())),
        }
    }
    if c.output == Output::Json {
        json(&good)?;
    } else {
        let s = Screen::of_stdout();
        good.iter().for_each(|f| print_file(&s, f));
    }
    if !wrong.is_empty() {
        return Err(Exit::Failed(wrong.join("; ")));
    }
    if good.iter().any(|f| f.notes.iter().any(|n| n.kind == "wrong")) { Err(Exit::No) } else { Ok(()) }
}

fn print_file(s: &Screen, f: &KerberosFile) {
    let of = f.owner.as_ref().map(|o| format!(" of {o}")).unwrap_or_default();
    let kind = match f.kind.as_str() {
        "keytab" => "keytab",
        "cache" => "credential cache",
        _ => "krb5.conf",
    };
    head(s, &format!("{}: {kind}{of}", f.path));
    let keys: Vec<Vec<Cell>> = f.keys.iter().map(key_cells).collect();
    if !keys.is_empty() {
        tell!("{}", table(s, &[rest("principal"), fixed("version"), fixed("encryption type"), fixed("written")], &keys));
    }
    let tickets = f.tickets.iter().map(|t| {
        let by = t.enctype.as_ref().map(|e| format!("{e}, version {}", t.kvno.map_or_else(|| "?".into(), |v| v.to_string())));
        let forwardable = if t.forwardable { "yes" } else { "no" };
        let ends = t.ends.map(moment).unwrap_or_default();
        vec![t.service.clone().into(), ends.into(), forwardable.into(), by.unwrap_or_default().into()]
    });
    let tickets: Vec<Vec<Cell>> = tickets.collect();
    if !tickets.is_empty() {
        tell!("{}", table(s, &[rest("ticket for"), fixed("ends"), fixed("forwardable"), fixed("sealed by")], &tickets));
    }
    let settings = f.settings.iter().map(|v| vec![v.path.clone().into(), v.value.clone().into(), v.at.clone().into()]);
    let settings: Vec<Vec<Cell>> = settings.collect();
    if !settings.is_empty() {
        tell!("{}", table(s, &[fixed("setting"), rest("value"), rest("at")], &settings));
    }
    for r in &f.realms {
        let clock = r.ahead.map(|a| format!(", clock {a:+} s")).unwrap_or_default();
        say!("KDC of {}: {}{clock} {}", s.paint(&r.realm, Tone::Plain), r.answer, s.paint(&r.words, Tone::Quiet));
    }
    for v in &f.services {
        let sealed =
            v.enctype.as_ref().map(|e| format!("version {}, {e}; ", v.kvno.map_or_else(|| "?".into(), |k| k.to_string())));
        say!("  {}: {}{}", s.paint(&v.service, Tone::Plain), sealed.unwrap_or_default(), s.paint(&v.words, Tone::Plain));
    }
    for n in &f.notes {
        let tone = if n.kind == "wrong" { Tone::Bad } else { Tone::Strong };
        say!(
            "{}  {}: {}",
            s.paint(&format!("{:<5}", n.kind), tone),
            s.paint(&n.at, Tone::Plain),
            wrap(&s.paint(&n.words, Tone::Plain), s.width, 7)
        );
    }
    say!();
}
