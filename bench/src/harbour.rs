//! The whole service, with PostgreSQL, slapd and the stand-in provider: sign-ins a second, editions swapped under load, and
//! a million stored sessions. What it needs runs already: see `./run bench`.

use std::fmt::Write;
use std::time::{Duration, Instant};

use passeur_core::id::Token;
use reqwest::Method;
use serde_json::json;

use crate::support::{Person, Stack};
use passeur_bench_path::gate::{GATES, RULES};
use passeur_bench_path::load::{self, Ask};

/// People who sign in side by side.
const TOGETHER: usize = 16;
/// Those the berth ledger admits.
const PEOPLE: [&str; 4] = ["anouk", "benoit", "elodie", "klara"];
/// Stored sessions, and those of them that are presented.
const STORED: i64 = 1_000_000;
const PRESENTED: usize = 2_000;

/// Measures, and returns the tables.
pub fn measure(seconds: u64) -> String {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().expect("a runtime");
    let mut text = String::from("| sign-ins | a second | median | p99 |\n|---|---|---|---|\n");
    for (cache, words) in [("30s", "directory answers kept for 30 s"), ("0s", "directory asked each time")] {
        let line = runtime.block_on(sign_ins(cache, seconds * 4));
        let _ = writeln!(text, "| {words} | {line} |");
    }
    text.push_str(&swaps(&runtime, seconds * 3));
    text.push_str(&runtime.block_on(stored()));
    text.push_str(&runtime.block_on(rehearsed()));
    text
}

/// Past sign-ins that are rehearsed, and how many of them differ in what they were decided on.
const PAST: i64 = 100_000;
const DISTINCT: i64 = 20_000;

/// A draft against a week of sign-ins.
async fn rehearsed() -> String {
    let mut stack = Stack::new().await;
    stack.site = full(&stack.site, stack.address.port());
    assert_eq!(stack.publish(&stack.site).await.0, 200);
    let _anouk = stack.signed_in("anouk").await;
    stack.settle().await;
    let db = stack.database.look().await;
    // The same sign-in again and again, by other people: each with evidence and a crossing of its own.
    let fill = format!(
        "CREATE TABLE one AS SELECT c.*, e.body FROM crossings c JOIN evidence e ON e.day = c.day AND e.hash = c.evidence WHERE c.gate = 'berths' LIMIT 1; \
         INSERT INTO evidence SELECT day, sha256(i::text::bytea), jsonb_set(jsonb_set(body, '{{subject}}', to_jsonb('x' || i % {DISTINCT})), \
           '{{look_ups,0,millis}}', to_jsonb(i % 1000)) FROM one, generate_series(1, {PAST}) i; \
         INSERT INTO crossings (day, id, at, ended_at, gate, edition, node, outcome, provider, subject, person, address, method, target, steps, evidence) \
         SELECT day, 'B' || lpad(i::text, 12, '0'), at, ended_at, gate, edition, node, outcome, provider, 'x' || i % {DISTINCT}, 'Person ' || i % {DISTINCT}, \
           address, method, target, '[]', sha256(i::text::bytea) FROM one, generate_series(1, {PAST}) i; ANALYZE"
    );
    db.batch_execute(&fill).await.expect("past sign-ins");
    let draft = stack.site.replace("when = { group = \"berth-access\" }", "when = { group = \"crane-crew\" }");
    let began = Instant::now();
    let (status, answer) = stack.post("/rehearse", json!({"source": {"document": draft}})).await;
    let took = began.elapsed().as_secs_f64();
    assert_eq!(status, 200, "{answer}");
    assert_eq!(answer["refused"].as_i64(), Some(PAST + 1), "all of them would be refused");
    format!(
        "\n{} past sign-ins ({} of them distinct) were rehearsed against a draft in {took:.1} s, with 101 gates and 1,000 rules.\n",
        answer["crossings"], answer["distinct"]
    )
}

