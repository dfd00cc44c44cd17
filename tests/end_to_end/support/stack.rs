//! One harbour per test: database, service, provider, ledger; slapd is shared and only read.

use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::{Once, OnceLock};

use passeur_core::id::Token;
use passeur_core::seal::Ring;
use passeur_live::clock::Clock;
use passeur_service::config::{RadiusConfig, Tls};
use passeur_service::{Config, Emergency, Running, StartError, start};
use passeur_service::{NetworkConfig, TunnelConfig};
use passeur_standins::mailbox::MailBox;
use passeur_standins::provider::{Mode, Provider, Register, Service};
use passeur_standins::{cranes, ledger, serve, serve_on};
use serde_json::{Value, json};
use tokio::net::TcpListener;

use super::clear;
use super::{Database, Person};

/// What `./run test` says about the servers it started.
pub fn env(name: &str) -> String {
    std::env::var(name).unwrap_or_else(|_| panic!("{name} is not set: run the tests with ./run test"))
}

/// A part of a site file with its gates on the port of a site's.
pub fn on_port(site: &str, part: &str) -> String {
    let port = site.split("//pass.havrelune.localhost:").nth(1).and_then(|r| r.split('"').next()).unwrap();
    part.replace(":8640", &format!(":{port}"))
}

/// The built binary of that name.
pub fn binary(name: &str) -> PathBuf {
    let mut path = std::env::current_exe().unwrap();
    path.pop();
    path.pop();
    path.join(name)
}

/// The site with this in the place of its upstream.
pub fn instead(site: String, with: &str) -> String {
    let at = site.find("upstream = ").unwrap();
    let end = at + site[at..].find('\n').unwrap();
    format!("{}{with}{}", &site[..at], &site[end..])
}

/// An upstream on this machine.
pub fn at(port: u16) -> String {
    format!("upstream = \"http://127.0.0.1:{port}\"")
}

/// Where a harbour listens, and what it guards.
pub struct Where {
    pub listen: SocketAddr,
    pub tls: Option<Tls>,
    pub network: Option<NetworkConfig>,
    pub tunnels: Vec<TunnelConfig>,
    /// Whether RADIUS clients may ask.
    pub radius: bool,
}

impl Default for Where {
    fn default() -> Where {
        Where { listen: "127.0.0.1:0".parse().unwrap(), tls: None, network: None, tunnels: vec![], radius: false }
    }
}

/// A running harbour.
pub struct Stack {
    pub service: Option<Running>,
    pub address: SocketAddr,
    pub clock: Clock,
    pub provider: Provider,
    /// Whatever the service mails.
    pub mailbox: MailBox,
    pub database: Database,
    /// The API token of the first engineer.
    pub token: String,
    /// The published site file.
    pub site: String,
    provider_address: SocketAddr,
    network: Option<NetworkConfig>,
    tunnels: Vec<TunnelConfig>,
    radius: bool,
    tasks: Vec<tokio::task::JoinHandle<()>>,
    http: reqwest::Client,
}

/// A private key of ours with its certificate, one for all tests of a run.
pub fn saml_key() -> &'static str {
    static KEY: OnceLock<String> = OnceLock::new();
    KEY.get_or_init(another_key)
}

/// Another one.
pub fn another_key() -> String {
    let key = rcgen::KeyPair::generate_for(&rcgen::PKCS_RSA_SHA256).unwrap();
    let certificate = rcgen::CertificateParams::new(vec!["pass.havrelune.localhost".into()]).unwrap().self_signed(&key).unwrap();
    format!("{}{}", key.serialize_pem(), certificate.pem())
}

const RING: [u8; 32] = [42; 32];

fn config(database: &Database, clock: &Clock, token: &str, listen: SocketAddr, tls: Option<Tls>) -> Config {
    Config {
        listen,
        tls,
        database_url: database.url.clone(),
        ring: Ring::parse(&Ring::line(1, RING)).unwrap(),
        node: "test".into(),
        clock: clock.clone(),
        first_token: Token::parse(token),
        network: None,
        tunnels: vec![],
        radius: RadiusConfig::default(),
        restored: false,
        emergency: Emergency::parse(include_str!("../../../demo/emergency.toml")).ok(),
    }
}

/// Where RADIUS clients ask: any port of loopback, and one over TLS where the service speaks it.
fn radius_at(is: bool, tls: bool) -> RadiusConfig {
    let any = |is: bool| if is { vec![SocketAddr::from(([127, 0, 0, 1], 0))] } else { vec![] };
    RadiusConfig { listen: any(is), tls: any(is && tls) }
}

