//! Programs that come by a client certificate, over our own TLS.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use passeur_links::resolve::Resolver;
use rcgen::{CertificateParams, DnType, ExtendedKeyUsagePurpose};
use reqwest::{Certificate, Client, Identity};
use serde_json::Value;

use crate::support::{Authority, Stack};

/// The demo with its gate for everybody at the TLS port, where machines of an authority are taken.
async fn stack(servers: &Authority, machines: &Authority) -> (Stack, String) {
    servers.issue_files("*.havrelune.localhost");
    let port = std::sync::Mutex::new(0);
    let stack = Stack::with_tls(Some(servers.folder.clone()), |site, tls| {
        *port.lock().unwrap() = tls;
        let at = site.find("address = \"http://everybody").unwrap();
        let end = at + site[at..].find('\n').unwrap();
        let site = format!("{}address = \"https://everybody.havrelune.localhost:{tls}\"{}", &site[..at], &site[end..]);
        let way = format!(
            "[[way]]\nname = \"machines\"\nkind = \"certificate\"\nauthorities = [\"{}\"]\n\n[way.attributes]\nuser = \"cn\"\n\n",
            STANDARD.encode(machines.der())
        );
        let rule = "[[gate.rule]]\nname = \"machines read\"\nwhen = { way-in = [\"machines\"] }\nenter = true\n\n";
        site.replace("# Where groups come from.", &format!("{way}# Where groups come from."))
            .replace("access-tokens = [\"pilotage\"]\n", "access-tokens = [\"pilotage\"]\ncertificates = \"machines\"\n")
            .replace("[[gate.rule]]\nname = \"masters of", &format!("{rule}[[gate.rule]]\nname = \"masters of"))
    })
    .await;
    let port = *port.lock().unwrap();
    (stack, format!("https://everybody.havrelune.localhost:{port}"))
}

/// A client that shows a certificate for a crane.
fn machine(servers: &Authority, issuer: &Authority, change: impl FnOnce(&mut CertificateParams)) -> Client {
    let (certificate, key) = issuer.issue_with("crane-7.havrelune.example", |p| {
        p.distinguished_name.push(DnType::CommonName, "crane-7");
        p.extended_key_usages = vec![ExtendedKeyUsagePurpose::ClientAuth];
        change(p);
    });
    let pem = format!("{}{}", certificate.pem(), key.serialize_pem());
    client(servers).identity(Identity::from_pem(pem.as_bytes()).unwrap()).build().unwrap()
}

fn client(servers: &Authority) -> reqwest::ClientBuilder {
    Client::builder().dns_resolver(Resolver).no_proxy().tls_certs_only([Certificate::from_der(&servers.der()).unwrap()])
}

async fn get(client: &Client, url: &str) -> (u16, Value) {
    let answer = client.get(url).header("accept", "application/json").send().await.unwrap();
    (answer.status().as_u16(), answer.json().await.unwrap())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_machine_comes_in_by_its_certificate_and_no_other_does() {
    let (servers, machines, strangers) = (Authority::new("servers"), Authority::new("machines"), Authority::new("strangers"));
    let (stack, origin) = stack(&servers, &machines).await;
    let url = format!("{origin}/received");
    let crane = machine(&servers, &machines, |_| ());
    let (status, received) = get(&crane, &url).await;
    assert_eq!(status, 200, "{received}");
    assert!(received.to_string().contains("[\"x-harbour-user\",\"crane-7\"]"), "{received}");
    assert_eq!(get(&crane, &url).await.0, 200);
    let session = stack.get("/sessions").await[0].clone();
    assert_eq!((session["provider"].as_str(), session["subject"].as_str()), (Some("machines"), Some("CN=crane-7")), "{session}");
    let list = stack.get("/crossings?gate=harbour-wide").await;
    assert_eq!(list["crossings"].as_array().unwrap().len(), 1, "one crossing for all requests: {list}");
    // Nobody else: another authority's, one that ran out, one meant for servers, or none.
    for (what, client) in [
        ("another authority", machine(&servers, &strangers, |_| ())),
        ("ran out", machine(&servers, &machines, |p| p.not_after = rcgen::date_time_ymd(2026, 1, 1))),
        ("for servers", machine(&servers, &machines, |p| p.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth])),
        ("none", client(&servers).build().unwrap()),
    ] {
        assert_eq!(get(&client, &url).await.0, 401, "{what}");
    }
    // What another site makes a browser send with it is nobody's.
    let forged = crane.post(&url).header("origin", "https://evil.example").header("sec-fetch-site", "cross-site");
    assert_eq!(forged.header("accept", "application/json").send().await.unwrap().status(), 401);
    // Ended by an engineer: the certificate opens nothing more there.
    assert_eq!(stack.post("/sessions/end", serde_json::json!({"sessions": [session["id"]]})).await.0, 200);
    assert_eq!(get(&crane, &url).await.0, 401);
}
