//! The pilots' tunnel for real: an OpenVPN server without privilege, a client at sea, a kernel that closes. Each test in a cage of its own.

mod laptops;
pub mod servers;
mod terms;
mod trials;

use std::io::{Read, Write};
use std::net::TcpStream;
use std::os::unix::fs::PermissionsExt;

use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair};
use base64::Engine as _;

use passeur_standins::cage::CRANE;
pub use passeur_standins::cage::OFFICE;
use rcgen::PublicKeyData as _;
use reqwest::Method;
use serde_json::{Value, json};

use crate::support::{Connecting, Page, Person, Sea, eventually};

/// Opens what a client was told to open, and signs in there, on the same machine.
pub async fn opens(sea: &Sea, person: &mut Person, client: &Connecting, times: usize, user: &str) -> Page {
    sea.harbour.sit("pilot");
    let url = client.address(times).await;
    let page = person.open(&url).await;
    if page.body.contains("Is it yours") {
        return page;
    }
    let back = person.prove(page, user).await;
    person.follow(back).await
}

/// Presses a button of the page.
pub async fn answers(person: &mut Person, page: &Page, answer: &str) -> Page {
    let at = page.body.find(&format!("answer={answer}")).unwrap_or_else(|| panic!("{}", page.body));
    let action = page.body[..at].rsplit("action=\"").next().unwrap().replace("&amp;", "&");
    let origin = url::Url::parse(&page.url).unwrap().origin().ascii_serialization();
    person.send(Method::POST, &format!("{origin}{action}answer={answer}"), Some(&[])).await
}

/// A person of the office comes in by the pilots' tunnel.
async fn comes_in(sea: &Sea, name: &str, user: &str) -> (Person, Connecting, Page) {
    let client = sea.connect_by_browser(name);
    let mut person = Person::new();
    let page = opens(sea, &mut person, &client, 1, user).await;
    assert!(page.body.contains("Is it yours"), "{}", page.body);
    let page = answers(&mut person, &page, "yes").await;
    (person, client, page)
}

