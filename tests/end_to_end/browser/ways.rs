//! Ways in of our own in a real browser, with its virtual authenticator.

use crate::support::{Browser, Stack};

#[tokio::test(flavor = "multi_thread")]
async fn a_passkey_is_enrolled_asked_for_and_then_lets_in_by_itself() {
    let stack = Stack::new().await;
    let b = Browser::new("passkey", 1280, 800, false).await;
    b.add_authenticator().await;
    b.open(&stack.everybody("/")).await;
    b.click_at("//a[text()='Sign in another way']").await;
    b.click_at("//a[text()='Your harbour password']").await;
    b.type_in("input[name=name]", "benoit").await;
    b.type_in("input[name=password]", "neap-tide").await;
    b.click("button[type=submit]").await;
    b.shows("Good day, benoit").await;
    assert_eq!(b.url().await, stack.everybody("/"));
    // Enrolled at the quay, with a name of one's own.
    b.open(&stack.pass("/.passeur/factors")).await;
    b.type_in("form[data-passkey=enrol] input[name=name]", "my key").await;
    b.click("form[data-passkey=enrol] button").await;
    b.shows("Your recovery codes").await;
    b.shows("my key").await;
    assert_eq!(b.errors().await, Vec::<String>::new(), "no violation of the policy");
    // Another session has proven nothing: the section asks for it, and the key is enough.
    b.open(&stack.pass("/.passeur/sign-out")).await;
    b.click("button[type=submit]").await;
    b.shows("You are signed out").await;
    b.open(&stack.everybody("/assign")).await;
    b.type_in("input[name=name]", "benoit").await;
    b.type_in("input[name=password]", "neap-tide").await;
    b.click("button[type=submit]").await;
    b.shows("Prove that it is you").await;
    b.click("form[data-passkey=prove] button").await;
    b.shows("HTTP ERROR 405").await;
    assert_eq!(b.url().await, stack.everybody("/assign"));
    // As a way in of its own.
    b.open(&stack.pass("/.passeur/sign-out")).await;
    b.click("button[type=submit]").await;
    b.shows("You are signed out").await;
    b.open(&stack.everybody("/")).await;
    b.click_at("//a[text()='Sign in another way']").await;
    b.click_at("//a[text()='A passkey']").await;
    b.click("form[data-passkey=come] button").await;
    b.shows("Good day, benoit").await;
    let sessions = stack.get("/sessions").await;
    assert_eq!(sessions[0]["provider"], "harbour-password", "the same person as before");
    // Taken away by an engineer: the key opens nothing more.
    let subject = sessions[0]["subject"].as_str().unwrap();
    assert_eq!(stack.delete(&format!("/people/harbour-password/{subject}/factors")).await.0, 200);
    b.open(&stack.pass("/.passeur/sign-in?for=quay&way=passkey&fresh=1")).await;
    b.click("form[data-passkey=come] button").await;
    b.shows("This passkey does not let you in now").await;
    assert_eq!(stack.latest().await.1, "way.passkey-refused");
    b.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_name_leads_to_where_its_owner_signs_in() {
    let stack = Stack::new().await;
    let b = Browser::new("route", 1280, 800, false).await;
    b.open(&stack.everybody("/")).await;
    b.shows("Your user name decides where you sign in for").await;
    b.type_in("input[name=name]", "elodie").await;
    b.click("button[type=submit]").await;
    b.shows("Your harbour password").await;
    assert_eq!(b.errors().await, Vec::<String>::new(), "no violation of the policy");
    // Back, by another name, to the provider, which knows who is meant.
    b.open(&stack.everybody("/")).await;
    b.type_in("input[name=name]", "benoit").await;
    b.click("button[type=submit]").await;
    b.prove("benoit").await;
    b.shows("Good day, Benoît Le Goff").await;
    assert_eq!(b.url().await, stack.everybody("/"));
    b.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn two_people_share_a_browser_and_the_provider_tells_of_who_left() {
    let bar = "name = \"berths\"\nresponse = { sign-out-bar = true }";
    let stack = Stack::with(|s| s.replacen("name = \"berths\"", bar, 1)).await;
    let b = Browser::new("shared", 1280, 800, false).await;
    b.open(&stack.gate("/")).await;
    b.prove("anouk").await;
    b.shows("Good day, Anouk Tregarec").await;
    b.click("#passeur-bar a").await;
    b.shows("Sign out here and at every gate?").await;
    b.click("button[type=submit]").await;
    b.shows("You are signed out").await;
    // The provider still knows the last person, and asks the next all the same.
    b.open(&stack.gate("/")).await;
    b.prove("benoit").await;
    b.shows("Good day, Benoît Le Goff").await;
    // Out at the provider itself: its message ends the session here.
    b.open(&format!("{}/end-session", stack.provider_origin())).await;
    b.shows("You are signed out of the pilotage office").await;
    b.open(&stack.gate("/")).await;
    b.shows("Password").await;
    let told = stack.get("/crossings?outcome=signed-out").await.to_string();
    assert!(told.contains("session.provider-signed-out"), "{told}");
    b.close().await;
    // Where it tells through the browser: a frame in its page, which our policy lets nobody else use.
    let people = "front_channel";
    let stack = Stack::with_people(|p| p.replace("back_channel", people).replace("/back-channel", "/front-channel")).await;
    let b = Browser::new("frame", 1280, 800, false).await;
    b.open(&stack.gate("/")).await;
    b.prove("anouk").await;
    b.shows("Good day, Anouk Tregarec").await;
    b.open(&format!("{}/end-session", stack.provider_origin())).await;
    b.shows("You are signed out of the pilotage office").await;
    crate::support::eventually("the frame has told", async || {
        stack.get("/crossings?outcome=signed-out").await.to_string().contains("session.provider-signed-out")
    })
    .await;
    b.open(&stack.gate("/")).await;
    b.shows("Password").await;
    b.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_master_comes_by_mail_and_leaves_everywhere() {
    let stack = Stack::new().await;
    let b = Browser::new("mail", 1280, 800, false).await;
    b.open(&stack.everybody("/")).await;
    // The name decides, and is not typed again.
    b.type_in("input[name=name]", "master@ships.example").await;
    b.click("button[type=submit]").await;
    b.shows("A code by mail, for visiting ships").await;
    b.click("button[type=submit]").await;
    b.shows("master@ships.example").await;
    let mail = stack.mailbox.wait_for("master@ships.example", 1).await.text;
    let code: String = mail.lines().find(|l| l.starts_with("    ")).unwrap().split_whitespace().collect();
    b.type_in("input[name=code]", &code).await;
    b.click("button[type=submit]").await;
    b.shows("Good day, master@ships.example").await;
    assert_eq!(b.errors().await, Vec::<String>::new(), "no violation of the policy");
    // Out at once wherever the same person is.
    let mut elsewhere = crate::support::Person::new();
    elsewhere.cookies.insert("pass.havrelune.localhost".into(), Default::default());
    let page = elsewhere.open(&stack.everybody("/received")).await;
    let form = elsewhere.fill_in(&page, &[("name", "master@ships.example")]).await;
    let form = elsewhere.follow(form).await;
    let sent = elsewhere.fill_in(&form, &[("mail", "master@ships.example")]).await;
    let mail = stack.mailbox.wait_for("master@ships.example", 2).await.text;
    let code: String = mail.lines().find(|l| l.starts_with("    ")).unwrap().split_whitespace().collect();
    let done = elsewhere.fill_in(&sent, &[("code", &code)]).await;
    assert_eq!(elsewhere.follow(done).await.status, 200);
    b.open(&stack.everybody("/.passeur/sign-out")).await;
    b.shows("You are signed in elsewhere too").await;
    b.click("button[value=everywhere]").await;
    b.shows("You are signed out").await;
    assert!(!b.text().await.contains("Still signed in elsewhere"));
    elsewhere.accept = "application/json";
    assert_eq!(elsewhere.send(reqwest::Method::GET, &stack.everybody("/received"), None).await.status, 401);
    b.close().await;
    // By the provider, out there as well.
    let b = Browser::new("rp-out", 1280, 800, false).await;
    b.open(&stack.gate("/")).await;
    b.prove("benoit").await;
    b.shows("Good day, Benoît Le Goff").await;
    b.open(&stack.pass("/.passeur/sign-out")).await;
    b.click("button[type=submit]").await;
    b.click_at("//a[starts-with(text(), 'Sign out at')]").await;
    b.shows("You are signed out").await;
    assert!(b.url().await.ends_with("/.passeur/signed-out"), "{}", b.url().await);
    b.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn engineers_try_a_route_and_see_whose_roles_changed() {
    let stack = Stack::new().await;
    for duties in [&["tide-clerk"][..], &[]] {
        stack.provider.give_duties("elodie", duties);
        let mut elodie = crate::support::Person::new();
        let page = elodie.open(&stack.everybody("/received")).await;
        let page = elodie.open(&page.link("Sign in another way")).await;
        let there = elodie.open(&page.link("the pilotage office")).await;
        let back = elodie.prove(there, "elodie").await;
        assert_eq!(elodie.follow(back).await.status, 200);
    }
    let b = Browser::new("routes", 1280, 800, false).await;
    b.console(&stack).await;
    b.open(&stack.pass("/console/providers")).await;
    b.shows("gate harbour-wide; department = locks").await;
    b.type_in("[data-test=try-route] input[name=name]", "elodie").await;
    b.click("[data-test=try-route] button[type=submit]").await;
    let tried = b.find("[data-test=tried]").await.text().await.unwrap();
    assert!(tried.contains("lock keepers") && tried.contains("did not fit"), "{tried}");
    b.open(&stack.pass("/console/sessions")).await;
    b.click("a[href='/console/people/pilotage/p-1003']").await;
    b.shows("duties absent (the provider did not release it)").await;
    b.reads("[data-test=changes]").await;
    assert_eq!(b.errors().await, Vec::<String>::new());
    b.close().await;
}
