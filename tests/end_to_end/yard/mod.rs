//! The yard for real: a kernel that closes, a sluice that opens, machines on a link. Each test in a cage of its own.

mod engineers;
mod failures;
mod leases;
mod names;

use std::io::{Read, Write};
use std::net::TcpStream;

use passeur_standins::cage::{CRANE, SITE, VISITOR, written};
use serde_json::json;

use crate::networks::{by_the_office, yard};
use crate::support::{Browser, Harbour, Person, eventually};

/// Without terms, so that who signs in is on at once.
fn without_terms(site: String) -> String {
    site.replace("terms = { version = \"2026-11\", text = \"Be kind to the network.\" }\n", "")
}

#[tokio::test(flavor = "multi_thread")]
async fn a_machine_is_let_through_when_its_person_signs_in_and_cut_before_the_end_of_the_session_is_told() {
    if !Harbour::is_caged("yard::a_machine_is_let_through_when_its_person_signs_in_and_cut_before_the_end_of_the_session_is_told")
    {
        return;
    }
    let harbour = Harbour::new(without_terms).await;
    harbour.yard.serve();
    let stack = &harbour.stack;
    assert!(!harbour.reaches("visitor", SITE[0], 443), "closed to whoever is not signed in");
    // The crane's tablet has nobody who signs in.
    assert!(harbour.reaches("tablet", CRANE[0], 22) && !harbour.reaches("tablet", SITE[0], 443));
    let mut farid = Person::new();
    let page = by_the_office(&mut farid, &yard(stack, "/"), "farid").await;
    assert!(
        page.body.contains("This machine is on the network") && page.body.contains(&written(&VISITOR.hardware)),
        "{}",
        page.body
    );
    for host in SITE {
        assert!(harbour.reaches("visitor", host, 443), "{host}");
        assert!(!harbour.reaches("tablet", host, 443), "{host}");
    }
    assert!(harbour.reaches("visitor", CRANE[1], 22) && !harbour.reaches("visitor", CRANE[1], 80));
    // A stream that runs is cut when the call that ends the session returns.
    let mut stream = harbour.yard.at("visitor", || TcpStream::connect((SITE[0], 9_000)).unwrap());
    stream.write_all(b"go\n").unwrap();
    assert!(stream.read(&mut [0; 1_000]).unwrap() > 0);
    let session = stack.get("/sessions").await[0]["id"].clone();
    let (status, _) = stack.post("/sessions/end", json!({"sessions": [session]})).await;
    assert_eq!(status, 200);
    assert!(!harbour.reaches("visitor", SITE[0], 443) && !harbour.reaches("visitor", CRANE[0], 22));
    stream.set_read_timeout(Some(std::time::Duration::from_secs(1))).unwrap();
    let mut buffer = vec![0; 1 << 20];
    let mut total = 0;
    while let Ok(n) = stream.read(&mut buffer) {
        total += n;
        assert!(n > 0 && total < 64 << 20, "the stream goes on");
    }
    // Signing in again opens again.
    let page = by_the_office(&mut Person::new(), &yard(stack, "/"), "farid").await;
    assert!(page.body.contains("This machine is on the network"), "{}", page.body);
    assert!(harbour.reaches("visitor", SITE[1], 443));
}

