//! What strangers can do to whoever is signed in: a live session asks at a steady pace, alone and then while strangers of many
//! networks send the worst input that each address takes. Aim: twice the quiet figure at most.

use std::fmt::Write;
use std::io::Write as _;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use reqwest::Method;

use crate::harbour::at;
use crate::support::client::Page;
use crate::support::stack::{at as upstream_at, instead};
use crate::support::{Person, Stack};

/// Strangers at a time, each of a network of their own that changes with every round.
const STRANGERS: usize = 32;
/// How often the live session asks.
const PACE: Duration = Duration::from_millis(4);

/// The worst that one address takes.
#[derive(Clone, Copy)]
enum Attack {
    SamlAnswer,
    SamlSignOut,
    LogoutToken,
    Password,
    Ticket,
    OidcAnswer,
    Bearer,
    KeptForm,
    Api,
}

const ALL: [(Attack, &str); 9] = [
    (Attack::SamlAnswer, "SAML answers of 500 KiB with 28,000 attributes, in a flow of ours"),
    (Attack::SamlSignOut, "SAML sign-out requests of the same size"),
    (Attack::LogoutToken, "logout tokens with a signature that does not hold"),
    (Attack::Password, "wrong passwords of a directory"),
    (Attack::Ticket, "tickets of 40 KiB that are none"),
    (Attack::OidcAnswer, "codes that the provider never gave, in a flow of ours"),
    (Attack::Bearer, "access tokens with a signature that does not hold"),
    (Attack::KeptForm, "forms of 60 KiB without a session"),
    (Attack::Api, "API calls of 1 MiB by nobody"),
];

/// Just below what the scan refuses: many elements with many attributes.
fn worst_xml(root: &str) -> String {
    let attributes: String = (0..28).map(|a| format!(" a{a}=\"\"")).collect();
    let element = format!("<x{attributes}/>");
    let body = element.repeat(1_000);
    let pad = "y".repeat((500usize * 1024).saturating_sub(body.len() + 300));
    format!(
        "<samlp:{root} xmlns:samlp=\"urn:oasis:names:tc:SAML:2.0:protocol\" ID=\"_x\" Version=\"2.0\" IssueInstant=\"2026-01-01T00:00:00Z\">{body}<t>{pad}</t></samlp:{root}>"
    )
}

struct Inputs {
    answer: String,
    sign_out: String,
    token: String,
    ticket: String,
    form: String,
    api: String,
}

/// Somebody else with an address of their own, behind the proxy that the site trusts.
fn become_another(person: &mut Person, n: u64) {
    person.cookies.clear();
    person.extra = vec![("x-forwarded-for", format!("10.{}.{}.{}", n >> 16 & 255, n >> 8 & 255, n & 255))];
}

/// Posts a form that is written already, as a page of another site would.
async fn post(person: &mut Person, url: &str, form: String) -> Page {
    person.extra.push(("content-type", "application/x-www-form-urlencoded".to_owned()));
    person.extra.push(("origin", "http://bureau-pilotage.localhost".to_owned()));
    let page = person.send_body(Method::POST, url, form).await;
    person.extra.truncate(1);
    page
}

fn encoded(text: &str) -> String {
    url::form_urlencoded::byte_serialize(text.as_bytes()).collect()
}

/// Threads of the strangers yield to the service: what is measured is what it does for them, not what they do.
fn strangers() -> std::io::Result<tokio::runtime::Runtime> {
    let yielding = || {
        let _ = rustix::process::setpriority_process(None, 19);
    };
    tokio::runtime::Builder::new_multi_thread().worker_threads(1).on_thread_start(yielding).enable_all().build()
}

/// Database, directory and KDC stand on machines of their own in earnest: here they yield too. Each has a session of its own.
fn servers_yield() {
    let all = std::env::var("PASSEUR_BENCH_SERVERS").unwrap_or_default();
    let sessions: Vec<&str> = all.split_whitespace().collect();
    for entry in std::fs::read_dir("/proc").into_iter().flatten().flatten() {
        let pid = entry.file_name().to_str().and_then(|n| n.parse::<i32>().ok()).and_then(rustix::process::Pid::from_raw);
        let (Some(pid), Ok(stat)) = (pid, std::fs::read_to_string(entry.path().join("stat"))) else { continue };
        // After the name, which may hold anything: state, parent, group, session.
        let session = stat.rsplit_once(')').and_then(|(_, rest)| rest.split_whitespace().nth(3));
        if session.is_some_and(|s| sessions.contains(&s)) {
            let _ = rustix::process::setpriority_process(Some(pid), 10);
        }
    }
}

