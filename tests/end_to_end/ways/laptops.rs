//! Checks of the devices on which people sign in: certificates, whose authority is asked by its list or one at a time, and what browsers say.

use std::io::{BufRead, BufReader};
use std::process::{Child, ChildStderr, Command, Stdio};
use std::sync::{Arc, Mutex};

use axum::Router;
use axum::extract::State;
use axum::routing::get;
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use chrono::{Duration, Utc};
use rcgen::{Certificate, CertificateParams, DnType, ExtendedKeyUsagePurpose};
use reqwest::StatusCode;
use tokio::io::{AsyncReadExt, AsyncWriteExt};

use crate::support::{Authority, Page, Person, Stack};

const WORDS: &str = "Ask the harbour desk for a laptop that is looked after.";

/// An authority's web server: the list that it gives, and how often it was asked; none where it answers nothing of use.
#[derive(Clone, Default)]
struct Lists(Arc<Mutex<(Option<Vec<u8>>, usize)>>);

impl Lists {
    async fn serve(&self) -> String {
        async fn list(State(of): State<Lists>) -> (StatusCode, Vec<u8>) {
            let mut of = of.0.lock().unwrap();
            of.1 += 1;
            of.0.clone().map_or((StatusCode::INTERNAL_SERVER_ERROR, vec![]), |der| (StatusCode::OK, der))
        }
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        let router = Router::new().route("/devices.crl", get(list)).with_state(self.clone());
        tokio::spawn(async move { axum::serve(listener, router).await });
        format!("http://{address}/devices.crl")
    }

    fn gives(&self, der: Option<Vec<u8>>) {
        self.0.lock().unwrap().0 = der;
    }

    fn asked(&self) -> usize {
        self.0.lock().unwrap().1
    }
}

/// The harbour with its sign-in host over TLS, and a gate that asks for a laptop.
async fn harbour(servers: &Authority, laptops: &Authority, check: &str, gate: &str) -> Stack {
    servers.issue_files("*.havrelune.localhost");
    Stack::with_tls(Some(servers.folder.clone()), |site, tls| {
        let at = site.find("address = \"http://pass.").unwrap();
        let end = at + site[at..].find('\n').unwrap();
        let site = format!("{}address = \"https://pass.havrelune.localhost:{tls}\"{}", &site[..at], &site[end..]);
        let gate = format!("[[gate.device]]\ncheck = \"laptop\"\n{gate}\n\n[[gate.rule]]\nname = \"masters of");
        let site = site.replacen("[[gate.rule]]\nname = \"masters of", &gate, 1);
        let der = STANDARD.encode(laptops.der());
        format!(
            "{site}\n[[device-check]]\nname = \"laptop\"\ntitle = \"a laptop of the harbour\"\n[device-check.certificate]\nauthorities = [\"{der}\"]\n{check}\n"
        )
    })
    .await
}

fn laptop(issuer: &Authority, change: impl FnOnce(&mut CertificateParams)) -> (Certificate, String) {
    let (certificate, key) = issuer.issue_with("laptop-7.havrelune.example", |p| {
        p.distinguished_name.push(DnType::CommonName, "laptop-7");
        p.extended_key_usages = vec![ExtendedKeyUsagePurpose::ClientAuth];
        change(p);
    });
    let pem = format!("{}{}", certificate.pem(), key.serialize_pem());
    (certificate, pem)
}

/// Signs in at the gate with a password.
async fn signs_in(stack: &Stack, person: &mut Person) -> Page {
    let page = super::form(stack, person, "Your harbour password").await;
    let done = person.fill_in(&page, &[("name", "benoit"), ("password", "neap-tide")]).await;
    if done.status != StatusCode::OK && !done.status.is_redirection() {
        return done;
    }
    person.follow(done).await
}

async fn told(stack: &Stack, page: &Page) -> String {
    stack.story(&page.crossing()).await.to_string()
}

const REQUIRE: &str = "words = \"Ask the harbour desk for a laptop that is looked after.\"";