#[tokio::test(flavor = "multi_thread")]
async fn an_edition_that_takes_a_reach_away_takes_it_from_who_is_on() {
    if !Harbour::is_caged("yard::an_edition_that_takes_a_reach_away_takes_it_from_who_is_on") {
        return;
    }
    let harbour = Harbour::new(without_terms).await;
    harbour.yard.serve();
    let stack = &harbour.stack;
    let mut farid = Person::new();
    let page = by_the_office(&mut farid, &yard(stack, "/"), "farid").await;
    assert!(page.body.contains("This machine is on the network"), "{}", page.body);
    assert!(harbour.reaches("visitor", SITE[0], 443) && harbour.reaches("visitor", CRANE[0], 22));
    let less = stack
        .site
        .replace(
            "when = { group = \"fitters\" }\nenter = true\nreach = [\"crane-hosts\"]",
            "when = { group = \"fitters\" }\nenter = true\nreach = []",
        )
        .replace(
            "when = { hours = { from = \"06:00\", until = \"20:00\" } }\nreach = [\"crane-hosts\"]",
            "when = { hours = { from = \"06:00\", until = \"20:00\" } }\nmessage = \"Good day.\"",
        );
    let (status, said) = stack.publish(&less).await;
    assert_eq!(status, 200, "{said}");
    // Taken away when the call returns.
    assert!(harbour.reaches("visitor", SITE[0], 443) && !harbour.reaches("visitor", CRANE[0], 22));
    let crossing = stack.get("/presences?text=farid").await["presences"][0]["crossing"].as_str().unwrap().to_owned();
    let story = stack.get(&format!("/crossings/{crossing}")).await;
    assert!(story.to_string().contains("another edition is in force"), "{story}");
}

/// What a machine's system is told of the network, asked at the gate's own address.
async fn captive(harbour: &Harbour, machine: &'static str) -> serde_json::Value {
    harbour.sit(machine);
    let stack = &harbour.stack;
    let page = Person::new().send(reqwest::Method::GET, &yard(stack, "/.passeur/captive"), None).await;
    assert_eq!((page.status.as_u16(), page.header("content-type")), (200, "application/captive+json"), "{}", page.body);
    assert!(page.header("cache-control").contains("no-store"));
    harbour.sit("visitor");
    page.json()
}

/// One request of plain HTTP from a machine, to wherever it is led: status, Location and the rest.
fn plain_http(harbour: &Harbour, machine: &str, host: &str) -> String {
    let to = std::net::SocketAddr::new(host.parse().unwrap(), 80);
    harbour.yard.at(machine, move || {
        let mut stream = TcpStream::connect(to).unwrap();
        stream.write_all(b"GET /news?a=b HTTP/1.1\r\nHost: news.example\r\n\r\n").unwrap();
        let mut said = String::new();
        let _ = stream.read_to_string(&mut said);
        said
    })
}