fn to(page: &Page, text: &str) -> Option<String> {
    page.body.contains(text).then(|| page.link(text))
}

/// From a page of the ways in to the link of another way; none where the service put the person off.
async fn another_way(person: &mut Person, page: Page, title: &str) -> Option<String> {
    let page = person.open(&to(&page, "Sign in another way")?).await;
    to(&page, title)
}

/// One round of an attack. What the service answers at the address that is attacked; none where the stranger was put off before.
async fn attack(what: Attack, stack: &Stack, person: &mut Person, inputs: &Inputs) -> Option<Page> {
    let begin = stack.everybody("/received");
    match what {
        Attack::SamlAnswer => {
            let page = person.send(Method::GET, &stack.everybody("/received"), None).await;
            let page = person.follow(page).await;
            let link = another_way(person, page, "the pilotage office, agents' entrance").await?;
            let page = person.send(Method::GET, &link, None).await;
            let location = page.header("location").to_owned();
            let relay = location.split("RelayState=").nth(1).map(|r| r.split('&').next().unwrap_or_default())?;
            let form = format!("RelayState={relay}&SAMLResponse={}", inputs.answer);
            let parked = post(person, &stack.pass("/.passeur/saml/pilotage-saml/answer"), form).await;
            let there = parked.header("location").to_owned();
            if there.is_empty() {
                return Some(parked);
            }
            Some(person.send(Method::GET, &there, None).await)
        }
        Attack::SamlSignOut => {
            let form = format!("SAMLRequest={}", inputs.sign_out);
            Some(post(person, &stack.pass("/.passeur/saml/pilotage-saml/sign-out"), form).await)
        }
        Attack::LogoutToken => {
            let form = format!("logout_token={}", inputs.token);
            Some(post(person, &stack.pass("/.passeur/oidc/pilotage/back-channel"), form).await)
        }
        Attack::Password => {
            let page = person.open(&begin).await;
            let link = another_way(person, page, "Your harbour password").await?;
            let page = person.open(&link).await;
            if !page.body.contains("<form") {
                return None;
            }
            Some(person.fill_in(&page, &[("name", "benoit"), ("password", "wrong")]).await)
        }
        Attack::Ticket => {
            person.extra.push(("authorization", format!("Negotiate {}", inputs.ticket)));
            Some(person.open(&begin).await)
        }
        Attack::OidcAnswer => {
            let page = person.open(&stack.gate("/received")).await;
            let state = page.url.split("state=").nth(1).map(|s| s.split('&').next().unwrap_or_default().to_owned())?;
            let answer = stack.pass(&format!("/.passeur/oidc/pilotage/answer?code=never&state={state}"));
            Some(person.send(Method::GET, &answer, None).await)
        }
        Attack::Bearer => {
            person.extra.push(("authorization", format!("Bearer {}", inputs.token)));
            Some(person.send(Method::GET, &begin, None).await)
        }
        Attack::KeptForm => Some(post(person, &stack.gate("/received"), format!("text={}", inputs.form)).await),
        Attack::Api => {
            person.extra.push(("authorization", "Bearer x".to_owned()));
            Some(person.send_body(Method::POST, &stack.pass("/api/v1/site/check"), inputs.api.clone()).await)
        }
    }
}

/// How long requests of a live session take, asked at a steady pace.
async fn live(person: &mut Person, url: &str, until: Instant) -> Vec<Duration> {
    let mut all = vec![];
    let mut ticks = tokio::time::interval(PACE);
    ticks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    while Instant::now() < until {
        ticks.tick().await;
        let began = Instant::now();
        let page = person.send(Method::GET, url, None).await;
        all.push(began.elapsed());
        assert_eq!(page.status, 200, "a live session is served: {}", page.body);
    }
    all
}

/// The application behind the live session's gate, with a thread of its own: it stands on another machine in earnest, and is not to wait
/// for what the service does for strangers.
fn application() -> std::net::SocketAddr {
    let (told, address) = std::sync::mpsc::channel();
    std::thread::spawn(move || {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
        runtime.block_on(async {
            let loopback = "127.0.0.1:0".parse().expect("an address");
            let (address, serving) = passeur_standins::serve(loopback, passeur_standins::ledger::router()).await.expect("a port");
            let _ = told.send(address);
            let _ = serving.await;
        });
    });
    address.recv().expect("an application")
}

