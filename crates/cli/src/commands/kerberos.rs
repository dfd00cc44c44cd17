//! `passeur kerberos`.

use std::path::PathBuf;

use chrono::Utc;
use passeur_api::{
    AccountState, Harm, KerberosAccount, KerberosFile, KerberosFileKind, KerberosKey, KerberosRealm, KerberosSeen,
    KerberosService, NoteKind, RealmAnswer, ServiceFound,
};
use passeur_service::kerberos::files;

use super::no_csv;
use super::survey::print_findings;
use crate::args::{ClientArgs, Kerberos, Output};
use crate::client::Client;
use crate::exit::Exit;
use crate::output::{Cell, Column, Screen, Tone, fixed, json, moment, rest, table, wrap};

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
    let harmed = seen.findings.iter().any(|f| matches!(f.harm, Harm::Danger | Harm::Broken));
    if harmed { Err(Exit::No) } else { Ok(()) }
}

fn head(s: &Screen, words: &str) {
    say!("{}", s.paint(words, Tone::Strong));
}

fn key_cells(k: &KerberosKey) -> Vec<Cell> {
    let enctype = Cell(k.enctype.clone(), if k.weak { Tone::Bad } else { Tone::Plain });
    vec![k.principal.clone().into(), k.kvno.to_string().into(), enctype, k.written.map(moment).unwrap_or_default().into()]
}

/// A table, where there is something to show.
fn show(s: &Screen, columns: &[Column], rows: impl Iterator<Item = Vec<Cell>>) {
    let rows: Vec<Vec<Cell>> = rows.collect();
    if !rows.is_empty() {
        tell!("{}", table(s, columns, &rows));
    }
}

fn show_keys(s: &Screen, keys: &[KerberosKey]) {
    let columns = [rest("principal"), fixed("version"), fixed("encryption type"), fixed("written")];
    show(s, &columns, keys.iter().map(key_cells));
}

fn realm_tone(answer: RealmAnswer) -> Tone {
    match answer {
        RealmAnswer::Answered => Tone::Good,
        RealmAnswer::Silent => Tone::Bad,
        RealmAnswer::Alive | RealmAnswer::NotAsked => Tone::Quiet,
    }
}

fn service_tone(found: ServiceFound) -> Tone {
    match found {
        ServiceFound::Sealed => Tone::Good,
        ServiceFound::Unknown => Tone::Bad,
        ServiceFound::NotAsked => Tone::Quiet,
    }
}

fn account_tone(state: AccountState) -> Tone {
    match state {
        AccountState::Acts => Tone::Good,
        AccountState::Refused => Tone::Bad,
        AccountState::NotKnown => Tone::Quiet,
    }
}

fn print(seen: &KerberosSeen) {
    let s = Screen::of_stdout();
    for k in &seen.keytabs {
        head(&s, &format!("{} version {}, for {}", k.secret, k.version, k.needed_by.join(", ")));
        if let Some(why) = &k.trouble {
            say!("  {}", s.paint(why, Tone::Bad));
            continue;
        }
        show_keys(&s, &k.keys);
        say!();
    }
    if !seen.realms.is_empty() {
        let row = |r: &KerberosRealm| {
            let clock = r.ahead.map(|a| format!("{a:+} s")).unwrap_or_default();
            vec![r.realm.clone().into(), Cell(r.answer.to_string(), realm_tone(r.answer)), clock.into(), r.words.clone().into()]
        };
        show(&s, &[fixed("realm"), fixed("its KDC"), fixed("clock"), rest("how")], seen.realms.iter().map(row));
        say!();
    }
    if !seen.services.is_empty() {
        let row = |v: &KerberosService| {
            vec![v.service.clone().into(), v.of.clone().into(), Cell(v.words.clone(), service_tone(v.found))]
        };
        show(&s, &[rest("service"), fixed("for"), rest("tickets of the KDC")], seen.services.iter().map(row));
        say!();
    }
    if !seen.accounts.is_empty() {
        let row = |a: &KerberosAccount| {
            vec![a.account.clone().into(), a.gate.clone().into(), Cell(a.words.clone(), account_tone(a.state))]
        };
        show(&s, &[rest("account"), fixed("gate"), rest("acting for people")], seen.accounts.iter().map(row));
        say!();
    }
    print_findings(&s, &seen.findings);
    let nothing = seen.keytabs.is_empty() && seen.realms.is_empty() && seen.services.is_empty() && seen.accounts.is_empty();
    let found = match seen.findings.len() {
        0 if nothing => {
            "there was nothing to look at: nothing of it takes or shows tickets (a [[way]] of kind ticket, or [gate.ticket])"
                .to_owned()
        }
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
    if good.iter().any(|f| f.notes.iter().any(|n| n.kind == NoteKind::Wrong)) { Err(Exit::No) } else { Ok(()) }
}

/// The version of a key, where it is told.
fn version(kvno: Option<u32>) -> String {
    kvno.map_or_else(|| "?".to_owned(), |v| v.to_string())
}

fn print_file(s: &Screen, f: &KerberosFile) {
    let of = f.owner.as_ref().map(|o| format!(" of {o}")).unwrap_or_default();
    let kind = match f.kind {
        KerberosFileKind::Keytab => "keytab",
        KerberosFileKind::Cache => "credential cache",
        KerberosFileKind::Config => "krb5.conf",
    };
    head(s, &format!("{}: {kind}{of}", f.path));
    show_keys(s, &f.keys);
    let tickets = f.tickets.iter().map(|t| {
        let by = t.enctype.as_ref().map(|e| format!("{e}, version {}", version(t.kvno)));
        let forwardable = if t.forwardable { "yes" } else { "no" };
        let ends = t.ends.map(moment).unwrap_or_default();
        vec![t.service.clone().into(), ends.into(), forwardable.into(), by.unwrap_or_default().into()]
    });
    show(s, &[rest("ticket for"), fixed("ends"), fixed("forwardable"), fixed("sealed by")], tickets);
    let settings = f.settings.iter().map(|v| vec![v.path.clone().into(), v.value.clone().into(), v.at.clone().into()]);
    show(s, &[fixed("setting"), rest("value"), rest("at")], settings);
    for r in &f.realms {
        let clock = r.ahead.map(|a| format!(", clock {a:+} s")).unwrap_or_default();
        say!("KDC of {}: {}{clock} {}", s.paint(&r.realm, Tone::Plain), r.answer, s.paint(&r.words, Tone::Quiet));
    }
    for v in &f.services {
        let sealed = v.enctype.as_ref().map(|e| format!("version {}, {e}; ", version(v.kvno)));
        say!("  {}: {}{}", s.paint(&v.service, Tone::Plain), sealed.unwrap_or_default(), s.paint(&v.words, Tone::Plain));
    }
    for n in &f.notes {
        let tone = if n.kind == NoteKind::Wrong { Tone::Bad } else { Tone::Strong };
        say!(
            "{}  {}: {}",
            s.paint(&format!("{:<5}", n.kind), tone),
            s.paint(&n.at, Tone::Plain),
            wrap(&s.paint(&n.words, Tone::Plain), s.width, 7)
        );
    }
    say!();
}