#[tokio::test(flavor = "multi_thread")]
async fn a_laptop_comes_in_while_its_authority_lists_it_nowhere() {
    let (servers, laptops, strangers) = (Authority::new("servers"), Authority::new("laptops"), Authority::new("strangers"));
    let lists = Lists::default();
    let url = lists.serve().await;
    lists.gives(Some(laptops.list(&[], Utc::now())));
    let stack = harbour(&servers, &laptops, &format!("crl = \"{url}\""), REQUIRE).await;
    let person = |pem: Option<&str>| Person::with_certificate(&servers.der(), pem);
    let (certificate, pem) = laptop(&laptops, |_| ());
    let mut benoit = person(Some(&pem));
    let page = signs_in(&stack, &mut benoit).await;
    assert_eq!(page.status, StatusCode::OK, "{}", page.body);
    let all = stack.get("/crossings?limit=1&gate=harbour-wide").await;
    let story = stack.story(all["crossings"][0]["id"].as_str().unwrap()).await.to_string();
    assert!(story.contains("a good certificate of CN=laptop-7"), "{story}");
    // Nobody else: no certificate, another authority's, one that ran out, one meant for servers. None of them makes anybody ask the authority.
    let asked = lists.asked();
    assert_eq!(asked, 1, "the list is fetched once, and kept");
    for (pem, words) in [
        (None, "the device showed no certificate"),
        (Some(laptop(&strangers, |_| ()).1), "none of these authorities issued it"),
        (Some(laptop(&laptops, |p| p.not_after = rcgen::date_time_ymd(2026, 1, 1)).1), "ran out on 2026-01-01"),
        (Some(laptop(&laptops, |p| p.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth]).1), "extended key usage"),
    ] {
        let page = signs_in(&stack, &mut person(pem.as_deref())).await;
        assert_eq!(page.status, StatusCode::FORBIDDEN, "{words}: {}", page.body);
        assert!(page.body.contains(WORDS), "{}", page.body);
        let story = told(&stack, &page).await;
        assert!(story.contains(words), "{words}: {story}");
    }
    assert_eq!(lists.asked(), asked);
    // Whoever is in elsewhere stays out here on another device, and what is remembered of the laptop counts no more.
    let mut elsewhere = person(None);
    elsewhere.cookies.insert("pass.havrelune.localhost".into(), benoit.cookies["pass.havrelune.localhost"].clone());
    let page = elsewhere.open(&stack.everybody("/received")).await;
    assert_eq!(page.status, StatusCode::FORBIDDEN, "{}", page.body);
    benoit.accept = "application/json";
    let page = benoit.open(&stack.everybody("/received")).await;
    assert_eq!(page.status, StatusCode::FORBIDDEN, "the session moved to another device: {}", page.body);
    // A browser that goes to a page is looked at again, without a new sign-in.
    benoit.accept = "text/html";
    assert_eq!(benoit.open(&stack.everybody("/received")).await.status, StatusCode::OK);
    // The laptop is lost: once the list says so, it opens nothing more, at the latest after a quarter of an hour.
    lists.gives(Some(laptops.list(&[&certificate], Utc::now())));
    assert_eq!(benoit.open(&stack.everybody("/received")).await.status, StatusCode::OK);
    stack.later(Duration::minutes(16));
    let page = benoit.open(&stack.everybody("/received")).await;
    assert_eq!(page.status, StatusCode::FORBIDDEN, "{}", page.body);
    let story = told(&stack, &page).await;
    assert!(story.contains("the certificate of CN=laptop-7 was revoked by its authority"), "{story}");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_authority_that_does_not_answer_or_lies_is_no_word_for_anybody() {
    let (servers, laptops, strangers) = (Authority::new("servers"), Authority::new("laptops"), Authority::new("strangers"));
    let lists = Lists::default();
    let url = lists.serve().await;
    let stack = harbour(&servers, &laptops, &format!("crl = \"{url}\""), REQUIRE).await;
    let (_, pem) = laptop(&laptops, |_| ());
    let silent = async |words: &str| {
        // What did not answer is left alone for half a minute.
        stack.later(Duration::seconds(31));
        let page = signs_in(&stack, &mut Person::with_certificate(&servers.der(), Some(&pem))).await;
        let story = told(&stack, &page).await;
        assert!(page.status == StatusCode::FORBIDDEN && story.contains(words), "{words}: {story}");
    };
    silent("status 500").await;
    for (list, words) in [
        (strangers.list(&[], Utc::now()), "the authority did not sign the list"),
        (laptops.list(&[], Utc::now() - Duration::hours(3)), "the list is out of date since"),
        (laptops.list(&[], Utc::now() + Duration::hours(3)), "the list is of a time that has not come"),
        (b"no list at all".to_vec(), "the list cannot be used"),
    ] {
        lists.gives(Some(list));
        silent(words).await;
    }
    let mut forged = laptops.list(&[], Utc::now());
    let last = forged.len() - 3;
    forged[last] ^= 1;
    lists.gives(Some(forged));
    silent("the authority did not sign the list").await;
    let survey = stack.post("/survey", serde_json::json!({})).await.1.to_string();
    assert!(survey.contains("device.authority-silent") && survey.contains(&url), "{survey}");
    // Where the site says so, silence counts as good.
    let accepts = stack.site.replacen(&format!("crl = \"{url}\""), &format!("crl = \"{url}\"\nwhen-unreachable = \"accept\""), 1);
    assert_eq!(stack.publish(&accepts).await.0, 200);
    let page = signs_in(&stack, &mut Person::with_certificate(&servers.der(), Some(&pem))).await;
    assert_eq!(page.status, StatusCode::OK, "{}", page.body);
}