#[tokio::test(flavor = "multi_thread")]
async fn terms_come_first_the_system_is_told_and_a_connection_from_before_goes_on_to_where_it_wanted() {
    if !Harbour::is_caged("yard::terms_come_first_the_system_is_told_and_a_connection_from_before_goes_on_to_where_it_wanted") {
        return;
    }
    let harbour = Harbour::new(|site| site).await;
    harbour.yard.serve();
    let stack = &harbour.stack;
    let told = captive(&harbour, "visitor").await;
    assert_eq!(told, json!({"captive": true, "user-portal-url": yard(stack, "/"), "can-extend-session": false}));
    for host in SITE {
        let said = plain_http(&harbour, "visitor", host);
        assert!(said.starts_with("HTTP/1.1 302") && said.contains(&format!("location: {}", yard(stack, "/"))), "{host}: {said}");
        assert!(said.contains("connection: close") && said.contains("cache-control: no-store"), "{said}");
    }
    // A spare connection that a browser opened before, and uses afterwards.
    let mut spare = harbour.yard.at("visitor", || TcpStream::connect((SITE[0], 80)).unwrap());
    let mut gwen = Person::new();
    let page = by_the_office(&mut gwen, &yard(stack, "/"), "gwen").await;
    assert!(page.body.contains("Be kind to the network") && !page.body.contains("is on the network"), "{}", page.body);
    assert!(!harbour.reaches("visitor", SITE[0], 443), "nothing before the terms are accepted");
    let (to, _) = page.form();
    // Another page may not accept for somebody, nor may anybody accept what they were not shown.
    let forged = gwen.send_body(reqwest::Method::POST, &yard(stack, &to), String::new()).await;
    assert_eq!(forged.status, 403, "{}", forged.body);
    let old = gwen.send(reqwest::Method::POST, &yard(stack, "/.passeur/accept?version=2025-01"), Some(&[])).await;
    assert_eq!(old.status, 303);
    assert!(!harbour.reaches("visitor", SITE[0], 443));
    let done = gwen.send(reqwest::Method::POST, &yard(stack, &to), Some(&[])).await;
    assert_eq!(done.status, 303, "{}", done.body);
    let page = gwen.open(&yard(stack, "/")).await;
    assert!(page.body.contains("is on the network") && page.body.contains("http://news.example/news?a=b"), "{}", page.body);
    assert!(harbour.reaches("visitor", SITE[0], 443));
    spare.write_all(b"GET /spare HTTP/1.1\r\nHost: news.example\r\n\r\n").unwrap();
    let mut said = String::new();
    let _ = spare.read_to_string(&mut said);
    assert!(said.starts_with("HTTP/1.1 307") && said.contains("location: http://news.example/spare"), "{said}");
    let told = captive(&harbour, "visitor").await;
    assert_eq!((told["captive"].as_bool(), told["can-extend-session"].as_bool()), (Some(false), Some(true)), "{told}");
    let left = told["seconds-remaining"].as_i64().unwrap();
    assert!((14_000..=14_400).contains(&left) && told["bytes-remaining"].as_u64().unwrap() <= 2_000_000_000, "{told}");
    assert_eq!(captive(&harbour, "tablet").await["captive"], false, "a machine without a person is on");
    let accepted = stack.get("/presences/terms").await;
    assert_eq!(
        (accepted[0]["version"].as_str(), accepted[0]["name"].as_str()),
        (Some("2026-11"), Some("Gwen Marlow")),
        "{accepted}"
    );
    // Once is enough, whatever session it was.
    let again = by_the_office(&mut Person::new(), &yard(stack, "/"), "gwen").await;
    assert!(again.body.contains("is on the network"), "{}", again.body);
}

/// Signs in somebody who is to be on.
async fn on(harbour: &Harbour, user: &str) -> Person {
    let mut person = Person::new();
    let page = by_the_office(&mut person, &yard(&harbour.stack, "/"), user).await;
    assert!(page.body.contains("is on the network"), "{user}: {}", page.body);
    person
}

