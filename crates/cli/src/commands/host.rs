//! `passeur host`.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use passeur_api::{HostChange, HostFinding, HostReport};
use passeur_core::host::{Change, Finding, change, examine, verdict};
use passeur_core::step::Lang;
use passeur_core::text::visible;
use passeur_links::files::Root;
use passeur_links::host::{Look, Principal, gather};
use similar::TextDiff;

use super::no_csv;
use super::survey::print_one;
use crate::args::{ClientArgs, Host, Language, Output};
use crate::exit::Exit;
use crate::output::{Screen, Tone, json};

/// The longest file that is changed, in bytes.
const FILE_MAX: usize = 1 << 20;

pub async fn run(args: Host, c: &ClientArgs) -> Result<(), Exit> {
    no_csv(c)?;
    let person = Principal::parse(&args.person)
        .ok_or_else(|| Exit::Failed(format!("{} is no principal: write NAME@REALM", args.person)))?;
    let root = args.root.as_deref().map_or_else(Root::system, Root::folder);
    if let Some(folder) = args.root.as_deref().filter(|f| !f.is_dir()) {
        return Err(Exit::Failed(format!("{} is no folder", folder.display())));
    }
    let config = args.krb5_config.map(|all| all.split(':').map(str::to_owned).collect());
    let look = Look {
        root: root.clone(),
        person,
        user: args.user,
        from: args.from,
        to: args.to,
        krb5_config: config,
        keytab: args.keytab,
        sshd_config: args.sshd_config,
        ssh_config: args.ssh_config,
    };
    // Programs of the machine are asked, and DNS.
    let facts = tokio::task::spawn_blocking(move || gather(&look)).await.map_err(|e| Exit::Failed(e.to_string()))?;
    let findings = examine(&facts);
    let lang = match c.language {
        Language::En => Lang::En,
        Language::Fr => Lang::Fr,
    };
    let report = report(&facts.person, &facts.account.user, &findings, lang);
    let changes = change::by_file(findings.iter().filter_map(|f| f.change.clone()));
    match (&args.write_to, c.output) {
        (_, Output::Json) => json(&report)?,
        (None, _) if args.diff => show_difference(&root, &changes),
        (None, _) => print(&report, lang),
        (Some(_), _) => {}
    }
    if let Some(folder) = &args.write_to {
        write(&root, &changes, folder)?;
    }
    if report.comes_in && report.goes_on { Ok(()) } else { Err(Exit::No) }
}

fn report(person: &str, user: &str, findings: &[Finding], lang: Lang) -> HostReport {
    let one = |f: &Finding| HostFinding {
        code: f.code().spec().code.to_owned(),
        harm: f.code().spec().harm.into(),
        what: f.found.what(lang),
        seen: f.found.seen(lang),
        remedy: f.found.remedy(lang),
        at: f.at.as_ref().map(ToString::to_string),
        line: f.at.as_ref().map(|l| l.text.trim().to_owned()).filter(|t| !t.is_empty()),
        change: f.change.as_ref().map(|c| HostChange { file: c.file().to_owned(), written: c.written() }),
    };
    let v = verdict(findings);
    HostReport {
        person: person.to_owned(),
        user: user.to_owned(),
        comes_in: v.comes_in,
        goes_on: v.goes_on,
        findings: findings.iter().map(one).collect(),
    }
}

fn print(report: &HostReport, lang: Lang) {
    let s = Screen::of_stdout();
    for f in &report.findings {
        print_one(&s, f.harm, [&f.what, &f.seen, &f.code, &f.remedy]);
        let Some(change) = &f.change else { continue };
        say!("          {}", s.paint(&change.file, Tone::Quiet));
        if let (Some(line), false) = (&f.line, change.written.contains('\n')) {
            say!("          {}", s.paint(&format!("- {line}"), Tone::Bad));
        }
        for line in change.written.lines() {
            say!("          {}", s.paint(&format!("+ {}", line.trim_end()), Tone::Good));
        }
    }
    let yes_no = |yes: bool, words: [&str; 2]| s.paint(words[usize::from(!yes)], if yes { Tone::Good } else { Tone::Bad });
    let (called, comes, goes) = match lang {
        Lang::En => (
            "as",
            ["comes in with a ticket", "does not come in with a ticket"],
            ["and onward to the next host", "and not onward to the next host"],
        ),
        Lang::Fr => {
            ("en tant que", ["entre avec un ticket", "n'entre pas avec un ticket"], ["et va plus loin", "et ne va pas plus loin"])
        }
    };
    say!(
        "{} {called} {}: {}; {}",
        s.paint(&report.person, Tone::Plain),
        s.paint(&report.user, Tone::Plain),
        yes_no(report.comes_in, comes),
        yes_no(report.goes_on, goes)
    );
}

/// Each file as it is and as it would be.
fn changed<'c>(
    root: &'c Root,
    changes: &'c BTreeMap<String, Vec<Change>>,
) -> impl Iterator<Item = (&'c String, String, String)> + 'c {
    changes.iter().map(|(file, all)| {
        let before = root.text(file, FILE_MAX).unwrap_or_default();
        let after = change::apply(&before, all);
        (file, before, after)
    })
}

fn show_difference(root: &Root, changes: &BTreeMap<String, Vec<Change>>) {
    let s = Screen::of_stdout();
    for (file, before, after) in changed(root, changes) {
        let diff = TextDiff::from_lines(&before, &after);
        let text = diff.unified_diff().context_radius(2).header(&format!("a{file}"), &format!("b{file}")).to_string();
        for line in text.lines() {
            let tone = match line.as_bytes().first() {
                Some(b'+') => Tone::Good,
                Some(b'-') => Tone::Bad,
                _ => Tone::Plain,
            };
            say!("{}", s.paint(line, tone));
        }
    }
}

/// Writes changed files below a folder, each at its own path there. What is there already is never written over.
fn write(root: &Root, changes: &BTreeMap<String, Vec<Change>>, folder: &Path) -> Result<(), Exit> {
    let failed = |path: &Path, e: std::io::Error| Exit::Failed(format!("{}: {e}", path.display()));
    if folder.exists() && std::fs::read_dir(folder).map_err(|e| failed(folder, e))?.next().is_some() {
        return Err(Exit::Failed(format!("{} is not empty; name a folder that is not there yet", folder.display())));
    }
    for (file, _, after) in changed(root, changes) {
        let parts = Path::new(file).components().filter(|c| matches!(c, std::path::Component::Normal(_)));
        let to: PathBuf = folder.join(parts.collect::<PathBuf>());
        if let Some(parent) = to.parent() {
            std::fs::create_dir_all(parent).map_err(|e| failed(parent, e))?;
        }
        std::fs::File::create_new(&to)
            .and_then(|mut f| std::io::Write::write_all(&mut f, after.as_bytes()))
            .map_err(|e| failed(&to, e))?;
        say!("{}", visible(&to.to_string_lossy()));
    }
    Ok(())
}