/// The responder of an authority, by its own index.
struct Responder {
    child: Child,
    /// Kept open: a responder that nobody listens to ends.
    _said: BufReader<ChildStderr>,
}

impl Responder {
    /// At any port.
    fn start(laptops: &Authority, index: &str) -> (Responder, u16) {
        loop {
            let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
            // Lost between choosing and binding, another one is chosen.
            if let Some(responder) = Responder::at(laptops, port, index) {
                return (responder, port);
            }
        }
    }

    /// At a port; none where it is taken.
    fn at(laptops: &Authority, port: u16, index: &str) -> Option<Responder> {
        let folder = &laptops.folder;
        let key = laptops.key_file();
        std::fs::write(folder.join("index.txt"), index).unwrap();
        let mut command = Command::new("openssl");
        command.args(["ocsp", "-port", &port.to_string(), "-ndays", "1", "-index"]).arg(folder.join("index.txt"));
        command.arg("-CA").arg(laptops.file()).arg("-rsigner").arg(laptops.file()).arg("-rkey").arg(key);
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
        let mut said = BufReader::new(child.stderr.take().unwrap());
        // It serves one connection at a time: one that only looks whether it is there would keep it.
        let mut line = String::new();
        while !line.contains("waiting for OCSP client connections") {
            line.clear();
            if said.read_line(&mut line).unwrap() == 0 {
                let _ = child.wait();
                return None;
            }
        }
        Some(Responder { child, _said: said })
    }
}