/// Sorted, the value below which so many of a hundred lie.
pub fn at(all: &mut [Duration], share: f64) -> f64 {
    all.sort_unstable();
    all.get((all.len() as f64 * share) as usize).map_or(0.0, |d| d.as_secs_f64() * 1000.0)
}

async fn sign_ins(cache: &str, seconds: u64) -> String {
    let stack = std::sync::Arc::new(Stack::with(|s| s.replace("cache = \"30s\"", &format!("cache = \"{cache}\""))).await);
    assert!(stack.site.contains(&format!("cache = \"{cache}\"")), "the site file says how long answers are kept");
    let until = Instant::now() + Duration::from_secs(seconds);
    let tasks: Vec<_> = (0..TOGETHER)
        .map(|i| {
            let stack = stack.clone();
            tokio::spawn(async move {
                let mut all = vec![];
                let mut person = Person::new();
                while Instant::now() < until {
                    person.cookies.clear();
                    let began = Instant::now();
                    let page = person.sign_in(&stack.gate("/received"), PEOPLE[(i + all.len()) % PEOPLE.len()]).await;
                    assert_eq!(page.status, 200, "{}", page.body);
                    all.push(began.elapsed());
                }
                all
            })
        })
        .collect();
    let mut all = vec![];
    for t in tasks {
        all.extend(t.await.expect("a worker"));
    }
    format!("{:.0} | {:.0} ms | {:.0} ms", all.len() as f64 / seconds as f64, at(&mut all, 0.5), at(&mut all, 0.99))
}

/// The demo's site with as many gates and rules more as the data path is measured with.
fn full(site: &str, port: u16) -> String {
    let mut out = site.to_owned();
    for g in 0..GATES {
        let _ = writeln!(
            out,
            "[[gate]]\nname = \"g{g}\"\naddress = \"http://g{g}.havrelune.localhost:{port}\"\nupstream = \"http://127.0.0.1:9\"\nprovider = \"pilotage\"\ndirectory = \"harbour\"\ndelivery = \"ledger\""
        );
        for r in 0..RULES / GATES {
            let _ = writeln!(
                out,
                "[[gate.rule]]\nname = \"r{r}\"\nwhen = {{ group = \"group-{g}-{r}\" }}\nenter = true\nroles = [\"reader\"]"
            );
        }
    }
    out
}

fn swaps(runtime: &tokio::runtime::Runtime, seconds: u64) -> String {
    let (stack, cookie) = runtime.block_on(async {
        let mut stack = Stack::new().await;
        stack.site = full(&stack.site, stack.address.port());
        assert_eq!(stack.publish(&stack.site).await.0, 200);
        let anouk = stack.signed_in("anouk").await;
        let cookie = anouk.cookie("berths.havrelune.localhost");
        (stack, cookie)
    });
    let ask = Ask {
        at: stack.address,
        tls: None,
        host: format!("berths.havrelune.localhost:{}", stack.address.port()),
        path: "/received",
        cookies: vec![cookie],
    };
    let calm = load::run(&ask, TOGETHER, seconds);
    let loading = ask.clone();
    let load = std::thread::spawn(move || load::run(&loading, TOGETHER, seconds));
    let mut published = vec![];
    while !load.is_finished() {
        let site = stack.site.replace("title = \"Berth ledger\"", &format!("title = \"Berth ledger {}\"", published.len()));
        let began = Instant::now();
        let answer = runtime.block_on(stack.publish(&site));
        assert_eq!(answer.0, 200, "{}", answer.1);
        published.push(began.elapsed());
    }
    let swapped = load.join().expect("no request of the load fails");
    format!(
        "\n| under load | requests a second | median | p99 |\n|---|---|---|---|\n\
         | one edition | {:.0} | {:.0} µs | {:.0} µs |\n\
         | {} editions published in {seconds} s, each in {:.0} ms (median) | {:.0} | {:.0} µs | {:.0} µs |\n\n\
         {} requests were answered while editions were swapped; none failed.\n",
        calm.per_second,
        calm.median_us,
        calm.p99_us,
        published.len(),
        at(&mut published, 0.5),
        swapped.per_second,
        swapped.median_us,
        swapped.p99_us,
        swapped.requests
    )
}