pub async fn present(sea: &Sea) -> Vec<Value> {
    sea.harbour.stack.get("/presences?gate=tunnel&limit=1000").await["presences"].as_array().unwrap().clone()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_pilot_signs_in_in_a_browser_and_reaches_what_the_rules_open_until_they_leave() {
    if !Sea::is_caged("tunnels::a_pilot_signs_in_in_a_browser_and_reaches_what_the_rules_open_until_they_leave") {
        return;
    }
    let sea = Sea::new(|site| site).await;
    sea.harbour.yard.serve();
    assert!(!sea.harbour.reaches("pilot", OFFICE[0], 80), "closed without the tunnel");
    let (_person, mut client, page) = comes_in(&sea, "anouk", "anouk").await;
    assert!(page.body.contains("The tunnel is open") && page.body.contains("10.71.0.2"), "{}", page.body);
    client.says("Initialization Sequence Completed", 1).await;
    for host in OFFICE {
        assert!(sea.harbour.reaches("pilot", host, 80), "{host}\n{}", client.said());
        assert!(!sea.harbour.reaches("pilot", host, 443), "{host}");
    }
    assert!(!sea.harbour.reaches("pilot", CRANE[0], 443), "what is not opened is not routed there either");
    let on = present(&sea).await;
    assert_eq!((on.len(), &on[0]["name"], &on[0]["zone"]), (1, &json!("Anouk Tregarec"), &json!("pilots")), "{on:?}");
    let crossing = on[0]["crossing"].as_str().unwrap();
    // The server says that a tunnel stands after its client does.
    let stands = "The VPN server says that the tunnel of 10.71.0.2 stands, from 198.51.100.7";
    eventually("the server tells of it", async || sea.harbour.stack.story(crossing).await.to_string().contains(stands)).await;
    let story = sea.harbour.stack.story(crossing).await.to_string();
    for words in [
        "A client at 198.51.100.7 asked for a tunnel at entrance pilots. It says of itself: linux 2.",
        "pilots and engineers reach the pilot office",
        "The machine 10.71.0.2 is let through in zone pilots",
        "The client was given 10.71.0.2, fd71:71::2 and told: route 10.88.0.0 255.255.255.0, route-ipv6 fd88::/64, dhcp-option DNS",
    ] {
        assert!(story.contains(words), "{words}\n{story}");
    }
    // What runs is cut when the call that ends returns, and the client does not come back.
    let mut stream = sea.harbour.yard.at("pilot", || TcpStream::connect((OFFICE[0], 80)).unwrap());
    let session = sea.harbour.stack.get("/sessions").await[0]["id"].clone();
    let (status, _) = sea.harbour.stack.post("/sessions/end", json!({"sessions": [session]})).await;
    assert_eq!(status, 200);
    stream.set_read_timeout(Some(std::time::Duration::from_secs(1))).unwrap();
    stream.write_all(b"GET / HTTP/1.0\r\n\r\n").unwrap();
    assert!(stream.read(&mut [0; 100]).map_or(true, |n| n == 0), "the stream goes on");
    assert!(!sea.harbour.reaches("pilot", OFFICE[0], 80));
    eventually("the client is ended for good", async || client.is_over()).await;
    assert!(present(&sea).await.is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn rules_stack_for_an_engineer_and_words_reach_who_is_refused() {
    if !Sea::is_caged("tunnels::rules_stack_for_an_engineer_and_words_reach_who_is_refused") {
        return;
    }
    let sea = Sea::new(|site| site).await;
    sea.harbour.yard.serve();
    let (_lucie, client, page) = comes_in(&sea, "lucie", "lucie").await;
    assert!(page.body.contains("You reach the beacons as well"), "{}", page.body);
    client.says("Initialization Sequence Completed", 1).await;
    for (host, port) in [(OFFICE[0], 80), (CRANE[0], 443), (CRANE[1], 443)] {
        assert!(sea.harbour.reaches("pilot", host, port), "{host} {port}");
    }
    // What a rehearsal says for a client is what it met; without one nobody comes by a tunnel.
    let rehearsed = async |tunnel: Value| {
        let ask = json!({"provider": "pilotage", "subject": "p-1001", "gate": "tunnel", "tunnel": tunnel});
        sea.harbour.stack.post("/rehearse/person", ask).await
    };
    let known = comes_in(&sea, "known", "anouk").await;
    drop(known);
    for (version, verdict) in [("2.6.14", "in"), ("2.4", "out")] {
        let (status, said) = rehearsed(json!({"entrance": "pilots", "platform": "linux", "version": version})).await;
        assert!(status == 200 && said["gates"][0]["now"]["verdict"] == verdict, "{version}: {said}");
    }
    assert_eq!(rehearsed(json!({"entrance": "sailors"})).await.0, 400);
    // A fitter is refused where they sign in; nobody says yes for them, and their client waits in vain.
    let fitter = sea.connect_by_browser("farid");
    let page = opens(&sea, &mut Person::new(), &fitter, 1, "farid").await;
    assert!(page.status == 403 && !page.body.contains("Is it yours"), "{}", page.body);
    // An old client is refused by what it says of itself.
    let site = sea.harbour.stack.site.replace("client-version = \"2.5\"", "client-version = \"9.1\"");
    assert_eq!(sea.harbour.stack.publish(&site).await.0, 200);
    let old = sea.connect_by_browser("anouk");
    let page = opens(&sea, &mut Person::new(), &old, 1, "anouk").await;
    assert!(page.status == 403 && page.body.contains("too old for the tunnel"), "{}", page.body);
    // Whoever was on by the edition before is off by this one.
    eventually("the engineer's tunnel is over", async || present(&sea).await.is_empty()).await;
    assert!(!sea.harbour.reaches("pilot", OFFICE[0], 80));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_person_says_no_to_a_machine_that_is_not_theirs_and_a_browser_elsewhere_opens_nothing() {
    if !Sea::is_caged("tunnels::a_person_says_no_to_a_machine_that_is_not_theirs_and_a_browser_elsewhere_opens_nothing") {
        return;
    }
    let sea = Sea::new(|site| site).await;
    let client = sea.connect_by_browser("one");
    let mut anouk = Person::new();
    let page = opens(&sea, &mut anouk, &client, 1, "anouk").await;
    // The address was handed to somebody who sits elsewhere.
    let url = client.address(1).await;
    sea.harbour.sit("visitor");
    let mut klara = Person::new();
    let page_of_klara = klara.open(&url).await;
    let back = klara.prove(page_of_klara, "klara").await;
    let elsewhere = klara.follow(back).await;
    assert!(elsewhere.status == 403 && elsewhere.body.contains("comes from the same address"), "{}", elsewhere.body);
    let forced = url.replace("/connect?", "/.passeur/connect?") + "&answer=yes";
    let forced = klara.send(Method::POST, &forced, Some(&[])).await;
    assert!(!forced.body.contains("The tunnel is open"), "{}", forced.body);
    sea.harbour.stack.settle().await;
    let all = sea.harbour.stack.get("/crossings?limit=1").await;
    let refused = sea.harbour.stack.story(all["crossings"][0]["id"].as_str().unwrap()).await.to_string();
    assert!(refused.contains("takes a browser at the client") && refused.contains("browser = \\\"anywhere\\\""), "{refused}");
    // From another site's page nobody answers.
    sea.harbour.sit("pilot");
    let said = answers(&mut anouk, &page, "no").await;
    assert!(said.status == 403 && said.body.contains("The machine stays out"), "{}", said.body);
    client.says("AUTH_FAILED,The person who was asked said that this tunnel is not theirs.", 1).await;
    let again = answers(&mut anouk, &page, "yes").await;
    assert!(!again.body.contains("The tunnel is open"), "{}", again.body);
    assert!(present(&sea).await.is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_client_that_loses_its_way_comes_back_without_a_new_sign_in_and_not_after_its_person_left() {
    if !Sea::is_caged("tunnels::a_client_that_loses_its_way_comes_back_without_a_new_sign_in_and_not_after_its_person_left") {
        return;
    }
    let sea = Sea::new(|site| site).await;
    sea.harbour.yard.serve();
    let (_anouk, client, _) = comes_in(&sea, "anouk", "anouk").await;
    client.says("Initialization Sequence Completed", 1).await;
    let before = present(&sea).await[0]["id"].clone();
    client.reconnect();
    client.says("Initialization Sequence Completed", 2).await;
    assert!(sea.harbour.reaches("pilot", OFFICE[0], 80));
    let on = present(&sea).await;
    assert_eq!((on.len(), &on[0]["id"]), (1, &before), "the same admission");
    assert_eq!(client.said().matches("WEB_AUTH::").count(), 1, "nobody was asked");
    let story = sea.harbour.stack.story(on[0]["crossing"].as_str().unwrap()).await.to_string();
    assert!(story.contains("came back from 198.51.100.7 within its time, without a new sign-in"), "{story}");
    // The server ends and comes again: who was on there is not on any more.
    drop(client);
    eventually("the tunnel is over", async || present(&sea).await.is_empty()).await;
    assert!(!sea.harbour.reaches("pilot", OFFICE[0], 80));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_client_that_opens_no_browser_comes_in_by_a_code_once() {
    if !Sea::is_caged("tunnels::a_client_that_opens_no_browser_comes_in_by_a_code_once") {
        return;
    }
    let sea = Sea::new(|site| site).await;
    sea.harbour.yard.serve();
    // It asks, and is told what to ask its person.
    let first = sea.connect("first", 1194, &sea.typed("first", "anouk", "nothing"));
    first.says("AUTH_FAILED,CRV1:R,E:", 1).await;
    assert!(first.said().contains("and type the code that it shows"), "{}", first.said());
    let state = first.said().rsplit("CRV1:R,E:").next().unwrap().split(':').next().unwrap().to_owned();
    sea.harbour.sit("pilot");
    let port = sea.harbour.stack.address.port();
    let gate = format!("http://tunnel.havrelune.localhost:{port}");
    let mut anouk = Person::new();
    let page = anouk.open(&format!("{gate}/")).await;
    let back = anouk.prove(page, "anouk").await;
    let page = anouk.follow(back).await;
    assert!(page.body.contains("asks for a code instead"), "{}", page.body);
    let page = anouk.send(Method::POST, &format!("{gate}/.passeur/connect-code"), Some(&[])).await;
    let code = page.body.split("<code class=\"id\">").nth(1).and_then(|r| r.split('<').next()).unwrap().to_owned();
    let connect = |name: &str, code: &str| {
        let lines = sea.typed(name, "anouk", &format!("CRV1::{state}::{code}"));
        sea.connect(name, 1194, &lines)
    };
    let wrong = connect("wrong", "BCDF-GHJK");
    wrong.says("AUTH_FAILED,This code is not one", 1).await;
    let right = connect("right", &code);
    right.says("Initialization Sequence Completed", 1).await;
    assert!(sea.harbour.reaches("pilot", OFFICE[0], 80));
    let twice = connect("twice", &code);
    twice.says("AUTH_FAILED,This code is not one", 1).await;
    assert_eq!(present(&sea).await.len(), 1);
    sea.harbour.stack.settle().await;
    let all = sea.harbour.stack.get("/crossings?limit=10").await;
    let refused = |c: &Value| c["code"] == "tunnel.code-refused";
    assert!(all["crossings"].as_array().unwrap().iter().any(refused), "{all}");
}

/// What the survey says of an entrance whose server nobody speaks with; none where somebody does.
async fn lost(sea: &Sea, entrance: &str) -> Option<String> {
    let (_, survey) = sea.harbour.stack.post("/survey", json!({})).await;
    let all = survey["findings"].as_array().unwrap_or_else(|| panic!("{survey}")).clone();
    let is_it = |f: &Value| f["code"] == "tunnel.server-lost" && f["place"] == format!("entrance {entrance}");
    all.into_iter().find(is_it).map(|f| f.to_string())
}

#[tokio::test(flavor = "multi_thread")]
async fn after_a_restart_of_either_side_who_is_on_and_who_is_connected_are_the_same() {
    if !Sea::is_caged("tunnels::after_a_restart_of_either_side_who_is_on_and_who_is_connected_are_the_same") {
        return;
    }
    let mut sea = Sea::new(|site| site).await;
    sea.harbour.yard.serve();
    let (_anouk, mut client, _) = comes_in(&sea, "anouk", "anouk").await;
    client.says("Initialization Sequence Completed", 1).await;
    // The service: the tunnel goes on, and is ended by whoever comes after.
    sea.harbour.stack.restart().await;
    sea.harbour.guarded().await;
    assert!(sea.harbour.reaches("pilot", OFFICE[0], 80));
    assert_eq!(present(&sea).await.len(), 1);
    let session = sea.harbour.stack.get("/sessions").await[0]["id"].clone();
    // Not before the one that came after knows whose tunnel it is: it would have the client come again, and ask it.
    eventually("the server is spoken with", async || lost(&sea, "pilots").await.is_none()).await;
    sea.harbour.stack.post("/sessions/end", json!({"sessions": [session]})).await;
    assert!(!sea.harbour.reaches("pilot", OFFICE[0], 80));
    eventually("the client is ended for good", async || client.is_over()).await;
    // The server: whoever was on is on no more, and the next one comes in.
    let (_klara, client, _) = comes_in(&sea, "klara", "klara").await;
    client.says("Initialization Sequence Completed", 1).await;
    sea.kill_server("pilots");
    sea.start_server("pilots", 1194, "10.71.0", Some("fd71:71::"));
    eventually("nobody is on", async || present(&sea).await.is_empty()).await;
    drop(client);
    let (_jonas, client, page) = comes_in(&sea, "jonas", "jonas").await;
    assert!(page.body.contains("The tunnel is open"), "{}", page.body);
    client.says("Initialization Sequence Completed", 1).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn at_a_trial_entrance_everything_is_told_and_nothing_is_opened() {
    if !Sea::is_caged("tunnels::at_a_trial_entrance_everything_is_told_and_nothing_is_opened") {
        return;
    }
    let mut sea = Sea::new(|site| site).await;
    sea.harbour.yard.serve();
    sea.start_server("trial", 1195, "10.72.0", None);
    let client = sea.connect("trial", 1195, "setenv IV_SSO webauth");
    let mut lucie = Person::new();
    let page = opens(&sea, &mut lucie, &client, 1, "lucie").await;
    let page = answers(&mut lucie, &page, "yes").await;
    assert!(page.body.contains("10.72.0.2"), "{}", page.body);
    client.says("Initialization Sequence Completed", 1).await;
    assert!(!sea.harbour.reaches("pilot", OFFICE[0], 80));
    let on = present(&sea).await;
    let story = sea.harbour.stack.story(on[0]["crossing"].as_str().unwrap()).await.to_string();
    assert!(story.contains("Entrance trial is a trial: nothing is opened. Otherwise these would be: pilot-office"), "{story}");
}

/// A person makes a profile as the page's script does: the key stays here. What the client's configuration holds besides it, and the key.
async fn makes_profile(sea: &Sea, person: &mut Person, device: &str) -> (String, String) {
    let gate = format!("http://tunnel.havrelune.localhost:{}", sea.harbour.stack.address.port());
    let page = person.open(&format!("{gate}/profile")).await;
    let challenge = page.body.split("data-challenge=\"").nth(1).and_then(|r| r.split('"').next());
    let challenge = challenge.unwrap_or_else(|| panic!("{}", page.body)).to_owned();
    let key = rcgen::KeyPair::generate().unwrap();
    let pair = EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, key.serialized_der()).unwrap();
    let sign = |what: &str| pair.sign(&SystemRandom::new(), what.as_bytes()).unwrap().as_ref().to_vec();
    let b64 = |b: &[u8]| base64::engine::general_purpose::URL_SAFE_NO_PAD.encode(b);
    let ask = |signature: &[u8], device: &str| {
        let key = b64(&key.subject_public_key_info());
        format!("{gate}/.passeur/profile?device={device}&entrance=pilots&key={key}&signature={}", b64(signature))
    };
    // Whoever does not have the key, or signs something else, gets nothing.
    for (signature, device) in [(sign("another session's"), device), (vec![0; 64], device), (sign(&challenge), "")] {
        let page = person.send(Method::POST, &ask(&signature, device), Some(&[])).await;
        assert_eq!(page.status, 400, "{}", page.body);
    }
    // Nor does another site's page.
    let page = person.send_body(Method::POST, &ask(&sign(&challenge), device), String::new()).await;
    assert_eq!(page.status, 403, "{}", page.body);
    let made = person.send(Method::POST, &ask(&sign(&challenge), device), Some(&[])).await;
    assert_eq!(made.status, 200, "{}", made.body);
    (made.body, key.serialize_pem())
}

/// An engineer makes a profile for somebody's machine, by the command.
async fn an_engineer_makes_one(sea: &Sea, anouk: &mut Person) {
    // Its key is in the file alone, and its person's sign-in opens by it.
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("winch.ovpn").display().to_string();
    let made = async |person: &str, device: &str, into: &str| {
        let args = ["profile", "make", "tunnel", "--person", person, "--device", device, "--entrance", "pilots", "--into", into];
        crate::cli::passeur(&sea.harbour.stack, &args, "").await
    };
    let ran = made("Anouk Tregarec", "winch-tablet", &file).await;
    assert_eq!(ran.code, 0, "{ran:?}");
    assert!(ran.out.contains("holds a profile of winch-tablet for Anouk Tregarec") && !ran.out.contains("PRIVATE"), "{ran:?}");
    let whole = std::fs::read_to_string(&file).unwrap();
    assert_eq!(std::fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o600);
    let client = sea.connect_with("winch", &whole);
    let page = opens(sea, anouk, &client, 1, "anouk").await;
    let page = answers(anouk, &page, "yes").await;
    assert!(page.body.contains("The tunnel is open"), "{}", page.body);
    drop(client);
    // A file that is there is left alone, and one of nobody's, or of several people's, is not begun.
    assert_eq!(made("Anouk Tregarec", "winch-tablet", &file).await.code, 1);
    assert_eq!(std::fs::read_to_string(&file).unwrap(), whole);
    let other = folder.path().join("other.ovpn").display().to_string();
    for (person, device, says) in [
        ("nobody-of-that-name", "d", "Nobody who was here before has this value"),
        ("e", "d", "Several people have this value"),
        ("Anouk Tregarec", " ", "device is what the machine is called"),
    ] {
        let ran = made(person, device, &other).await;
        assert!(ran.code != 0 && ran.err.contains(says), "{person}: {ran:?}");
        assert!(!std::path::Path::new(&other).exists(), "{person}");
    }
}

fn key_pem() -> String {
    rcgen::KeyPair::generate().unwrap().public_key_pem()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_personal_profile_opens_with_its_own_person_alone_and_not_after_it_is_revoked() {
    if !Sea::is_caged("tunnels::a_personal_profile_opens_with_its_own_person_alone_and_not_after_it_is_revoked") {
        return;
    }
    let mut sea = Sea::new(|site| site).await;
    sea.harbour.yard.serve();
    let stack = &sea.harbour.stack;
    let (status, made) = stack.post("/secrets/tunnel-authority/make-key", json!({"years": 5, "authority": true})).await;
    assert_eq!(status, 200, "{made}");
    // The server's certificate is of the same authority.
    let key = rcgen::KeyPair::generate().unwrap();
    let ask = json!({"host": "vpn.havrelune.example", "public_key": key.public_key_pem()});
    let (status, server) = stack.post("/gates/tunnel/server-certificate", ask).await;
    assert_eq!(status, 200, "{server}");
    let authority = stack.get("/gates/tunnel/authority").await["pem"].as_str().unwrap().to_owned();
    assert_eq!(server["authority"]["pem"], authority.as_str());
    let (status, _) =
        stack.post("/gates/tunnel/server-certificate", json!({"host": "a b", "public_key": key.public_key_pem()})).await;
    assert_eq!(status, 400);
    sea.kill_server("pilots");
    sea.write("ca.pem", &authority);
    sea.write("server.pem", server["certificate"]["pem"].as_str().unwrap());
    sea.write("server.key", &key.serialize_pem());
    sea.start_server("pilots", 1194, "10.71.0", Some("fd71:71::"));
    let personal =
        sea.harbour.stack.site.replace("browser = \"same-address\"", "browser = \"same-address\"\nprofiles = \"personal\"");
    assert_eq!(sea.harbour.stack.publish(&personal).await.0, 200);
    // Anouk makes one.
    sea.harbour.sit("pilot");
    let mut anouk = Person::new();
    let gate = format!("http://tunnel.havrelune.localhost:{}/", sea.harbour.stack.address.port());
    let page = anouk.open(&gate).await;
    let back = anouk.prove(page, "anouk").await;
    let page = anouk.follow(back).await;
    assert!(page.body.contains("Profiles of my machines"), "{}", page.body);
    let (configuration, key) = makes_profile(&sea, &mut anouk, "bridge-laptop").await;
    assert!(configuration.contains("remote 198.51.100.1 1194 udp") && !configuration.contains("PRIVATE"), "{configuration}");
    let profile = format!("{configuration}<key>\n{key}</key>\n");
    let client = sea.connect_with("own", &profile);
    let page = opens(&sea, &mut anouk, &client, 1, "anouk").await;
    let page = answers(&mut anouk, &page, "yes").await;
    assert!(page.body.contains("The tunnel is open"), "{}", page.body);
    client.says("Initialization Sequence Completed", 1).await;
    assert!(sea.harbour.reaches("pilot", OFFICE[0], 80));
    // Another person's sign-in opens nothing by it, and a certificate of nobody's does not get so far.
    let other = sea.connect_with("other", &profile);
    let mut klara = Person::new();
    let page = opens(&sea, &mut klara, &other, 1, "klara").await;
    let page = answers(&mut klara, &page, "yes").await;
    assert!(page.status == 403 && !page.body.contains("The tunnel is open"), "{}", page.body);
    other.says("AUTH_FAILED", 1).await;
    sea.harbour.stack.settle().await;
    let all = sea.harbour.stack.get("/crossings?limit=1&person=klara").await;
    assert_eq!(all["crossings"][0]["outcome"], "refused", "{all}");
    let story = sea.harbour.stack.story(all["crossings"][0]["id"].as_str().unwrap()).await.to_string();
    assert!(story.contains("The rules let Klara Vesely in at the gate, as crossing"), "{story}");
    assert!(story.contains("which was made for Anouk Tregarec, and Klara Vesely signed in"), "{story}");
    // Revoked: its tunnel is closed and ended, and does not come back.
    let listed = sea.harbour.stack.get("/profiles?text=bridge").await;
    assert_eq!((listed.as_array().unwrap().len(), &listed[0]["device"]), (1, &json!("bridge-laptop")));
    let (status, gone) = sea.harbour.stack.post("/profiles/revoke", json!({"profiles": [listed[0]["id"]]})).await;
    assert!(status == 200 && gone["revoked"].as_array().unwrap().len() == 1, "{gone}");
    eventually("its tunnel is over", async || present(&sea).await.is_empty()).await;
    assert!(!sea.harbour.reaches("pilot", OFFICE[0], 80));
    let again = sea.connect_with("again", &profile);
    again.says("AUTH_FAILED,This entrance takes machines with a profile of their person's own alone", 1).await;
    an_engineer_makes_one(&sea, &mut anouk).await;
    // What is taken from whoever leaves: the next one of theirs as well.
    let (_, _) = makes_profile(&sea, &mut anouk, "second-laptop").await;
    let (status, taken) =
        sea.harbour.stack.post("/people/take-away", json!({"people": ["pilotage/p-1001"], "block": "left"})).await;
    let ask = |public_key: String| json!({"gate": "tunnel", "entrance": "pilots", "person": "p-1001", "device": "d", "public_key": public_key});
    let (again, told) = sea.harbour.stack.post("/profiles", ask(key_pem())).await;
    assert!(again == 409 && told.to_string().contains("passeur let-in pilotage/p-1001"), "{told}");
    assert_eq!(sea.harbour.stack.post("/profiles", ask("no key".into())).await.0, 400);
    assert!(
        status == 200
            && ["winch-tablet", "second-laptop"].iter().all(|d| taken["profiles"].as_array().unwrap().contains(&json!(d))),
        "{taken}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_renewed_key_asks_the_rules_again_and_the_tunnel_goes_on() {
    if !Sea::is_caged("tunnels::a_renewed_key_asks_the_rules_again_and_the_tunnel_goes_on") {
        return;
    }
    let sea = Sea::new(|site| site).await;
    sea.harbour.yard.serve();
    let client = sea.connect("anouk", 1194, "setenv IV_SSO webauth\nreneg-sec 5");
    let mut anouk = Person::new();
    let page = opens(&sea, &mut anouk, &client, 1, "anouk").await;
    answers(&mut anouk, &page, "yes").await;
    client.says("Initialization Sequence Completed", 1).await;
    let crossing = present(&sea).await[0]["crossing"].as_str().unwrap().to_owned();
    eventually("the key is renewed", async || {
        sea.harbour.stack.story(&crossing).await.to_string().contains("renewed its key, and the rules were asked again")
    })
    .await;
    assert!(sea.harbour.reaches("pilot", OFFICE[0], 80));
    assert_eq!(present(&sea).await.len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_survey_says_when_a_server_is_lost_or_may_be_spoken_with_by_others() {
    if !Sea::is_caged("tunnels::the_survey_says_when_a_server_is_lost_or_may_be_spoken_with_by_others") {
        return;
    }
    // One entrance, so that the other one's server is not missed.
    let one = |site: String| site.replace("entrances = [\"pilots\", \"trial\"]\nways", "entrances = [\"pilots\"]\nways");
    let mut sea = Sea::new(one).await;
    let says = async |sea: &Sea, code: &str| {
        sea.harbour.stack.post("/survey", json!({})).await.1.to_string().contains(&format!("\"{code}\""))
    };
    eventually("the server is spoken with", async || lost(&sea, "pilots").await.is_none()).await;
    let _client = sea.connect_by_browser("first");
    _client.address(1).await;
    for code in ["tunnel.hand-window", "tunnel.socket-open"] {
        assert!(!says(&sea, code).await, "{code}");
    }
    sea.kill_server("pilots");
    eventually("it is told that the server is lost", async || lost(&sea, "pilots").await.is_some()).await;
    // Another one takes the connection, and says nothing.
    std::fs::remove_file(sea.management("pilots")).unwrap();
    let mute = tokio::net::UnixListener::bind(sea.management("pilots")).unwrap();
    let _taken = mute.accept().await.unwrap();
    let words = "has not said yet who is connected";
    eventually("a server that says nothing is lost", async || lost(&sea, "pilots").await.is_some_and(|l| l.contains(words)))
        .await;
    drop((_taken, mute));
    std::fs::remove_file(sea.management("pilots")).unwrap();
    // It comes back with a folder that everybody may enter.
    sea.start_server("pilots", 1194, "10.71.0", Some("fd71:71::"));
    sea.open_folder("pilots");
    eventually("it is spoken with again", async || lost(&sea, "pilots").await.is_none()).await;
    sea.harbour.stack.restart().await;
    eventually("it is told that others may speak with it", async || says(&sea, "tunnel.socket-open").await).await;
    // One that lets nobody wait as long as a sign-in may take: it says so once somebody waits.
    sea.kill_server("pilots");
    sea.start_server_with("pilots", 1194, "10.71.0", Some("fd71:71::"), "hand-window 20\nreneg-sec 40\n");
    eventually("it is spoken with again", async || lost(&sea, "pilots").await.is_none()).await;
    assert!(!says(&sea, "tunnel.hand-window").await);
    let late = sea.connect_by_browser("second");
    late.address(1).await;
    eventually("it is told how long it waits", async || says(&sea, "tunnel.hand-window").await).await;
}
