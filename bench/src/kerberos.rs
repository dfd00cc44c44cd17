//! Tickets: what coming in by one costs, what going on with one costs, and whether anybody is ever taken for somebody else. What it
//! needs runs already: see `./run bench`.

use std::collections::BTreeMap;
use std::fmt::Write;
use std::sync::Arc;
use std::time::{Duration, Instant};

use passeur_gss::{Acceptor, Keytab};
use passeur_links::kerberos::{Behalf, Pool, behalf};
use reqwest::{Method, StatusCode};
use tokio::task::JoinSet;

use crate::harbour::at;
use crate::support::kerberos::{PASS, REALM, Workstation, folder, gateway_keytab};
use crate::support::{Person, Stack};
use passeur_bench_path::load::{self, Ask};

/// People who come side by side.
const TOGETHER: usize = 16;
/// Those who come in the same moment, and how many of their requests are under way at once: of one address, which all of them have
/// here, no more than a thousand connections are taken.
const AT_ONCE: usize = 1_000;
const UNDER_WAY: usize = 400;
/// Requests whose identity at the application is compared with the person.
const COMPARED: usize = 10_000;
/// Those whom the lock house admits.
const PEOPLE: [&str; 4] = ["anouk", "benoit", "farid", "lucie"];
const ACCOUNT: &str = "HTTP/gateway.havrelune.localhost@HAVRELUNE.EXAMPLE";
const LOCKS: &str = "HTTP/lockhouse.havrelune.localhost@HAVRELUNE.EXAMPLE";

/// Measures, and returns the tables.
pub fn measure(seconds: u64) -> String {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().expect("a runtime");
    let mut text = String::from("\n| tickets | a second | median | p99 |\n|---|---|---|---|\n");
    let _ = writeln!(text, "| GSS-API alone judges one, on one core | {} |", raw(seconds));
    let _ =
        writeln!(text, "| a whole sign-in by ticket, {TOGETHER} side by side | {} |", runtime.block_on(sign_ins(seconds * 2)));
    for (words, line) in runtime.block_on(on_behalf(seconds)) {
        let _ = writeln!(text, "| {words} | {line} |");
    }
    let stack = Arc::new(runtime.block_on(Stack::new()));
    let people = runtime.block_on(through_the_gate(&stack));
    let cookies: Vec<String> = people.iter().map(|(p, _)| p.cookie("locks.havrelune.localhost")).collect();
    for (path, words) in
        [("/received", "a request to the application, a ticket a connection"), ("/once/received", "a request, a ticket each")]
    {
        let host = format!("locks.havrelune.localhost:{}", stack.address.port());
        let ask = Ask { at: stack.address, tls: None, host, path, cookies: cookies.clone() };
        let m = load::run(&ask, TOGETHER, seconds);
        let _ = writeln!(
            text,
            "| {words}, {TOGETHER} connections | {:.0} | {:.2} ms | {:.2} ms |",
            m.per_second,
            m.median_us / 1000.0,
            m.p99_us / 1000.0
        );
    }
    text.push_str(&runtime.block_on(all_at_once()));
    text.push_str(&runtime.block_on(compared(&stack, &people)));
    text
}

fn line(mut all: Vec<Duration>, seconds: f64) -> String {
    format!("{:.0} | {:.2} ms | {:.2} ms", all.len() as f64 / seconds, at(&mut all, 0.5), at(&mut all, 0.99))
}

/// The library by itself, with the key in memory as the service has it: what judging costs at least.
fn raw(seconds: u64) -> String {
    let bytes = std::fs::read(folder().join("keytabs/passeur.keytab")).expect("the keytab");
    let acceptor = Acceptor::new(Keytab::new(&bytes).expect("memory")).expect("an acceptor");
    let tokens: Vec<Vec<u8>> = {
        let anouk = Workstation::person("anouk");
        (0..64).map(|_| anouk.token(PASS).token).collect()
    };
    let (began, mut all) = (Instant::now(), vec![]);
    while began.elapsed() < Duration::from_secs(seconds) {
        let one = Instant::now();
        // Nothing remembers here what was shown before; the service does.
        acceptor.accept(&tokens[all.len() % tokens.len()], None).expect("a good ticket");
        all.push(one.elapsed());
    }
    line(all, began.elapsed().as_secs_f64())
}

