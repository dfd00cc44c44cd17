//! An engineer tries a real entrance out: somebody connects, all of it is told, and nothing is opened.

use chrono::Duration;
use passeur_standins::cage::{CRANE, OFFICE};
use serde_json::{Value, json};

use super::{answers, comes_in, opens, present};
use crate::support::{Person, Sea, eventually};

/// Begins a trial of the pilots' entrance.
async fn begins(sea: &Sea, of: Value) -> String {
    let mut ask = json!({"entrance": "pilots"});
    ask.as_object_mut().unwrap().extend(of.as_object().unwrap().clone());
    let (status, trial) = sea.harbour.stack.post("/trials/entrance", ask).await;
    assert_eq!(status, 200, "{trial}");
    trial["id"].as_str().unwrap().to_owned()
}

async fn read(sea: &Sea, id: &str) -> Value {
    sea.harbour.stack.get(&format!("/trials/entrance/{id}")).await
}

async fn ends(sea: &Sea, id: &str) -> Value {
    let (status, trial) = sea.harbour.stack.delete(&format!("/trials/entrance/{id}")).await;
    assert_eq!(status, 200, "{trial}");
    trial
}

fn has(step: &str, of: &Value) -> bool {
    of["steps"].as_array().unwrap().iter().any(|s| s["code"] == step)
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_an_entrance_is_tried_out_with_reaches_nothing_and_all_of_it_is_told() {
    if !Sea::is_caged("tunnels::trials::whoever_an_entrance_is_tried_out_with_reaches_nothing_and_all_of_it_is_told") {
        return;
    }
    let sea = Sea::new(|site| site).await;
    sea.harbour.yard.serve();
    let id = begins(&sea, json!({"from": "198.51.100.7"})).await;
    // What is wrong with the entrance is told before anybody connects: here the service was not heard yet by its server.
    eventually("nothing is wrong with the entrance", async || read(&sea, &id).await["findings"] == json!([])).await;
    let before = read(&sea, &id).await;
    assert!(before["open"] == true && before["from"] == "198.51.100.7", "{before}");
    assert_eq!((&before["waiting"], &before["tried"]), (&json!([]), &json!([])));
    assert!(before["servers"][0].as_str().unwrap().contains(':'), "{before}");
    // Somebody whom the rules refuse where they sign in is told of as well.
    let fitter = sea.connect_by_browser("farid");
    let url = fitter.address(1).await;
    let waits = read(&sea, &id).await;
    assert!(waits["waiting"][0]["outside"] == "198.51.100.7" && waits["waiting"][0]["answered"] == false, "{waits}");
    assert!(waits["waiting"][0]["says"].as_str().unwrap().starts_with("linux 2."), "{waits}");
    assert!(!waits.to_string().contains(url.split("ask=").nth(1).unwrap()), "whoever reads it may not answer for the person");
    let page = opens(&sea, &mut Person::new(), &fitter, 1, "farid").await;
    assert_eq!(page.status, 403);
    let refused = read(&sea, &id).await;
    let one = &refused["tried"][0];
    assert!(one["stage"] == "refused" && one["person"] == "Farid Haddad", "{one}");
    drop(fitter);
    // An engineer of the gate, to whom two rules would open something.
    let (_lucie, mut client, page) = comes_in(&sea, "lucie", "lucie").await;
    assert!(page.body.contains("on trial") && !page.body.contains("The tunnel is open"), "{}", page.body);
    client.says("Initialization Sequence Completed", 1).await;
    eventually("the trial tells that the tunnel stands", async || read(&sea, &id).await["tried"][0]["stage"] == "stands").await;
    for (host, port) in [(OFFICE[0], 80), (OFFICE[1], 80), (CRANE[0], 443)] {
        assert!(!sea.harbour.reaches("pilot", host, port), "{host} {port}");
    }
    let trial = read(&sea, &id).await;
    let one = &trial["tried"][0];
    assert_eq!(one["person"], "Lucie Morvan");
    let opens_words = one["would_open"].to_string();
    assert!(opens_words.contains("pilot-office (") && opens_words.contains("beacons ("), "{one}");
    assert!(
        one["lines"].to_string().contains("route 10.88.0.0 255.255.255.0"),
        "what it would be told is what it is told: {one}"
    );
    assert!(has("tunnel.asked", one) && has("tunnel.tried", one) && has("tunnel.up", one), "{one}");
    assert!(!has("network.opens-nothing", one), "the rules open something: {one}");
    let on = present(&sea).await;
    assert!(on[0]["tried"] == true && on[0]["opens"] == json!([]), "{on:?}");
    // Rights that are read again open nothing either.
    let site = sea.harbour.stack.site.replace("client-version = \"2.5\"", "client-version = \"2.4\"");
    assert_eq!(sea.harbour.stack.publish(&site).await.0, 200);
    assert!(present(&sea).await[0]["opens"] == json!([]) && !sea.harbour.reaches("pilot", OFFICE[0], 80));
    // It is ended, and with it the tunnel that came by it; whoever connects then is let in for real.
    let over = ends(&sea, &id).await;
    assert!(over["open"] == false && over["ended_by"].is_string(), "{over}");
    eventually("the client is ended for good", async || client.is_over() && present(&sea).await.is_empty()).await;
    let told = read(&sea, &id).await;
    assert!(told["tried"][0]["stage"] == "over" && has("tunnel.trial-over", &told["tried"][0]), "{told}");
    let (_lucie, client, page) = comes_in(&sea, "lucie-2", "lucie").await;
    assert!(page.body.contains("The tunnel is open"), "{}", page.body);
    client.says("Initialization Sequence Completed", 1).await;
    assert!(sea.harbour.reaches("pilot", OFFICE[0], 80));
    let came = |of: &Value| of["tried"].as_array().unwrap().iter().map(|t| t["id"].clone()).collect::<Vec<_>>();
    assert_eq!(came(&read(&sea, &id).await), came(&told), "what is for real is not of the trial");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_trial_is_about_one_person_and_what_began_in_it_never_becomes_real() {
    if !Sea::is_caged("tunnels::trials::a_trial_is_about_one_person_and_what_began_in_it_never_becomes_real") {
        return;
    }
    let sea = Sea::new(|site| site).await;
    sea.harbour.yard.serve();
    // Two at once, of whom the newer is about somebody else.
    let lucies = begins(&sea, json!({"person": "LUCIE MORVAN"})).await;
    let anouks = begins(&sea, json!({"person": "p-1001", "from": "198.51.100.0/24"})).await;
    assert_eq!(sea.harbour.stack.get("/trials/entrance").await.as_array().unwrap().len(), 2);
    let (_lucie, client, page) = comes_in(&sea, "lucie", "lucie").await;
    assert!(page.body.contains("on trial"), "{}", page.body);
    client.says("Initialization Sequence Completed", 1).await;
    assert!(!sea.harbour.reaches("pilot", OFFICE[0], 80));
    assert_eq!(read(&sea, &anouks).await["tried"], json!([]), "who it is not about is not told of");
    let told = read(&sea, &lucies).await;
    assert!(told["came"] == 1 && told["tried"][0]["person"] == "Lucie Morvan", "{told}");
    assert_eq!(read(&sea, &anouks).await["came"], 0, "others take no room in it");
    ends(&sea, &lucies).await;
    drop(client);
    eventually("lucie is off", async || present(&sea).await.is_empty()).await;
    // Lucie is nobody's now, although a trial of another goes on for the same network.
    let (_lucie, client, page) = comes_in(&sea, "lucie-2", "lucie").await;
    assert!(page.body.contains("The tunnel is open"), "{}", page.body);
    client.says("Initialization Sequence Completed", 1).await;
    assert!(sea.harbour.reaches("pilot", OFFICE[0], 80));
    drop(client);
    eventually("lucie is off", async || present(&sea).await.is_empty()).await;
    // A person who is still to answer when the trial ends is not let in for real.
    let client = sea.connect_by_browser("anouk");
    let mut anouk = Person::new();
    let page = opens(&sea, &mut anouk, &client, 1, "anouk").await;
    ends(&sea, &anouks).await;
    let page = answers(&mut anouk, &page, "yes").await;
    assert!(!page.body.contains("The tunnel is open") && !page.body.contains("on trial"), "{}", page.body);
    assert!(present(&sea).await.is_empty() && !sea.harbour.reaches("pilot", OFFICE[0], 80));
    let told = read(&sea, &anouks).await;
    assert!(told["tried"].as_array().unwrap().iter().any(|t| t["stage"] == "refused" && has("tunnel.trial-over", t)), "{told}");
    drop(client);
    // Time ends one like an engineer does.
    let timed = begins(&sea, json!({"person": "p-1001"})).await;
    let (_anouk, mut client, page) = comes_in(&sea, "anouk-2", "anouk").await;
    assert!(page.body.contains("on trial"), "{}", page.body);
    client.says("Initialization Sequence Completed", 1).await;
    let until = present(&sea).await[0]["until"].clone();
    assert_eq!(until, read(&sea, &timed).await["until"]);
    sea.harbour.stack.later(Duration::minutes(30));
    eventually("the client is ended for good", async || client.is_over() && present(&sea).await.is_empty()).await;
    let told = read(&sea, &timed).await;
    assert!(told["open"] == false && told["ended"].is_null() && told["tried"][0]["stage"] == "over", "{told}");
}
