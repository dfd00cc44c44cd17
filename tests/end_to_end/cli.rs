//! The command line, as a person runs it.

use std::process::Stdio;

use tokio::io::AsyncWriteExt;
use tokio::process::Command;

use crate::support::{Person, Stack, binary};

#[derive(Debug)]
pub struct Ran {
    pub code: i32,
    pub out: String,
    pub err: String,
}

pub async fn passeur(stack: &Stack, args: &[&str], input: &str) -> Ran {
    let mut child = Command::new(binary("passeur"))
        .args(args)
        .env("PASSEUR_URL", stack.pass(""))
        .env("PASSEUR_TOKEN", &stack.token)
        .env("COLUMNS", "100")
        .env("TZ", "UTC")
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    child.stdin.take().unwrap().write_all(input.as_bytes()).await.unwrap();
    let out = child.wait_with_output().await.unwrap();
    let text = |b: Vec<u8>| String::from_utf8(b).unwrap();
    Ran { code: out.status.code().unwrap(), out: text(out.stdout), err: text(out.stderr) }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_reason_of_a_refusal_is_found_from_its_id() {
    let stack = Stack::new().await;
    let page = Person::new().sign_in(&stack.gate("/"), "farid").await;
    let ran = passeur(&stack, &["crossing", &page.crossing().to_lowercase().replace('-', " ")], "").await;
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(!ran.out.contains('\x1b'), "no colour into a pipe");
    insta::with_settings!({filters => vec![
        (r"[0-9A-Z]{3}-[0-9A-Z]{4}-[0-9A-Z]{4}", "CROSSING"), (r"localhost:\d+", "localhost:PORT"), (r"127\.0\.0\.1:\d+", "127.0.0.1:PORT"),
        (r" +\d+ ms  ", "  N ms  "), (r"\d+\s+ms", "N ms"), (r"after \d+ s", "after N s"), (r"another \d+ s", "another N s"),
        (r"\d{4}-\d\d-\d\d \d\d:\d\d(:\d\d)?", "MOMENT"), (r"\((LDAP|cache)", "(SOURCE"),
    ]}, { insta::assert_snapshot!(ran.out) });
    let list = passeur(&stack, &["crossings", "--outcome", "refused", "--since", "1h"], "").await;
    assert!(list.out.contains(&page.crossing()) && list.out.contains("Farid Haddad"), "{}", list.out);
    assert!(list.out.lines().all(|l| l.chars().count() <= 100), "{}", list.out);
    let french = passeur(&stack, &["--language", "fr", "crossing", &page.crossing()], "").await;
    assert!(french.out.contains("n'admet cette personne"), "{}", french.out);
}

#[tokio::test(flavor = "multi_thread")]
async fn exit_codes_say_what_happened() {
    let stack = Stack::new().await;
    for (args, code) in [
        (&["whoami"][..], 0),
        (&["crossing", "nonsense"], 1),
        (&["frobnicate"], 2),
        (&["person", "nobody", "--directory", "harbour"], 3),
        (&["trial", "directory", "harbour", "--base", "dc=nowhere"], 3),
        (&["crossing", "111-1111-1111"], 4),
        (&["end", "00000000-0000-4000-8000-000000000000"], 4),
        (&["--url", "http://127.0.0.1:1", "whoami"], 6),
        (&["--url", "http://pass.example", "whoami"], 1),
    ] {
        let ran = passeur(&stack, args, "").await;
        assert_eq!(ran.code, code, "{args:?}: {} {}", ran.out, ran.err);
        assert!(code == 0 || code == 3 || ran.err.contains("passeur") || ran.err.contains("error"), "{args:?}: {}", ran.err);
    }
    let stranger = Command::new(binary("passeur"))
        .args(["whoami"])
        .env("PASSEUR_URL", stack.pass(""))
        .env("PASSEUR_TOKEN", "A".repeat(43))
        .output()
        .await
        .unwrap();
    assert_eq!(stranger.status.code(), Some(5));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_site_file_is_checked_without_a_service_and_published_with_one() {
    let stack = Stack::new().await;
    let folder = std::env::temp_dir().join(format!("passeur-cli-{}", uuid::Uuid::from_u128(stack.address.port().into())));
    std::fs::create_dir_all(&folder).unwrap();
    let (good, bad) = (folder.join("site.toml"), folder.join("bad.toml"));
    std::fs::write(&good, &stack.site).unwrap();
    std::fs::write(&bad, stack.site.replace("enter = true\nroles", "entre = true\nroles").replace("key = \"uid\"\n", ""))
        .unwrap();
    let ran = passeur(&stack, &["site", "check", bad.to_str().unwrap()], "").await;
    assert_eq!(ran.code, 3);
    insta::with_settings!({filters => vec![(folder.to_str().unwrap(), "FOLDER")]}, { insta::assert_snapshot!(ran.out) });
    let schema = passeur(&stack, &["site", "schema"], "").await.out;
    assert!(schema == include_str!("../../docs/site-file.schema.json"), "passeur site schema prints the committed one");
    let surveyed = passeur(&stack, &["survey"], "").await;
    assert!(surveyed.code == 0 && surveyed.out.contains("token.first"), "{}", surveyed.out);
    assert_eq!(passeur(&stack, &["survey", "--last", "--output", "csv"], "").await.code, 0);
    assert!(passeur(&stack, &["directories"], "").await.out.contains("harbour"));
    assert_eq!(passeur(&stack, &["site", "check", "--online", good.to_str().unwrap()], "").await.code, 0);
    let ran = passeur(&stack, &["site", "publish", good.to_str().unwrap(), "--note", "again", "--based-on", "1"], "").await;
    assert_eq!((ran.code, ran.out.contains("edition 2 is live")), (0, true), "{}{}", ran.out, ran.err);
    let shown = passeur(&stack, &["site", "show"], "").await;
    assert_eq!(shown.out, stack.site);
    std::fs::remove_dir_all(&folder).unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_secret_comes_from_standard_input_and_is_never_printed() {
    let stack = Stack::new().await;
    let ran = passeur(&stack, &["secret", "set", "spare"], "tide-and-time\n").await;
    assert_eq!((ran.code, ran.out.as_str()), (0, "spare version 1 is stored and in use\n"));
    let list = passeur(&stack, &["secret", "list", "--output", "json"], "").await;
    assert!(list.out.contains("\"spare\"") && !list.out.contains("tide-and-time"));
}

#[tokio::test(flavor = "multi_thread")]
async fn text_from_outside_moves_no_cursor_and_runs_no_formula() {
    let stack = Stack::new().await;
    let client = stack.database.look().await;
    Person::new().sign_in(&stack.gate("/"), "gwen").await;
    stack.settle().await;
    client.execute("UPDATE crossings SET person = $1", &[&"=cmd|'/c calc'!A1\u{1b}[2J\u{202E}gpj"]).await.unwrap();
    for output in ["text", "csv", "json"] {
        let ran = passeur(&stack, &["crossings", "--output", output], "").await;
        assert_eq!(ran.code, 0, "{}", ran.err);
        assert!(!ran.out.contains('\x1b') && !ran.out.contains('\u{202E}'), "{output}: {:?}", ran.out);
        assert!(output != "csv" || ran.out.contains("\"'=cmd"), "{}", ran.out);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn sessions_are_listed_and_ended_by_subject() {
    let stack = Stack::new().await;
    stack.signed_in("anouk").await;
    stack.signed_in("benoit").await;
    assert!(passeur(&stack, &["sessions"], "").await.out.contains("Benoît Le Goff"));
    let ran = passeur(&stack, &["end", "--subject", "p-1002"], "").await;
    assert_eq!((ran.code, ran.out.lines().count()), (0, 1), "{}{}", ran.out, ran.err);
    let left = passeur(&stack, &["sessions"], "").await.out;
    assert!(left.contains("Anouk") && !left.contains("Benoît"), "{left}");
}

#[tokio::test(flavor = "multi_thread")]
async fn output_that_cannot_be_written_is_no_success() {
    let stack = Stack::new().await;
    let full = std::fs::OpenOptions::new().write(true).open("/dev/full").unwrap();
    let mut ran = Command::new(binary("passeur"));
    ran.args(["gates"]).env("PASSEUR_URL", stack.pass("")).env("PASSEUR_TOKEN", &stack.token);
    let out = ran.stdout(full).stderr(Stdio::piped()).spawn().unwrap().wait_with_output().await.unwrap();
    assert_eq!(out.status.code(), Some(1));
    assert!(String::from_utf8_lossy(&out.stderr).contains("the output cannot be written"), "{out:?}");
    // Somebody in a slip of a gate's name is told, and which there are.
    let ran = passeur(&stack, &["crossings", "--gate", "berth"], "").await;
    assert!(
        ran.code == 4 && ran.err.contains("There is no gate \"berth\"") && ran.err.contains("berths"),
        "{} {}",
        ran.code,
        ran.err
    );
}