/// One sign-in by ticket, from the first request to the session. None where the service said that it cannot just now.
async fn sign_in(stack: &Stack, mut person: Person, user: &str, workstation: &Workstation) -> Option<Person> {
    let page = person.send(Method::GET, &stack.pass("/.passeur/sign-in?for=quay&way=ticket&afresh=1"), None).await;
    let to = stack.pass(page.header("location"));
    let page = person.send(Method::GET, &to, None).await;
    if page.status == StatusCode::SERVICE_UNAVAILABLE {
        return None;
    }
    assert_eq!(page.status, StatusCode::UNAUTHORIZED, "{user}: {}", page.body);
    person.extra.push(("authorization", workstation.token(PASS).field()));
    let page = person.send(Method::GET, &page.url, None).await;
    person.extra.pop();
    match page.status {
        StatusCode::SEE_OTHER => Some(person),
        StatusCode::SERVICE_UNAVAILABLE => None,
        other => panic!("{user}: {other} {}", page.body),
    }
}

async fn sign_ins(seconds: u64) -> String {
    let stack = Arc::new(Stack::new().await);
    let workstations: Arc<Vec<Workstation>> = Arc::new(PEOPLE.iter().map(|p| Workstation::person(p)).collect());
    let (began, until) = (Instant::now(), Instant::now() + Duration::from_secs(seconds));
    let mut tasks = JoinSet::new();
    for i in 0..TOGETHER {
        let (stack, workstations) = (stack.clone(), workstations.clone());
        tasks.spawn(async move {
            let mut all = vec![];
            while Instant::now() < until {
                let who = (i + all.len()) % PEOPLE.len();
                let one = Instant::now();
                assert!(sign_in(&stack, Person::new(), PEOPLE[who], &workstations[who]).await.is_some(), "nobody is turned away");
                all.push(one.elapsed());
            }
            all
        });
    }
    let all: Vec<Duration> = tasks.join_all().await.into_iter().flatten().collect();
    line(all, began.elapsed().as_secs_f64())
}

/// Tickets that our account asks for as people: the first of each, which asks the KDC twice, and those after it.
async fn on_behalf(seconds: u64) -> Vec<(String, String)> {
    let pool = Arc::new(Pool::default());
    let link = Arc::new(Behalf::new(pool.clone(), ACCOUNT.to_owned(), &[gateway_keytab()]));
    let mut out = vec![];
    for together in [1usize, 8] {
        let (began, until) = (Instant::now(), Instant::now() + Duration::from_secs(seconds));
        let mut tasks = JoinSet::new();
        for i in 0..together {
            let link = link.clone();
            tasks.spawn(async move {
                let mut all = vec![];
                while Instant::now() < until {
                    let person = format!("{}@{REALM}", PEOPLE[(i + all.len()) % PEOPLE.len()]);
                    let one = Instant::now();
                    link.first(&person, LOCKS).await.expect("a ticket on behalf");
                    all.push(one.elapsed());
                }
                all
            });
        }
        let all: Vec<Duration> = tasks.join_all().await.into_iter().flatten().collect();
        let words = format!("a first ticket on behalf (S4U2Self, S4U2Proxy), {together} side by side");
        out.push((words, line(all, began.elapsed().as_secs_f64())));
    }
    let (standing, _) = link.first(&format!("farid@{REALM}"), LOCKS).await.expect("a ticket on behalf");
    let (began, mut all) = (Instant::now(), vec![]);
    while began.elapsed() < Duration::from_secs(seconds) {
        let one = Instant::now();
        behalf::next_kept(&pool, standing.clone(), LOCKS).await.expect("a kept one");
        all.push(one.elapsed());
    }
    out.push(("a token from a kept one, one after the other".to_owned(), line(all, began.elapsed().as_secs_f64())));
    out
}

