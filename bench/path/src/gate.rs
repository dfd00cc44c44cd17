//! Passeur's data path as it runs for real, with a full edition and many live sessions; only what stands behind it (store,
//! pages) is left out, since no request of the load gets there.

use std::fmt::Write;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;
use std::sync::Arc;

use async_trait::async_trait;
use http::{HeaderMap, HeaderName, HeaderValue, Request, Response, StatusCode};
use passeur_core::circumstances::{Circumstances, RequestFacts};
use passeur_core::decide::{Decision, fold};
use passeur_core::delivery::Delivered;
use passeur_core::document::compile;
use passeur_core::evidence::{Entry, Evidence, Factors, GroupFound, LookUp, LookUpState, UserInfo, WayIn};
use passeur_core::id::{CrossingId, Token};
use passeur_core::site::Site;
use passeur_core::step;
use passeur_core::step::{Silent, Step};
use passeur_gateway::admission::{Admission, Filing};
use passeur_gateway::body::{Body, empty};
use passeur_gateway::control::{Control, Interrupted, NoSession, Presented, Proof, Ticket, UpstreamFailure};
use passeur_gateway::edition::{WebEdition, WebLive};
use passeur_gateway::table::Table;
use passeur_gateway::tls::Certificates;
use passeur_gateway::{Cores, Listener, Parts};
use passeur_live::clock::Clock;
use passeur_live::edition::{Edition, Live};
use passeur_live::sessions::Sessions;
use passeur_live::ticket::TicketFailed;
use serde_json::json;
use tokio::sync::watch;
use uuid::Uuid;

use crate::process::announce;

pub const GATES: usize = 100;
pub const RULES: usize = 1_000;
pub const SESSIONS: usize = 10_000;

/// A site with so many gates and rules, eight delivered headers each.
pub fn site(port: u16, upstream: SocketAddr, gates: usize, rules: usize) -> String {
    let mut out = String::from("format = 1\n[site]\nname = \"Bench\"\naddress = \"http://pass.bench.localhost\"\n");
    out.push_str("[[provider]]\nname = \"p\"\nissuer = \"http://p.localhost\"\nclient = \"c\"\n[provider.attributes]\nuser = \"preferred_username\"\nname = \"name\"\nmail = \"email\"\n");
    out.push_str("[[directory]]\nname = \"d\"\nurl = \"ldap://127.0.0.1\"\nbase = \"dc=x\"\nkey = \"uid\"\nfed-by = \"user\"\n[directory.groups]\nbase = \"dc=x\"\n");
    out.push_str("[[delivery]]\nname = \"h\"\n");
    for (name, source) in [
        ("X-User", "attribute = \"user\""),
        ("X-Name", "attribute = \"name\""),
        ("X-Mail", "attribute = \"mail\""),
        ("X-Groups", "groups = true"),
        ("X-Roles", "roles = true"),
        ("X-Site", "constant = \"bench\""),
        ("X-Subject", "attribute = \"subject\""),
        ("X-Who", "template = \"{name} <{mail}>\""),
    ] {
        let _ = writeln!(out, "[[delivery.header]]\nname = \"{name}\"\n{source}");
    }
    for g in 0..gates {
        let _ = writeln!(
            out,
            "[[gate]]\nname = \"g{g}\"\naddress = \"http://g{g}.bench.localhost:{port}\"\nupstream = \"http://{upstream}\"\nprovider = \"p\"\ndirectory = \"d\"\ndelivery = \"h\""
        );
        for r in 0..rules / gates {
            let group = if r == 0 { "staff".to_owned() } else { format!("group-{g}-{r}") };
            let _ = writeln!(
                out,
                "[[gate.rule]]\nname = \"r{r}\"\nwhen = {{ group = \"{group}\" }}\nenter = true\nroles = [\"reader\"]"
            );
        }
    }
    out
}

pub fn compiled(text: &str) -> Site {
    let (site, findings) = compile(text);
    site.unwrap_or_else(|| panic!("{findings:#?}"))
}