impl Stack {
    /// The demo's harbour.
    pub async fn new() -> Stack {
        Stack::with(|site| site).await
    }

    /// The demo's harbour with its site file changed.
    pub async fn with(change: impl FnOnce(String) -> String) -> Stack {
        Stack::with_tls(None, |site, _| change(site)).await
    }

    /// The same, speaking TLS as well with the certificates of a folder; `change` is told the TLS port.
    pub async fn with_tls(certificates: Option<PathBuf>, change: impl FnOnce(String, u16) -> String) -> Stack {
        Stack::on(Database::new().await, certificates, change).await
    }

    /// The demo's harbour with the provider's register changed.
    pub async fn with_people(change: impl FnOnce(String) -> String) -> Stack {
        Stack::of(Database::new().await, Where::default(), change, |site, _| site).await
    }

    /// The same on a given database.
    pub async fn on(database: Database, certificates: Option<PathBuf>, change: impl FnOnce(String, u16) -> String) -> Stack {
        let any = Where::default();
        Stack::of(
            database,
            Where { tls: certificates.map(|c| Tls { listen: any.listen, certificates: c }), ..any },
            |people| people,
            change,
        )
        .await
    }

    /// The demo's harbour on a node that guards a zone.
    pub async fn guarding(place: Where, change: impl FnOnce(String) -> String) -> Stack {
        Stack::of(Database::new().await, place, |people| people, |site, _| change(site)).await
    }

    async fn of(
        database: Database,
        place: Where,
        people: impl FnOnce(String) -> String,
        change: impl FnOnce(String, u16) -> String,
    ) -> Stack {
        static TLS: Once = Once::new();
        TLS.call_once(|| {
            let _ = rustls::crypto::aws_lc_rs::default_provider().install_default();
        });
        clear::keep_the_log();
        let clock = Clock::system();
        let token = Token::from_random([9; 32]).reveal().to_owned();
        let any: SocketAddr = "127.0.0.1:0".parse().unwrap();
        let (listen, network, tunnels) = (place.listen, place.network.clone(), place.tunnels.clone());
        let radius = radius_at(place.radius, place.tls.is_some());
        let service =
            start(Config { network, tunnels, radius, ..config(&database, &clock, &token, listen, place.tls) }).await.unwrap();
        let tls_port = service.tls_address.map_or(0, |a| a.port());
        let address = service.address;
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let provider_address = listener.local_addr().unwrap();
        let people = people(include_str!("../../../demo/people.toml").replace(":8640", &format!(":{}", address.port())));
        let issuer = format!("http://bureau-pilotage.localhost:{}", provider_address.port());
        let provider = Provider::new(issuer, Register::parse(&people).unwrap());
        let provider_task = serve_on(listener, provider.router());
        let (cranes_address, cranes_task) = serve("127.0.0.1:0".parse().unwrap(), cranes::router()).await.unwrap();
        let (ledger_address, ledger_task) = serve("127.0.0.1:0".parse().unwrap(), ledger::router()).await.unwrap();
        let mailbox = MailBox::default();
        let (smtp, mail_task) = mailbox.serve(any).await.unwrap();
        let site = include_str!("../../../demo/site.toml")
            .replace(":8646", &format!(":{}", smtp.port()))
            .replace(":8640", &format!(":{}", address.port()))
            .replace(":8641", &format!(":{}", provider_address.port()))
            .replace(":8642", &format!(":{}", ledger_address.port()))
            .replace(":8643", &format!(":{}", cranes_address.port()))
            .replace("127.0.0.1:8647", &env("PASSEUR_TEST_LOCKS"))
            .replace("ldap://127.0.0.1:8645", &env("PASSEUR_TEST_LDAP"));
        let stack = Stack {
            service: Some(service),
            address,
            clock,
            provider,
            mailbox,
            database,
            token,
            site: change(site, tls_port),
            provider_address,
            network: place.network,
            tunnels: place.tunnels,
            radius: place.radius,
            tasks: vec![provider_task, ledger_task, cranes_task, mail_task],
            http: reqwest::Client::builder().no_proxy().build().unwrap(),
        };
        stack.put("/secrets/pilotage-client", json!({"value": "ebb-and-flow-of-the-demo"})).await;
        stack.put("/secrets/harbour-account", json!({"value": env("PASSEUR_TEST_LDAP_PASSWORD")})).await;
        stack.put("/secrets/harbour-keytab", json!({"value": super::kerberos::keytab()})).await;
        stack.put("/secrets/gateway-keytab", json!({"value": super::kerberos::gateway_keytab()})).await;
        stack.put("/secrets/saml-key", json!({"value": saml_key()})).await;
        let published = stack.publish(&stack.site).await;
        assert_eq!(published.0, 200, "{}", published.1);
        if stack.site.contains("\"pilotage-saml\"") {
            stack.introduce().await;
        }
        stack
    }