/// People at the lock house's door, each with the principal that it must see: half by ticket, half through the office.
async fn through_the_gate(stack: &Stack) -> Vec<(Person, String)> {
    let mut out = vec![];
    for (i, user) in PEOPLE.iter().chain(&PEOPLE).enumerate() {
        let mut person = Person::new();
        let page = if i < PEOPLE.len() {
            let page = person.send(Method::GET, &stack.locks("/received"), None).await;
            let ask = person.until(page, "/.passeur/way/ticket/ticket").await;
            let challenge = person.send(Method::GET, &ask, None).await;
            let workstation = Workstation::person(user);
            let token = if i % 2 == 0 { workstation.along(PASS) } else { workstation.token(PASS) };
            person.extra.push(("authorization", token.field()));
            let done = person.send(Method::GET, &challenge.url, None).await;
            person.extra.pop();
            person.follow(done).await
        } else {
            let page = person.open(&stack.locks("/received")).await;
            let back = person.prove(page, user).await;
            person.follow(back).await
        };
        assert_eq!(page.status, StatusCode::OK, "{user}: {}", page.body);
        out.push((person, format!("{user}@{REALM}")));
    }
    out
}

/// A thousand who come in the same moment.
async fn all_at_once() -> String {
    let stack = Arc::new(Stack::new().await);
    let workstations: Arc<Vec<Workstation>> = Arc::new(PEOPLE.iter().map(|p| Workstation::person(p)).collect());
    let places = Arc::new(tokio::sync::Semaphore::new(UNDER_WAY));
    let machine = Person::new();
    let began = Instant::now();
    let mut tasks = JoinSet::new();
    for i in 0..AT_ONCE {
        let (stack, workstations, machine) = (stack.clone(), workstations.clone(), machine.clone());
        let places = places.clone();
        tasks.spawn(async move {
            let _place = places.acquire_owned().await.expect("never closed");
            let who = i % PEOPLE.len();
            let one = Instant::now();
            let came = sign_in(&stack, machine, PEOPLE[who], &workstations[who]).await;
            (came.map(|p| (p, who)), one.elapsed())
        });
    }
    let (mut slowest, mut later, mut came) = (Duration::ZERO, 0, vec![]);
    for (person, took) in tasks.join_all().await {
        slowest = slowest.max(took);
        match person {
            Some(p) => came.push(p),
            None => later += 1,
        }
    }
    let took = began.elapsed();
    // Each of them is who they are.
    let mut right = 0;
    for (mut person, who) in came {
        let page = person.send(Method::GET, &stack.pass("/"), None).await;
        assert!(page.status == StatusCode::OK && page.body.contains(PEOPLE[who]), "{}: {}", PEOPLE[who], page.body);
        right += 1;
    }
    format!(
        "\n{AT_ONCE} people came by ticket in the same moment, {UNDER_WAY} of them served at once: {right} came in, each as themselves, {later} were told to try again in a moment; \
         all were answered within {:.1} s, the slowest after {:.1} s.\n",
        took.as_secs_f64(),
        slowest.as_secs_f64()
    )
}

/// Whom the application saw, against whom it must see.
async fn compared(stack: &Arc<Stack>, people: &[(Person, String)]) -> String {
    let began = Instant::now();
    let mut tasks = JoinSet::new();
    let (mut seen, mut wrong) = (BTreeMap::<String, usize>::new(), 0);
    for n in 0..COMPARED {
        let (mut person, principal) = people[n % people.len()].clone();
        let url = stack.locks(if n % 2 == 0 { "/received" } else { "/once/received" });
        person.accept = "application/json";
        tasks.spawn(async move {
            let page = person.send(Method::GET, &url, None).await;
            let right = page.status == StatusCode::OK && page.json()["who"] == principal.as_str();
            (right, principal)
        });
        // So many at once, and always some of each kind.
        while tasks.len() >= 64 {
            let Some(Ok((right, principal))) = tasks.join_next().await else { continue };
            *seen.entry(principal).or_default() += 1;
            wrong += usize::from(!right);
        }
    }
    for (right, principal) in tasks.join_all().await {
        *seen.entry(principal).or_default() += 1;
        wrong += usize::from(!right);
    }
    let requests: usize = seen.values().sum();
    assert_eq!((requests, wrong), (COMPARED, 0), "somebody was seen as somebody else");
    format!(
        "{requests} requests of {} people, 64 at once, half of them each with a ticket of its own, reached the lock house in {:.1} s: \
         every one as the person it was of.\n",
        seen.len(),
        began.elapsed().as_secs_f64()
    )
}