impl Drop for Responder {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_authority_is_asked_about_one_certificate_at_a_time() {
    let (servers, laptops) = (Authority::new("servers"), Authority::new("laptops"));
    let (certificate, pem) = laptop(&laptops, |_| ());
    let serial = passeur_core::x509::serial(certificate.der()).unwrap();
    let serial: String = serial.iter().skip_while(|b| **b == 0).map(|b| format!("{b:02X}")).collect();
    let good = format!("V\t301231000000Z\t\t{serial}\tunknown\t/CN=laptop-7\n");
    let (responder, port) = Responder::start(&laptops, &good);
    let stack = harbour(&servers, &laptops, &format!("ocsp = \"http://127.0.0.1:{port}/\""), REQUIRE).await;
    let mut benoit = Person::with_certificate(&servers.der(), Some(&pem));
    let page = signs_in(&stack, &mut benoit).await;
    if page.status != StatusCode::OK {
        panic!("{}", told(&stack, &page).await);
    }
    // Another of the same authority, of which the responder knows nothing, is not good for that.
    let (_, other) = laptop(&laptops, |_| ());
    let page = signs_in(&stack, &mut Person::with_certificate(&servers.der(), Some(&other))).await;
    let story = told(&stack, &page).await;
    assert!(page.status == StatusCode::FORBIDDEN && story.contains("it knows nothing of this certificate"), "{story}");
    drop(responder);
    let revoked = format!("R\t301231000000Z\t261201000000Z\t{serial}\tunknown\t/CN=laptop-7\n");
    let _responder = Responder::at(&laptops, port, &revoked).expect("the port is free again");
    stack.later(Duration::minutes(16));
    let page = benoit.open(&stack.everybody("/received")).await;
    let story = told(&stack, &page).await;
    assert!(page.status == StatusCode::FORBIDDEN && story.contains("was revoked by its authority"), "{story}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_connection_of_another_host_is_not_taken_for_one_without_a_certificate() {
    let (servers, laptops) = (Authority::new("servers"), Authority::new("laptops"));
    let stack = harbour(&servers, &laptops, "crl = \"http://127.0.0.1:9/devices.crl\"", REQUIRE).await;
    let port: u16 =
        stack.site.split_once("https://pass.havrelune.localhost:").unwrap().1.split('"').next().unwrap().parse().unwrap();
    let mut roots = rustls::RootCertStore::empty();
    roots.add(servers.der()).unwrap();
    let config = Arc::new(rustls::ClientConfig::builder().with_root_certificates(roots).with_no_client_auth());
    let mut statuses = vec![];
    let (gate, pass) = ("berths.havrelune.localhost", "pass.havrelune.localhost");
    for (name, path) in [(gate, "/.passeur/signed-out"), (pass, "/.passeur/signed-out"), (gate, "/api/v1/node")] {
        let tcp = tokio::net::TcpStream::connect(("127.0.0.1", port)).await.unwrap();
        let server = rustls::pki_types::ServerName::try_from(name).unwrap();
        let mut stream = tokio_rustls::TlsConnector::from(config.clone()).connect(server, tcp).await.unwrap();
        let request = format!("GET {path} HTTP/1.1\r\nhost: {pass}:{port}\r\nconnection: close\r\n\r\n");
        stream.write_all(request.as_bytes()).await.unwrap();
        let mut answer = vec![];
        let _ = stream.read_to_end(&mut answer).await;
        statuses.push(String::from_utf8_lossy(&answer)[9..12].to_owned());
    }
    assert_eq!(statuses, ["421", "200", "401"], "and whoever calls the API shows none");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_browser_says_is_told_as_advice_at_the_quay_until_its_day() {
    let stack = Stack::with(|site| {
        let gate = format!("[[gate.device]]\ncheck = \"browser\"\nmode = \"advise\"\nfrom = \"2099-01-01\"\nwords = \"{WORDS}\"\n\n[[gate.rule]]\nname = \"masters of");
        let site = site.replacen("[[gate.rule]]\nname = \"masters of", &gate, 1);
        format!("{site}\n[[device-check]]\nname = \"browser\"\nbrowsers = {{ firefox = \"128\" }}\n")
    })
    .await;
    for (version, is_told) in [("127.0", true), ("128.0", false)] {
        let mut person = Person::new();
        person
            .extra
            .push(("user-agent", format!("Mozilla/5.0 (X11; Linux x86_64; rv:{version}) Gecko/20100101 Firefox/{version}")));
        assert_eq!(signs_in(&stack, &mut person).await.status, StatusCode::OK);
        let quay = person.open(&stack.pass("/")).await;
        assert_eq!(quay.body.contains(WORDS), is_told, "{version}: {}", quay.body);
    }
    // Rehearsed on a device that passes, and on one that does not.
    for (passes, is_told) in [(serde_json::json!(["browser"]), false), (serde_json::json!([]), true)] {
        let ask = serde_json::json!({"provider": "harbour-password", "claims": {"sub": "benoit", "uid": "benoit"}, "groups": ["planners"], "device": passes, "gate": "harbour-wide"});
        let (status, rehearsed) = stack.post("/rehearse/person", ask).await;
        assert_eq!((status, rehearsed.to_string().contains(WORDS)), (200, is_told), "{rehearsed}");
    }
    let ask = serde_json::json!({"provider": "harbour-password", "claims": {"sub": "benoit"}, "device": ["tablet"]});
    assert_eq!(stack.post("/rehearse/person", ask).await.0, 400);
}