/// Measures, and returns the table.
pub fn measure(seconds: u64) -> String {
    let runtime = passeur_service::runtime().expect("a runtime");
    servers_yield();
    let application = application();
    let stack = runtime.block_on(Stack::with(|s| {
        instead(s, &upstream_at(application.port())).replacen(
            "keep-crossings",
            "trusted-proxies = [\"127.0.0.1\", \"::1\"]\nproxies-write = \"x-forwarded-for\"\nkeep-crossings",
            1,
        )
    }));
    let stack = Arc::new(stack);
    let outside = strangers().expect("a runtime");
    let jwt = format!(
        "{}.{}.{}",
        "eyJhbGciOiJSUzI1NiIsInR5cCI6ImF0K2p3dCJ9",
        base64::engine::general_purpose::URL_SAFE_NO_PAD.encode(format!("{{\"iss\":\"x\",\"pad\":\"{}\"}}", "p".repeat(4_000))),
        "A".repeat(342)
    );
    let inputs = Arc::new(Inputs {
        answer: encoded(&STANDARD.encode(worst_xml("Response"))),
        sign_out: encoded(&STANDARD.encode(worst_xml("LogoutRequest"))),
        token: jwt,
        ticket: STANDARD.encode(vec![0x60; 30_000]),
        form: "x".repeat(60_000),
        api: format!("{{\"document\":\"{}\"}}", "x".repeat(1024 * 1024)),
    });
    // The live session has a runtime of its own: what is measured is the service, not who else asks from here.
    let quick = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    let mut anouk = runtime.block_on(stack.signed_in("anouk"));
    anouk.extra = vec![("x-forwarded-for", "192.0.2.7".to_owned())];
    let url = stack.gate("/received");
    let window = || Instant::now() + Duration::from_secs(seconds.max(2));
    quick.block_on(live(&mut anouk, &url, Instant::now() + Duration::from_secs(1)));
    let mut quiet = quick.block_on(live(&mut anouk, &url, window()));
    let (median, p99) = (at(&mut quiet, 0.5), at(&mut quiet, 0.99));
    let mut out = format!(
        "\n| a live session's requests while {STRANGERS} strangers send | attempts a second | median | p99 | median, in ratio |\n|---|---|---|---|---|\n\
         | nothing | | {median:.2} ms | {p99:.2} ms | 1 |\n"
    );
    let ended = AtomicU64::new(1);
    for (what, words) in ALL {
        let stop = Arc::new(AtomicBool::new(false));
        let (done, missed) = (Arc::new(AtomicU64::new(0)), Arc::new(AtomicBool::new(false)));
        let tasks: Vec<_> = (0..STRANGERS)
            .map(|_| {
                let (stack, inputs, stop, done) = (stack.clone(), inputs.clone(), stop.clone(), done.clone());
                let first = ended.fetch_add(2_000, Ordering::Relaxed);
                let missed = missed.clone();
                outside.spawn(async move {
                    let (mut n, mut person) = (first, Person::new());
                    while !stop.load(Ordering::Relaxed) {
                        n += 1;
                        become_another(&mut person, n);
                        let (stack, inputs, mut of) = (stack.clone(), inputs.clone(), person.clone());
                        // A round whose connection the service closes under it is a round all the same: the client here panics then.
                        match tokio::spawn(async move { attack(what, &stack, &mut of, &inputs).await }).await {
                            Ok(Some(page)) if page.status == 404 || page.status == 405 => missed.store(true, Ordering::Relaxed),
                            Ok(None) => {}
                            Ok(Some(_)) => drop(done.fetch_add(1, Ordering::Relaxed)),
                            Err(_) => {
                                done.fetch_add(1, Ordering::Relaxed);
                                person = Person::new();
                            }
                        }
                    }
                })
            })
            .collect();
        quick.block_on(live(&mut anouk, &url, Instant::now() + Duration::from_secs(1)));
        let (from, began) = (done.load(Ordering::Relaxed), Instant::now());
        let mut all = quick.block_on(live(&mut anouk, &url, window()));
        let rate = (done.load(Ordering::Relaxed) - from) as f64 / began.elapsed().as_secs_f64();
        stop.store(true, Ordering::Relaxed);
        outside.block_on(async {
            for t in tasks {
                t.await.expect("an attack goes on");
            }
        });
        assert!(rate > 0.0, "{words}: no stranger ever came so far");
        assert!(!missed.load(Ordering::Relaxed), "{words}: nothing is at that address");
        let m = at(&mut all, 0.5);
        let line = format!("| {words} | {rate:.0} | {m:.2} ms | {:.2} ms | {:.2} |\n", at(&mut all, 0.99), m / median);
        print!("{line}");
        let _ = std::io::stdout().flush();
        let _ = write!(out, "{line}");
    }
    out
}