    /// Publishes a site file, whatever it does to people.
    pub async fn publish(&self, document: &str) -> (u16, Value) {
        let anyway = ["refuses-people", "locked-out", "expectations", "other-issuer", "other-source", "trial-failed"];
        self.post("/site/publish", json!({"document": document, "note": "a test", "anyway": anyway})).await
    }

    async fn call(&self, request: reqwest::RequestBuilder) -> (u16, Value) {
        let answer = request.bearer_auth(&self.token).send().await.unwrap();
        let status = answer.status().as_u16();
        let body = answer.text().await.unwrap();
        (status, serde_json::from_str(&body).unwrap_or(Value::String(body)))
    }

    fn api(&self, path: &str) -> String {
        // By address, since this client knows no localhost names; the Host is not a gate's, so the sign-in host's is set.
        format!("http://{}/api/v1{path}", self.address)
    }

    fn host(&self) -> String {
        let at = self.site.split_once("//pass.").map_or("", |(_, rest)| rest.split('"').next().unwrap_or_default());
        format!("pass.{at}")
    }

    /// Reads from the API. Lists of crossings are read once everything queued is written: a list is not to be a race.
    pub async fn get(&self, path: &str) -> Value {
        if path.starts_with("/crossings") {
            self.settle().await;
        }
        let (status, body) = self.call(self.http.get(self.api(path)).header("host", self.host())).await;
        assert_eq!(status, 200, "{path}: {body}");
        body
    }

    pub async fn post(&self, path: &str, body: Value) -> (u16, Value) {
        self.call(self.http.post(self.api(path)).header("host", self.host()).json(&body)).await
    }

    pub async fn put(&self, path: &str, body: Value) -> (u16, Value) {
        if let (true, Some(value)) = (path.starts_with("/secrets/"), body["value"].as_str()) {
            clear::seen(value);
        }
        self.call(self.http.put(self.api(path)).header("host", self.host()).json(&body)).await
    }

    pub async fn delete(&self, path: &str) -> (u16, Value) {
        self.call(self.http.delete(self.api(path)).header("host", self.host())).await
    }