/// Tokens that are stored, from a number.
fn token(i: usize) -> Token {
    let mut bytes = [11u8; 32];
    bytes[..8].copy_from_slice(&(i as u64).to_be_bytes());
    Token::from_random(bytes)
}

/// How long things take with what is stored by now.
async fn looked_up(stack: &Stack, from: usize) -> String {
    let db = stack.database.look().await;
    let evidence: Vec<_> = (from..from + PRESENTED).collect();
    for i in &evidence {
        // Another session of the same person at the same gate, with a token that is known here.
        db.execute(
            "WITH s AS (INSERT INTO sessions (id, token_digest, provider, subject, name, evidence, began, last_seen, address, agent) \
             SELECT gen_random_uuid(), $1, provider, subject, name, evidence, began, last_seen, address, agent FROM model RETURNING id) \
             INSERT INTO gate_tokens SELECT $2, s.id, gate, crossing, decision, created_at FROM s, model_token",
            &[&token(*i + 1_000_000).digest().as_slice(), &token(*i).digest().as_slice()],
        )
        .await
        .expect("a session");
    }
    let mut person = Person::new();
    let (gate, host) = (stack.gate("/received"), "berths.havrelune.localhost".to_owned());
    let mut all = vec![];
    for i in evidence {
        let jar = [("passeur-gate".to_owned(), token(i).reveal().to_owned())];
        person.cookies.insert(host.clone(), jar.into());
        let began = Instant::now();
        let page = person.send(Method::GET, &gate, None).await;
        all.push(began.elapsed());
        assert_eq!(page.status, 200, "{}", page.body);
    }
    let mut list = vec![];
    let mut end = vec![];
    for _ in 0..10 {
        let began = Instant::now();
        let sessions = stack.get("/sessions?limit=100").await;
        list.push(began.elapsed());
        let began = Instant::now();
        let ended = stack.post("/sessions/end", json!({"sessions": [sessions[0]["id"]]})).await;
        end.push(began.elapsed());
        assert_eq!(ended.0, 200, "{}", ended.1);
    }
    format!(
        "{:.1} ms | {:.1} ms | {:.0} ms | {:.0} ms",
        at(&mut all, 0.5),
        at(&mut all, 0.99),
        at(&mut list, 0.5),
        at(&mut end, 0.5)
    )
}

async fn stored() -> String {
    let stack = Stack::new().await;
    let _anouk = stack.signed_in("anouk").await;
    let db = stack.database.look().await;
    db.batch_execute(
        "CREATE TABLE model AS SELECT * FROM sessions LIMIT 1; CREATE TABLE model_token AS SELECT * FROM gate_tokens LIMIT 1",
    )
    .await
    .expect("a model");
    let mut text = String::from(
        "\n| stored sessions | first request of one, median | p99 | list of the latest 100 | ending one |\n|---|---|---|---|---|\n",
    );
    let line = looked_up(&stack, 0).await;
    let _ = writeln!(text, "| {PRESENTED} | {line} |");
    let fill = format!(
        "INSERT INTO sessions (id, token_digest, provider, subject, name, evidence, began, last_seen, address, agent) \
         SELECT gen_random_uuid(), sha256(i::text::bytea), provider, 'x' || i, 'Person ' || i, evidence, began, \
         last_seen - i * interval '1 millisecond', address, agent FROM model, generate_series(1, {STORED}) i; \
         INSERT INTO gate_tokens SELECT sha256(s.token_digest), s.id, t.gate, t.crossing, t.decision, t.created_at \
         FROM sessions s, model_token t WHERE s.subject LIKE 'x%'; ANALYZE"
    );
    db.batch_execute(&fill).await.expect("a million sessions");
    let line = looked_up(&stack, PRESENTED).await;
    let _ = writeln!(text, "| {} | {line} |", STORED + 2 * PRESENTED as i64);
    text
}