/// Somebody in twenty groups.
pub fn evidence(i: usize) -> Evidence {
    let claims = json!({"sub": format!("s{i}"), "preferred_username": format!("user{i}"), "name": format!("Person {i}"), "email": format!("user{i}@bench.example")});
    let groups = (0..20).map(|g| GroupFound {
        name: if g == 0 { "staff".into() } else { format!("team-{g}") },
        dn: format!("cn=team-{g},dc=x"),
        via: None,
    });
    Evidence {
        claims: claims.as_object().cloned().unwrap_or_default(),
        userinfo: UserInfo::NotAsked,
        factors: Factors::default(),
        look_ups: vec![LookUp {
            directory: "d".into(),
            key: "uid".into(),
            value: Some(format!("user{i}")),
            at: chrono::Utc::now(),
            millis: 1,
            cached: false,
            tried: vec![],
            asked: None,
            state: LookUpState::Answered {
                entry: Entry { dn: format!("uid=user{i},dc=x"), groups: groups.collect(), ..Entry::default() },
            },
        }],
        ..Evidence::of(WayIn::Oidc, "p", format!("s{i}"), "http://p.localhost")
    }
}

/// What the application is told of somebody.
pub fn delivered(site: &Site, i: usize) -> Vec<(HeaderName, HeaderValue)> {
    let at = Circumstances::at(chrono::Utc::now());
    let Decision::Admitted(admitted) = fold(site, &site.gates[0], &evidence(i), &at, &mut Silent) else { panic!("not admitted") };
    let header = |d: &Delivered| {
        (HeaderName::from_bytes(d.name.as_bytes()).expect("a name"), HeaderValue::from_bytes(&d.value).expect("a value"))
    };
    admitted.headers().iter().map(header).collect()
}

/// The token of a session, known to the load as well.
pub fn token(i: usize) -> Token {
    let mut bytes = [7u8; 32];
    bytes[..8].copy_from_slice(&(i as u64).to_be_bytes());
    Token::from_random(bytes)
}

/// Cookies of a hundred people at the first gate.
pub fn cookies() -> Vec<String> {
    (0..100).map(|i| format!("passeur-gate={}", token(i * GATES).reveal())).collect()
}

/// Nothing of the load comes here.
struct Nobody;

fn nothing() -> Response<Body> {
    let mut r = Response::new(empty());
    *r.status_mut() = StatusCode::NOT_IMPLEMENTED;
    r
}

#[async_trait]
impl Control for Nobody {
    fn bound(&self, _: &str) -> passeur_gateway::bodies::Bound {
        passeur_gateway::bodies::Bound { max: 0, known: false }
    }