#[tokio::test(flavor = "multi_thread")]
async fn one_machine_too_many_is_refused_or_the_oldest_leaves() {
    if !Harbour::is_caged("yard::one_machine_too_many_is_refused_or_the_oldest_leaves") {
        return;
    }
    let few = |site: String| {
        without_terms(site).replace("devices = 2", "devices = 1").replace("devices = 3", "devices = 1").replace("[[gate.machine]]", "[[gate.machine]]\nname = \"other\"\nhardware = \"00:1b:44:11:3a:b8\"\nowner = \"o\"\npurpose = \"p\"\nuntil = \"2027-12-31\"\nreach = [\"crane-hosts\"]\n[[gate.machine]]")
    };
    let harbour = Harbour::new(few).await;
    harbour.yard.serve();
    let stack = &harbour.stack;
    let _first = on(&harbour, "farid").await;
    harbour.sit("tablet");
    let page = by_the_office(&mut Person::new(), &yard(stack, "/"), "farid").await;
    assert!(page.body.contains("as many machines") && page.body.contains(&written(&VISITOR.hardware)), "{}", page.body);
    // The crossing on the page is one of its own: the sign-in's says that the person came in.
    stack.settle().await;
    let told = stack.get("/crossings?limit=1&outcome=refused").await["crossings"][0].clone();
    assert!(page.body.contains(told["id"].as_str().unwrap()), "{told}\n{}", page.body);
    assert!(!harbour.reaches("tablet", SITE[0], 443) && harbour.reaches("visitor", SITE[0], 443));
    // The tablet has what it has without a person, and no more.
    assert!(harbour.reaches("tablet", CRANE[0], 22));
    // Somebody else may come on it, and it is theirs as long as they are on.
    let gwen = on(&harbour, "gwen").await;
    assert!(harbour.reaches("tablet", SITE[0], 443));
    // Where the gate says so, the oldest leaves for the newcomer.
    let (status, said) = stack
        .publish(&stack.site.replace("devices = 1\nterms", "devices = 1\nwhen-full = \"end-oldest\"\nterms").replacen(
            "re-read = \"1d\"\ndevices = 1\n",
            "re-read = \"1d\"\ndevices = 1\nwhen-full = \"end-oldest\"\n",
            1,
        ))
        .await;
    assert_eq!(status, 200, "{said}");
    harbour.guarded().await;
    drop(gwen);
    let _second = on(&harbour, "farid").await;
    assert!(harbour.reaches("tablet", SITE[0], 443) && !harbour.reaches("visitor", SITE[0], 443));
    // When nobody is signed in on the tablet any more, it is what it was.
    let sessions = stack.get("/sessions").await;
    let ids: Vec<_> = sessions.as_array().unwrap().iter().map(|s| s["id"].clone()).collect();
    stack.post("/sessions/end", json!({"sessions": ids})).await;
    assert!(!harbour.reaches("tablet", SITE[0], 443));
    eventually("the tablet has its own reach again", async || harbour.reaches("tablet", CRANE[0], 22)).await;
    // Whoever signs in at the moment at which the tablet gets that back is on all the same, however it falls out.
    for _ in 0..8 {
        on(&harbour, "gwen").await;
        assert!(harbour.reaches("tablet", SITE[0], 443));
        let sessions = stack.get("/sessions").await;
        let ids: Vec<_> = sessions.as_array().unwrap().iter().map(|s| s["id"].clone()).collect();
        stack.post("/sessions/end", json!({"sessions": ids})).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_opens_without_the_sluice_and_nobody_is_said_to_be_off_before_the_kernel_is() {
    if !Harbour::is_caged("yard::nothing_opens_without_the_sluice_and_nobody_is_said_to_be_off_before_the_kernel_is") {
        return;
    }
    let mut harbour = Harbour::new(without_terms).await;
    harbour.yard.serve();
    on(&harbour, "farid").await;
    harbour.kill_sluice();
    harbour.sit("tablet");
    // Who is on stays on; who comes is told that it did not open.
    assert!(harbour.reaches("visitor", SITE[0], 443));
    let page = by_the_office(&mut Person::new(), &yard(&harbour.stack, "/"), "gwen").await;
    assert!(page.body.contains("could not be opened just now") || page.body.contains("no machine guards"), "{}", page.body);
    assert!(!harbour.reaches("tablet", SITE[0], 443));
    let stack = &harbour.stack;
    eventually("the survey tells of it", async || {
        stack.post("/survey", json!({})).await.1.to_string().contains("sluice.trouble")
    })
    .await;
    // An end that the kernel does not know of is not said to be one.
    let sessions = stack.get("/sessions").await;
    let ids: Vec<_> = sessions.as_array().unwrap().iter().map(|s| s["id"].clone()).collect();
    let (status, said) = stack.post("/sessions/end", json!({"sessions": ids})).await;
    assert_eq!((status, &said["behind"]), (200, &json!(["test"])), "{said}");
    harbour.start_sluice();
    harbour.guarded().await;
    let (stack, harbour) = (&harbour.stack, &harbour);
    eventually("the cut that was owed is made", async || !harbour.reaches("visitor", SITE[0], 443)).await;
    assert!(harbour.reaches("tablet", CRANE[0], 22), "a machine without a person is let through again");
    eventually("nothing is wrong any more", async || {
        !stack.post("/survey", json!({})).await.1.to_string().contains("sluice.trouble")
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_service_that_is_started_anew_compares_person_by_person() {
    if !Harbour::is_caged("yard::a_service_that_is_started_anew_compares_person_by_person") {
        return;
    }
    let mut harbour = Harbour::new(without_terms).await;
    harbour.yard.serve();
    on(&harbour, "farid").await;
    harbour.sit("tablet");
    on(&harbour, "gwen").await;
    let mut stream = harbour.yard.at("visitor", || TcpStream::connect((SITE[0], 9_000)).unwrap());
    stream.write_all(b"go\n").unwrap();
    let mut buffer = vec![0; 100_000];
    stream.read_exact(&mut buffer).unwrap();
    // While nothing runs, one of them is ended by another node, and a packet filter lets somebody through whom nobody let in.
    let stopped = harbour.stack.service.take().unwrap();
    stopped.stop().await;
    let look = harbour.stack.database.look().await;
    look.execute("UPDATE sessions SET ended_at = now(), ended_by = 'another node' WHERE subject = 'p-1005'", &[]).await.unwrap();
    stream.read_exact(&mut buffer).unwrap();
    harbour.stack.restart().await;
    harbour.guarded().await;
    eventually("whoever is over is cut", async || !harbour.reaches("tablet", SITE[0], 443)).await;
    assert!(harbour.reaches("visitor", SITE[0], 443));
    stream.read_exact(&mut buffer).unwrap();
    let gone = harbour.stack.get("/presences?all=true&text=gwen").await;
    assert!(gone["presences"][0]["ended_at"].is_string(), "{gone}");
    // A flush by somebody else is put back, and told.
    passeur_standins::cage::run("nft flush ruleset");
    let stack = &harbour.stack;
    eventually("it is put back and told", async || {
        let found = stack.post("/survey", json!({})).await.1.to_string();
        found.contains("sluice.restored") && !harbour.reaches("tablet", SITE[0], 443) && harbour.reaches("visitor", SITE[0], 443)
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_address_that_changes_hands_takes_nobody_along() {
    if !Harbour::is_caged("yard::an_address_that_changes_hands_takes_nobody_along") {
        return;
    }
    let harbour = Harbour::new(without_terms).await;
    harbour.yard.serve();
    let farid = on(&harbour, "farid").await;
    let stack = &harbour.stack;
    // The tablet takes the visitor's address, as after a lease that was given anew.
    passeur_standins::cage::run("ip -n visitor addr del 10.70.0.9/24 dev eth0 && ip -n tablet addr add 10.70.0.9/24 dev eth0");
    passeur_standins::cage::run("ip netns exec tablet ip neigh flush dev eth0");
    assert!(!harbour.reaches("tablet", SITE[1], 443));
    let _ = harbour.yard.on("tablet", "curl -s --max-time 2 --interface 10.70.0.9 http://10.70.0.1:1/");
    eventually("whoever had the address before is off", async || {
        let all = stack.get("/presences?all=true&text=farid").await;
        all["presences"][0]["ended_by"] == "its address went to another machine"
    })
    .await;
    assert!(!harbour.reaches("tablet", SITE[0], 443) && !harbour.reaches("visitor", SITE[1], 443));
    drop(farid);
    // Whoever makes up addresses without end is off, and not each of them is written down.
    passeur_standins::cage::run("ip -n tablet addr del 10.70.0.9/24 dev eth0 && ip -n visitor addr add 10.70.0.9/24 dev eth0");
    passeur_standins::cage::run("ip -n visitor route replace default via 10.70.0.1 && ip neigh flush dev yard0");
    on(&harbour, "gwen").await;
    let many = "for i in $(seq 1 80); do ip addr add fd70:70::2:$i/64 dev eth0 nodad; curl -s -m 1 --interface fd70:70::2:$i http://[fd70:70::1]:8643/; done";
    harbour.yard.on("visitor", many);
    eventually("they are off", async || {
        let all = stack.get("/presences?all=true&text=gwen").await;
        all["presences"][0]["ended_by"] == "it made up more addresses than a machine has"
    })
    .await;
    let kept = stack.database.count("presence_addresses").await;
    assert!(kept < 75, "{kept}");
}

#[tokio::test(flavor = "multi_thread")]
async fn time_closes_by_itself_and_a_quota_counts_whoever_signs_in_again() {
    if !Harbour::is_caged("yard::time_closes_by_itself_and_a_quota_counts_whoever_signs_in_again") {
        return;
    }
    let small = |site: String| without_terms(site).replace("quota = \"2GB\"", "quota = \"3MB\"");
    let harbour = Harbour::new(small).await;
    harbour.yard.serve();
    let stack = &harbour.stack;
    on(&harbour, "farid").await;
    let mut stream = harbour.yard.at("visitor", || TcpStream::connect((SITE[0], 9_000)).unwrap());
    stream.write_all(b"go\n").unwrap();
    stream.set_read_timeout(Some(std::time::Duration::from_secs(1))).unwrap();
    let (mut total, mut buffer) = (0, vec![0; 65_536]);
    while let Ok(n) = stream.read(&mut buffer) {
        total += n;
        if n == 0 {
            break;
        }
    }
    assert!((2_000_000..=3_000_000).contains(&total), "{total}");
    eventually("the quota is used up", async || {
        stack.get("/presences?all=true&text=farid").await["presences"][0]["ended_by"] == "the quota is used up"
    })
    .await;
    let page = by_the_office(&mut Person::new(), &yard(stack, "/"), "farid").await;
    assert!(page.body.contains("is used up") && !harbour.reaches("visitor", SITE[0], 443), "{}", page.body);
    // A day later it is open again, and four hours after that the rule's time is over.
    let look = stack.database.look().await;
    look.execute("UPDATE presences SET began = began - interval '25 hours', ended_at = ended_at - interval '25 hours'", &[])
        .await
        .unwrap();
    on(&harbour, "farid").await;
    assert!(harbour.reaches("visitor", SITE[0], 443));
    stack.clock.advance(chrono::Duration::hours(4));
    eventually("the session is too old here", async || !harbour.reaches("visitor", SITE[0], 443)).await;
    // It is cut first, and written afterwards.
    eventually("why is written", async || {
        stack.get("/presences?all=true&text=farid").await["presences"][0]["ended_by"] == "the session reached its greatest age"
    })
    .await;
}

/// A picture, where PASSEUR_TEST_YARD_PICTURES names a folder for them.
async fn picture(b: &Browser, name: &str) {
    if let Ok(folder) = std::env::var("PASSEUR_TEST_YARD_PICTURES") {
        b.picture(&std::path::Path::new(&folder).join(format!("{name}.png"))).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_browser_on_the_machine_goes_from_a_closed_page_through_the_portal_to_where_it_wanted() {
    if !Harbour::is_caged("yard::a_browser_on_the_machine_goes_from_a_closed_page_through_the_portal_to_where_it_wanted") {
        return;
    }
    let harbour = Harbour::new(|site| site).await;
    harbour.yard.serve();
    let stack = &harbour.stack;
    // Names under localhost lead to the machine itself: what a resolver does elsewhere, these do here.
    harbour.yard.pass_on_at("visitor", stack.address.port(), Some(stack.address));
    harbour.yard.pass_on_at("visitor", stack.provider_port(), None);
    let mut driver = harbour.yard.start(Some("visitor"), "chromedriver --port=9515 --allowed-ips=127.0.0.1");
    harbour.yard.pass_on(9_515, "127.0.0.1:9515".parse().unwrap(), harbour.at.clone());
    eventually("chromedriver listens", async || {
        reqwest::get("http://127.0.0.1:9515/status").await.is_ok_and(|r| r.status() == 200)
    })
    .await;
    let b = Browser::elsewhere("http://127.0.0.1:9515", "yard").await;
    b.open(&format!("http://{}/news", SITE[0])).await;
    b.shows("How do you want to sign in?").await;
    b.click_at("//a[starts-with(text(), 'the pilotage office')]").await;
    b.prove("farid").await;
    b.shows("Be kind to the network").await;
    picture(&b, "yard-terms").await;
    b.click("form[action^='/.passeur/accept'] button").await;
    b.shows("This machine is on the network").await;
    picture(&b, "yard-on").await;
    assert_eq!(b.audit().await, Vec::<String>::new());
    // The connection that the browser holds to the portal leads on to where it wanted, and no more to the portal.
    b.click_at(&format!("//a[contains(text(), '{}')]", SITE[0])).await;
    b.shows("served").await;
    b.open(&format!("http://[{}]/", SITE[1])).await;
    b.shows("served").await;
    // An engineer sees them, asks who had the address, and takes them off.
    b.close().await;
    let b = Browser::elsewhere("http://127.0.0.1:9515", "yard-console").await;
    b.console(stack).await;
    b.open(&stack.pass("/console/present")).await;
    b.shows("Farid Haddad").await;
    b.shows("crane tablet 3").await;
    b.shows("everybody reaches the internet").await;
    b.type_in("[data-test=who] input[name=address]", VISITOR.addresses[0]).await;
    b.click("[data-test=who] button[type=submit]").await;
    b.find("[data-test=had]").await;
    picture(&b, "yard-present").await;
    b.click("[data-test=end]").await;
    b.click("[data-test=end-yes]").await;
    b.shows("their machines are off").await;
    assert!(!harbour.reaches("visitor", SITE[0], 443));
    assert_eq!(b.audit().await, Vec::<String>::new());
    b.close().await;
    driver.kill().unwrap();
    driver.wait().unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_machine_has_its_first_reach_once_a_day_and_it_makes_nobody_known() {
    if !Harbour::is_caged("yard::a_machine_has_its_first_reach_once_a_day_and_it_makes_nobody_known") {
        return;
    }
    let mail = |site: String| {
        let to = format!("to = [\"{}\", \"{}\"]", SITE[0], SITE[1]);
        without_terms(site)
            .replace("to = \"mail.havrelune.example\"", &to)
            .replace("services = \"tcp/993\"", "services = \"tcp/443\"")
    };
    let harbour = Harbour::new(mail).await;
    harbour.yard.serve();
    let stack = &harbour.stack;
    assert!(!harbour.reaches("visitor", SITE[0], 443));
    // A picture or a script of another page opens nothing; somebody who opens the gate's page does.
    let page = Person::new().open(&yard(stack, "/")).await;
    assert_eq!(page.status, 200, "{}", page.body);
    for host in SITE {
        assert!(harbour.reaches("visitor", host, 443) && !harbour.reaches("visitor", host, 22), "{host}");
        assert!(!harbour.reaches("tablet", host, 443), "{host}");
    }
    // It is no sign-in: the system is still told to go to the portal, and plain HTTP is led there.
    assert_eq!(captive(&harbour, "visitor").await["captive"], true);
    stack.clock.advance(chrono::Duration::minutes(6));
    eventually("its minutes are over", async || !harbour.reaches("visitor", SITE[0], 443)).await;
    Person::new().open(&yard(stack, "/")).await;
    assert!(!harbour.reaches("visitor", SITE[0], 443), "once a day");
    // It is written after the kernel closed.
    eventually("why it is over is written", async || {
        let had = stack.get("/presences?all=true&text=02:70:00:00:00:09").await;
        let had = had["presences"].as_array().unwrap().clone();
        assert_eq!(had.len(), 1);
        had[0]["ended_by"] == "the minutes before a sign-in were over"
    })
    .await;
}