    /// PUT with one more header.
    pub async fn put_with(&self, path: &str, body: Value, header: (&'static str, String)) -> (u16, Value) {
        self.call(self.http.put(self.api(path)).header("host", self.host()).header(header.0, header.1).json(&body)).await
    }

    /// The status of a GET.
    pub async fn status(&self, path: &str) -> u16 {
        self.call(self.http.get(self.api(path)).header("host", self.host())).await.0
    }

    /// An address on the first gate.
    pub fn gate(&self, path: &str) -> String {
        format!("http://berths.havrelune.localhost:{}{path}", self.address.port())
    }

    /// An address on the sign-in host.
    pub fn pass(&self, path: &str) -> String {
        format!("http://pass.havrelune.localhost:{}{path}", self.address.port())
    }

    /// The story of a crossing.
    pub async fn story(&self, id: &str) -> Value {
        self.settle().await;
        self.get(&format!("/crossings/{id}")).await
    }

    /// The code of the step that decided the latest crossing, and its outcome.
    pub async fn latest(&self) -> (String, String) {
        self.settle().await;
        let list = self.get("/crossings?limit=1").await;
        let c = &list["crossings"][0];
        (c["outcome"].as_str().unwrap().to_owned(), c["code"].as_str().unwrap_or_default().to_owned())
    }

    /// The provider's issuer.
    pub fn provider_origin(&self) -> String {
        format!("http://bureau-pilotage.localhost:{}", self.provider_address.port())
    }

    /// Waits until everything counted or queued is written.
    pub async fn settle(&self) {
        if let Some(s) = &self.service {
            s.settle().await;
        }
    }

    /// Time goes by, for us and for the provider.
    pub fn later(&self, by: chrono::Duration) {
        self.clock.advance(by);
        self.provider.advance(by.num_seconds());
    }

    /// Goes past the end of the quarter of an hour in which tries are counted where it is near, so that all of a test's tries are
    /// counted together.
    pub fn one_window(&self) {
        let left = chrono::Duration::seconds(900 - self.clock.now().timestamp().rem_euclid(900));
        if left < chrono::Duration::seconds(90) {
            self.later(left);
        }
    }

    /// Removes what has run out, as the service does by itself every few minutes.
    pub async fn sweep(&self) {
        if let Some(s) = &self.service {
            s.sweep().await;
        }
    }

    /// Tells the provider how to behave.
    pub fn behave(&self, mode: Mode) {
        self.provider.behave(mode);
    }

    /// An address on the gate that is entered by SAML.
    pub fn agents(&self, path: &str) -> String {
        format!("http://agents.havrelune.localhost:{}{path}", self.address.port())
    }

    /// An address on the gate whose application knows nothing but Kerberos.
    pub fn locks(&self, path: &str) -> String {
        format!("http://locks.havrelune.localhost:{}{path}", self.address.port())
    }

    /// An address on the gate that is entered in every way.
    pub fn everybody(&self, path: &str) -> String {
        format!("http://everybody.havrelune.localhost:{}{path}", self.address.port())
    }

    /// Lets the provider know us by our metadata, as its team would.
    pub async fn introduce(&self) -> Service {
        let party = self.get("/saml?provider=pilotage-saml").await;
        let service = Service::of_metadata(party["metadata"].as_str().unwrap()).unwrap();
        self.provider.add_service(service.clone());
        service
    }

    /// Where RADIUS clients ask over TLS.
    pub fn radius_tls(&self) -> SocketAddr {
        self.service.as_ref().unwrap().radius.tls[0]
    }

    /// Where RADIUS clients ask.
    pub fn radius(&self) -> SocketAddr {
        self.service.as_ref().unwrap().radius.listen[0]
    }

    /// Somebody signed in at the gate, and their browser.
    pub async fn signed_in(&self, user: &str) -> Person {
        let mut person = Person::new();
        let page = person.sign_in(&self.gate("/received"), user).await;
        assert_eq!(page.status, 200, "{}", page.body);
        person
    }

    /// Somebody who came through the gate's door and has not asked the application for anything yet.
    pub async fn admitted(&self, user: &str) -> Person {
        let mut person = Person::new();
        let page = person.open(&self.gate("/")).await;
        let back = person.prove(page, user).await;
        let link = person.until(back, "/.passeur/arrive").await;
        assert_eq!(person.send(reqwest::Method::GET, &link, None).await.status, 303);
        person
    }

    /// The fields of a raw request to the gate with somebody's cookie; the connection closes after the answer.
    pub fn head(&self, person: &Person) -> String {
        let cookie = person.cookie("berths.havrelune.localhost");
        format!("Host: berths.havrelune.localhost:{}\r\nCookie: {cookie}\r\nConnection: close", self.address.port())
    }

    /// Stops the service and starts it anew on the same database and port.
    pub async fn restart(&mut self) {
        let (network, tunnels) = (self.network.clone(), self.tunnels.clone());
        let radius = radius_at(self.radius, false);
        self.start_again(|config| Config { network, tunnels, radius, ..config }).await.unwrap();
    }

    /// Stops the service and starts it anew, otherwise; why it does not start, where it does not.
    async fn start_again(&mut self, change: impl FnOnce(Config) -> Config) -> Result<(), StartError> {
        if let Some(s) = self.service.take() {
            s.stop().await;
        }
        let config = change(config(&self.database, &self.clock, &self.token, self.address, None));
        self.service = Some(start(config).await?);
        Ok(())
    }

    /// Stops the service and starts it anew where it hears no RADIUS client.
    pub async fn restart_without_radius(&mut self) {
        self.start_again(|config| config).await.unwrap();
    }

    /// Stops the service and starts it anew with another key ring; why it does not start, where it does not.
    pub async fn restart_with(&mut self, ring: Ring, restored: bool) -> Result<(), StartError> {
        self.start_again(|config| Config { ring, restored, ..config }).await
    }

    /// Another node on the same database.
    pub async fn second_node(&self) -> Running {
        let any: SocketAddr = "127.0.0.1:0".parse().unwrap();
        start(config(&self.database, &self.clock, &self.token, any, None)).await.unwrap()
    }

    /// Where the provider listens.
    pub fn provider_port(&self) -> u16 {
        self.provider_address.port()
    }
}

/// Signs somebody in to the console.
pub async fn engineer(stack: &Stack, user: &str) -> Person {
    let mut person = Person::new();
    let page = person.open(&stack.pass("/.passeur/sign-in?for=console")).await;
    let back = person.prove(page, user).await;
    person.follow(back).await;
    person.accept = "application/json";
    person
}

impl Drop for Stack {
    fn drop(&mut self) {
        self.tasks.iter().for_each(|t| t.abort());
    }
}