    fn not_ready(&self) -> Option<&'static str> {
        None
    }
    async fn pages(&self, _: Request<Body>, _: IpAddr) -> Response<Body> {
        nothing()
    }
    async fn gate_pages(&self, _: Arc<Edition>, _: &str, _: Request<Body>, _: IpAddr) -> Response<Body> {
        nothing()
    }
    async fn unknown_host(&self, _: Request<Body>, _: IpAddr) -> Response<Body> {
        nothing()
    }
    async fn present(&self, _: Arc<WebEdition>, _: &str, _: &Token, _: &RequestFacts) -> Presented {
        Presented::No(NoSession::Unknown)
    }
    async fn present_bearer(&self, _: Arc<WebEdition>, _: &str, _: &str, _: &RequestFacts) -> Presented {
        Presented::No(NoSession::Unknown)
    }

    async fn present_certificate(&self, _: Arc<WebEdition>, _: &str, _: Arc<[Vec<u8>]>, _: &RequestFacts) -> Presented {
        Presented::No(NoSession::Unknown)
    }

    async fn turn_away(
        &self,
        _: Arc<Edition>,
        _: &str,
        _: NoSession,
        _: &HeaderMap,
        _: Option<Interrupted>,
        _: &RequestFacts,
    ) -> Response<Body> {
        nothing()
    }
    async fn reject(&self, _: Arc<Edition>, _: &str, _: StatusCode, _: Step, _: &RequestFacts) -> Response<Body> {
        nothing()
    }
    fn forged(&self, _: &Admission, _: Vec<String>, _: &RequestFacts) {}
    async fn section_refused(&self, _: Arc<Edition>, _: &str, _: &Admission, _: usize, _: &RequestFacts) -> Response<Body> {
        nothing()
    }
    async fn network_page(&self, _: Arc<Edition>, _: &str, _: &Admission, _: &RequestFacts) -> Response<Body> {
        nothing()
    }
    async fn upstream_failed(&self, _: &str, _: Option<&Admission>, _: UpstreamFailure, _: &RequestFacts) -> Response<Body> {
        nothing()
    }
    async fn ticket(&self, _: Arc<Edition>, _: &str, _: Arc<Admission>, _: bool) -> Result<Ticket, Box<TicketFailed>> {
        Err(Box::new(TicketFailed::of(step!(UpstreamTicketFailed { service: "HTTP/none", how: "the bench gives no tickets" }))))
    }
    async fn proves(&self, _: Proof, _: Vec<u8>) -> Result<(), String> {
        Err("nobody proves anything here".to_owned())
    }
    async fn ticket_failed(&self, _: &str, _: Arc<Admission>, _: TicketFailed, _: &RequestFacts) -> Response<Body> {
        nothing()
    }
    async fn still_live(&self, _: Uuid) -> Option<bool> {
        Some(true)
    }
    async fn blind(&self, _: &RequestFacts) -> Response<Body> {
        nothing()
    }
}

pub fn run(upstream: SocketAddr, folder: Option<PathBuf>, sessions: usize) {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().expect("a runtime");
    runtime.block_on(async {
        let listener = Listener::bind("127.0.0.1:0".parse().expect("an address"), None).await.expect("a port");
        let clear = listener.address().expect("an address");
        let mut listeners = vec![listener];
        let mut secure = None;
        if let Some(folder) = folder {
            let certificates = Certificates::read(&folder).expect("certificates");
            let l = Listener::bind("127.0.0.1:0".parse().expect("an address"), Some(certificates)).await.expect("a port");
            secure = Some(l.address().expect("an address"));
            listeners.push(l);
        }
        // The load names the gate by the clear port on both listeners.
        let now = chrono::Utc::now();
        let live = Live::default();
        let web = WebLive::following(&live);
        live.set(Edition::new(1, now, compiled(&site(clear.port(), upstream, GATES, RULES))));
        let edition = web.get().expect("an edition");
        let held = Arc::<Sessions>::default();
        let table = Arc::new(Table::new(held.clone()));
        for i in 0..sessions {
            let gate = &edition.site.gates[i % GATES];
            let Decision::Admitted(admitted) = fold(&edition.site, gate, &evidence(i), &Circumstances::at(now), &mut Silent)
            else {
                panic!("not admitted")
            };
            let session = held.hold(0, Uuid::from_u128(i as u128), now, now, None).expect("nothing ended");
            let crossing = CrossingId::new(now, [0, 0, 0, (i >> 8) as u8, i as u8]);
            let shown = token(i).digest();
            let filing = Filing {
                shown: &shown,
                look: 0,
                generation: Some(0),
                lifetimes: &edition.site.lifetimes_at(None, Some(gate)),
                crossing,
            };
            table.put(Arc::new(Admission::new(session, &edition, filing, admitted).expect("headers")));
        }
        let (_stop, stopped) = watch::channel(false);
        let parts = Parts { control: Arc::new(Nobody), web, table, clock: Clock::system() };
        let _cores = Cores::start(listeners, &parts, &stopped).expect("cores");
        announce(clear, secure);
        loop {
            held.saw_revocations();
            tokio::time::sleep(std::time::Duration::from_millis(300)).await;
        }
    });
}
