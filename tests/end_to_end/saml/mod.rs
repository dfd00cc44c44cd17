//! The same ledger by SAML: in, out, and every way in which it must not go.

mod connecting;
mod out;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use passeur_standins::provider::Mode;
use reqwest::Method;
use serde_json::json;

use crate::support::{Page, Person, Stack, another_key};

/// Somebody at the provider's last page, which would send them back.
async fn sent_back(stack: &Stack, user: &str) -> (Person, Page) {
    let mut person = Person::new();
    let page = person.open(&stack.agents("/received")).await;
    let back = person.prove(page, user).await;
    (person, back)
}

/// RelayState of a flow that somebody is sent to the provider with.
async fn relay_state(stack: &Stack, person: &mut Person) -> String {
    let first = person.send(Method::GET, &stack.agents("/"), None).await;
    let to = person.until(first, "/saml/sign-on").await;
    let to = url::Url::parse(&to).unwrap();
    to.query_pairs().find(|(n, _)| n == "RelayState").unwrap().1.into_owned()
}

/// Whether the ledger received this header.
pub fn received(page: &Page, header: &str, value: &str) -> bool {
    page.body.contains(&format!("<th>{header}</th><td>{value}</td>"))
}

/// The code of why an answer was refused, and the sentence.
pub async fn refusal(stack: &Stack, page: &Page) -> (String, String) {
    assert_eq!(page.status, 403, "{} {}", page.url, page.body);
    let story = stack.story(&page.crossing()).await;
    let text = |name: &str| story[name].as_str().unwrap_or_default().to_owned();
    (text("code"), text("why"))
}

#[tokio::test(flavor = "multi_thread")]
async fn the_ledger_is_entered_by_saml_as_by_openid_connect() {
    let stack = Stack::new().await;
    let mut benoit = Person::new();
    let page = benoit.sign_in_by_saml(&stack.agents("/received"), "benoit").await;
    assert_eq!(page.status, 200, "{}", page.body);
    for (header, value) in [("x-harbour-user", "benoit"), ("x-harbour-roles", "planner"), ("x-harbour-name", "Benoît Le Goff")] {
        assert!(received(&page, header, value), "{header}: {}", page.body);
    }
    stack.settle().await;
    let list = stack.get("/crossings?outcome=admitted&gate=agents&limit=1").await;
    let story = stack.story(list["crossings"][0]["id"].as_str().unwrap()).await;
    let codes: Vec<&str> = story["steps"].as_array().unwrap().iter().map(|s| s["code"].as_str().unwrap()).collect();
    for code in ["provider.sent", "provider.answered", "check.assertion", "provider.attributes", "directory.answered"] {
        assert!(codes.contains(&code), "{code}: {codes:?}");
    }
    let text = story["steps"].to_string();
    assert!(text.contains("assertion signed") && text.contains("two-factors"), "{text}");
    assert!(!benoit.cookies["pass.havrelune.localhost"].keys().any(|c| c.contains("asked-")), "the flow's cookie is gone");
    // The two providers are two: a session of one opens no gate of the other.
    let page = benoit.open(&stack.gate("/received")).await;
    assert_eq!(page.status, 200, "the provider's own session is enough, by its other protocol");
    assert!(received(&page, "x-harbour-user", "benoit"), "{}", page.body);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_encrypted_for_us_is_opened_and_a_new_key_takes_over_without_a_refused_sign_in() {
    let stack =
        Stack::with(|s| s.replace("name-id = \"persistent\"\n", "name-id = \"persistent\"\nrequire-encrypted = true\n")).await;
    let mut service = stack.introduce().await;
    let (mut person, back) = sent_back(&stack, "benoit").await;
    let page = person.submit(&back).await;
    let page = person.follow(page).await;
    assert_eq!(refusal(&stack, &page).await.0, "check.saml-not-encrypted");
    service.encrypt = true;
    stack.provider.add_service(service.clone());
    let page = Person::new().sign_in_by_saml(&stack.agents("/received"), "benoit").await;
    assert_eq!(page.status, 200, "{}", page.body);
    // Made beside the one in use, then put into use: the provider may go on with the old one.
    let made = stack.post("/secrets/saml-key/make-key", json!({"stand_by": true, "years": 3})).await;
    assert_eq!(made.0, 200, "{}", made.1);
    let party = stack.get("/saml").await;
    assert_eq!(party["certificates"].as_array().unwrap().len(), 2, "both are told to the provider");
    assert_eq!(party["certificates"][1]["fingerprint"], made.1["certificate"]["fingerprint"]);
    let used = stack.post("/secrets/saml-key/use", json!({"version": 2})).await;
    assert_eq!(used.0, 200, "{}", used.1);
    let known = stack.introduce().await;
    assert_eq!(known.certificates.len(), 2);
    stack.provider.add_service(passeur_standins::provider::Service {
        encrypt: true,
        certificates: vec![known.certificates[1].clone(), known.certificates[0].clone()],
        ..known
    });
    let page = Person::new().sign_in_by_saml(&stack.agents("/received"), "benoit").await;
    assert_eq!(page.status, 200, "encrypted for the old key, asked with the new one: {}", page.body);
    assert_eq!(stack.delete("/secrets/saml-key/versions/1").await.0, 200);
    let (mut person, back) = sent_back(&stack, "benoit").await;
    let page = person.submit(&back).await;
    let page = person.follow(page).await;
    assert_eq!(refusal(&stack, &page).await.0, "check.saml-not-opened", "the old one is forgotten");
    // Somebody else's key is no key of ours.
    stack.put("/secrets/saml-key", json!({"value": another_key()})).await;
    let page = Person::new().open(&stack.agents("/")).await;
    assert!(page.body.contains("not signed by the service"), "{}", page.body);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_provider_changes_its_key_and_nobody_is_refused() {
    let stack = Stack::new().await;
    let first = Person::new().sign_in_by_saml(&stack.agents("/received"), "benoit").await;
    assert_eq!(first.status, 200, "{}", first.body);
    stack.provider.rotate_saml();
    let page = Person::new().sign_in_by_saml(&stack.agents("/received"), "benoit").await;
    assert_eq!(page.status, 200, "{}", page.body);
    let list = stack.get("/crossings?outcome=admitted&gate=agents&limit=1").await;
    let story = stack.story(list["crossings"][0]["id"].as_str().unwrap()).await;
    assert!(story["steps"].to_string().contains("provider.metadata-read"), "{story}");
    // A provider whose metadata cannot be read again goes on counting, and not for ever.
    stack.clock.advance(chrono::Duration::minutes(61));
    stack.provider.edit(&[("urn:oasis:names:tc:SAML:2.0:metadata\"", "urn:other\"")]);
    let page = Person::new().open(&stack.agents("/")).await;
    assert!(page.body.contains("Password"), "{}", page.body);
    stack.settle().await;
    let waiting = stack.get("/crossings?outcome=waiting&limit=1").await;
    let story = stack.story(waiting["crossings"][0]["id"].as_str().unwrap()).await;
    assert!(story["steps"].to_string().contains("provider.metadata-kept"), "{story}");
    stack.clock.advance(chrono::Duration::hours(25));
    let page = Person::new().open(&stack.agents("/")).await;
    assert_eq!(page.status, 502);
    assert_eq!(stack.latest().await, ("failed".into(), "provider.metadata-failed".into()));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_the_provider_does_wrong_is_told_apart_and_so_is_its_own_refusal() {
    let stack = Stack::new().await;
    for (mode, code, said) in [
        (Mode::WrongKey, "check.saml-signature", "fits none of the provider's certificates"),
        (Mode::WrongAudience, "check.saml-audience", "somebody-else.example"),
        (Mode::Expired, "check.saml-too-late", "was good until"),
        (Mode::OtherIssuer, "check.saml-issuer", "http://elsewhere.localhost/saml"),
        (Mode::OneFactor, "check.factors", "two-factors"),
    ] {
        stack.behave(mode);
        let page = Person::new().sign_in_by_saml(&stack.agents("/"), "benoit").await;
        let (seen, why) = refusal(&stack, &page).await;
        assert_eq!(seen, code, "{mode:?}");
        assert!(why.contains(said), "{mode:?}: {why}");
        assert!(!page.body.contains("urn:") && !page.body.contains("signature"), "no internals for the person: {}", page.body);
    }
    stack.behave(Mode::Refuses);
    let mut person = Person::new();
    let asked = person.open(&stack.agents("/")).await;
    let parked = person.submit(&asked).await;
    let page = person.follow(parked).await;
    assert!(page.body.contains("The office is closed to this account"), "{}", page.body);
    let story = stack.story(&page.crossing()).await;
    assert_eq!((story["outcome"].as_str(), story["code"].as_str()), (Some("provider-refused"), Some("provider.refused")));
    assert!(story["why"].as_str().unwrap().contains("Responder"), "{story}");
}

#[tokio::test(flavor = "multi_thread")]
async fn every_wrong_value_and_every_hostile_shape_has_its_own_reason() {
    let stack = Stack::new().await;
    let consumer = stack.pass("/.passeur/saml/pilotage-saml/answer");
    let other = stack.pass("/.passeur/saml/other/answer");
    for (old, new, code) in [
        (format!("Destination=\"{consumer}\""), format!("Destination=\"{other}\""), "check.saml-destination"),
        (format!("Recipient=\"{consumer}\""), format!("Recipient=\"{other}\""), "check.saml-subject"),
        ("cm:bearer".into(), "cm:sender-vouches".into(), "check.saml-subject"),
        ("InResponseTo=\"_".into(), "InResponseTo=\"_x".into(), "check.saml-in-response-to"),
        ("NotBefore=\"20".into(), "NotBefore=\"29".into(), "check.saml-not-yet"),
        ("<saml:AudienceRestriction>".into(), "<saml:Condition></saml:Condition><saml:AudienceRestriction>".into(), "check.saml-condition"),
        ("AuthnInstant=".into(), "Other=".into(), "check.saml-authentication"),
        ("<saml:AttributeStatement>".into(), "<saml:AttributeStatement><!-- -->".into(), "check.saml-shape"),
        ("<samlp:Status>".into(), "<samlp:Extensions><saml:Assertion xmlns:saml=\"urn:oasis:names:tc:SAML:2.0:assertion\"></saml:Assertion></samlp:Extensions><samlp:Status>".into(), "check.saml-shape"),
        ("<saml:NameID ".into(), "<saml:Other ".into(), "check.saml-unreadable"),
        ("Version=\"2.0\"".into(), "Version=\"1.1\"".into(), "check.saml-no-answer"),
    ] {
        stack.provider.edit(&[(&old, &new)]);
        let page = Person::new().sign_in_by_saml(&stack.agents("/"), "benoit").await;
        assert_eq!(refusal(&stack, &page).await.0, code, "{old} → {new}\n{:?}", stack.provider.last_response());
    }
    stack.provider.edit(&[]);
    // Altered on the way.
    let good = |page: &Page| STANDARD.decode(&page.form().1[0].1).map(|b| String::from_utf8(b).unwrap()).unwrap();
    let start = |s: &str| s.find("<ds:Signature").unwrap();
    let end = |s: &str| s.find("</ds:Signature>").unwrap() + "</ds:Signature>".len();
    type Change = fn(&str) -> String;
    let changes: [(&str, Change); 7] = [
        ("check.saml-signature", |s| s.replace("benoit", "lucie")),
        ("check.saml-signature", |s| s.replace(">planner<", ">x<").replace("Benoît", "Lucie")),
        ("check.saml-algorithm", |s| s.replace("#rsa-sha256", "#rsa-sha1")),
        ("check.saml-shape", |s| s.replacen("<samlp:Response", "<!DOCTYPE a [<!ENTITY e \"x\">]><samlp:Response", 1)),
        ("check.saml-shape", |s| s.replace("URI=\"#", "URI=\"file:///etc/passwd#")),
        ("check.saml-unreadable", |s| {
            s.replace("</samlp:Response>", &format!("{}{}</samlp:Response>", "<a>".repeat(80), "</a>".repeat(80)))
        }),
        ("check.saml-unreadable", |s| s[..s.len() / 2].to_owned()),
    ];
    for (code, change) in changes {
        let (mut person, back) = sent_back(&stack, "benoit").await;
        let (to, fields) = back.form();
        let altered = STANDARD.encode(change(&good(&back)));
        let parked = person.submit_to(&to, &[("SAMLResponse", &altered), ("RelayState", &fields[1].1)]).await;
        let page = person.follow(parked).await;
        assert_eq!(refusal(&stack, &page).await.0, code);
    }
    let (mut person, back) = sent_back(&stack, "benoit").await;
    let (to, fields) = back.form();
    let text = good(&back);
    let unsigned = format!("{}{}", &text[..start(&text)], &text[end(&text)..]);
    let parked = person.submit_to(&to, &[("SAMLResponse", &STANDARD.encode(unsigned)), ("RelayState", &fields[1].1)]).await;
    let page = person.follow(parked).await;
    assert_eq!(refusal(&stack, &page).await.0, "check.saml-not-signed");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_answer_counts_once_in_the_browser_that_asked() {
    let stack = Stack::new().await;
    let (mut benoit, back) = sent_back(&stack, "benoit").await;
    let (to, fields) = back.form();
    let fields: Vec<(&str, &str)> = fields.iter().map(|(n, v)| (n.as_str(), v.as_str())).collect();
    // Carried to another browser: it did not ask.
    let mut thief = Person::new();
    let parked = thief.submit_to(&to, &fields).await;
    assert_eq!(parked.status, 303);
    let page = thief.follow(parked).await;
    assert_eq!(refusal(&stack, &page).await.0, "check.state-other-browser");
    // Without RelayState nothing shows who asked.
    let parked = benoit.submit_to(&to, &fields[..1]).await;
    let page = benoit.follow(parked).await;
    assert_eq!(refusal(&stack, &page).await.0, "check.saml-relay-state");
    // The right one, and then again.
    let kept = benoit.cookies.clone();
    let parked = benoit.submit_to(&to, &fields).await;
    let fetched = parked.header("location").to_owned();
    let page = benoit.follow(parked).await;
    assert_eq!(page.status, 200, "{}", page.body);
    let page = benoit.open(&fetched).await;
    assert_eq!(refusal(&stack, &page).await.0, "check.answer-gone");
    let mut again = Person::new();
    again.cookies = kept;
    let parked = again.submit_to(&to, &fields).await;
    let page = again.follow(parked).await;
    assert_eq!(refusal(&stack, &page).await.0, "check.state-replayed");
    // What waits is taken by the path it was posted to alone, and not for long.
    let (mut benoit, back) = sent_back(&stack, "benoit").await;
    let parked = benoit.submit(&back).await;
    stack.clock.advance(chrono::Duration::minutes(3));
    let page = benoit.follow(parked).await;
    assert_eq!(refusal(&stack, &page).await.0, "check.answer-gone");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_assertion_counts_once_on_all_nodes_and_to_its_own_provider_alone() {
    let stack = Stack::new().await;
    // Unasked, so that nothing but the assertion itself stands against its second use.
    let start = format!(
        "http://bureau-pilotage.localhost:{}/saml/start?service={}",
        stack.provider_port(),
        stack.pass("/.passeur/saml/metadata")
    );
    let mut benoit = Person::new();
    let page = benoit.open(&start).await;
    let back = benoit.prove(page, "benoit").await;
    let parked = benoit.submit(&back).await;
    let page = benoit.follow(parked).await;
    assert_eq!(page.status, 200, "{}", page.body);
    assert!(page.url.starts_with(&stack.agents("/")), "to the only gate that takes people unasked: {}", page.url);
    let mut thief = Person::new();
    let parked = thief.submit(&back).await;
    let page = thief.follow(parked).await;
    assert_eq!(refusal(&stack, &page).await.0, "check.saml-replayed");
    // The same on another node.
    let second = stack.second_node().await;
    let port = format!(":{}", stack.address.port());
    let elsewhere = |url: &str| url.replace(&port, &format!(":{}", second.address.port()));
    let (to, fields) = back.form();
    let fields: Vec<(&str, &str)> = fields.iter().map(|(n, v)| (n.as_str(), v.as_str())).collect();
    let host = format!("pass.havrelune.localhost{port}");
    thief.extra = vec![("host", host)];
    let parked = thief.submit_to(&elsewhere(&to), &fields).await;
    let page = thief.send(Method::GET, &elsewhere(parked.header("location")), None).await;
    assert_eq!(refusal(&stack, &page).await.0, "check.saml-replayed");
    second.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_comes_unasked_where_the_gate_does_not_take_them() {
    let stack = Stack::with(|s| s.replace("unasked = true\n", "")).await;
    let entity = stack.pass("/.passeur/saml/metadata");
    let start = format!("http://bureau-pilotage.localhost:{}/saml/start?service={entity}", stack.provider_port());
    let mut benoit = Person::new();
    let page = benoit.open(&start).await;
    let back = benoit.prove(page, "benoit").await;
    let parked = benoit.submit(&back).await;
    let page = benoit.follow(parked).await;
    assert_eq!(refusal(&stack, &page).await.0, "check.saml-unasked");
    // One that says it was asked for, and lost who asked, is another matter.
    let (mut person, back) = sent_back(&stack, "anouk").await;
    let (to, fields) = back.form();
    let parked = person.submit_to(&to, &[("SAMLResponse", &fields[0].1)]).await;
    let page = person.follow(parked).await;
    assert_eq!(refusal(&stack, &page).await.0, "check.saml-relay-state");
    // Where one gate takes them, another of the same provider asks for itself.
    let two = |s: String| {
        let at = s.find("# The same ledger once more").unwrap();
        let gate = s[s.find("name = \"agents\"").unwrap()..at].replace("agents", "offices").replace("unasked = true\n", "");
        format!("{}[[gate]]\n{gate}{}", &s[..at], &s[at..])
    };
    let stack = Stack::with(two).await;
    let offices = stack.agents("/received").replace("agents.", "offices.");
    let entity = stack.pass("/.passeur/saml/metadata");
    let target = stack.agents("/received?x=1");
    let start = format!("http://bureau-pilotage.localhost:{}/saml/start?service={entity}&target={target}", stack.provider_port());
    let mut benoit = Person::new();
    let page = benoit.open(&start).await;
    let back = benoit.prove(page, "benoit").await;
    let parked = benoit.submit(&back).await;
    let page = benoit.follow(parked).await;
    assert_eq!((page.status.as_u16(), page.url.as_str()), (200, target.as_str()), "{}", page.body);
    let page = benoit.open(&offices).await;
    assert!(page.body.contains("SAMLResponse"), "it asks the provider itself: {}", page.body);
    let parked = benoit.submit(&page).await;
    assert_eq!(benoit.follow(parked).await.status, 200);
}

#[tokio::test(flavor = "multi_thread")]
async fn answers_by_a_form_are_bounded_and_openid_connect_takes_them_as_well() {
    let stack = Stack::with(|s| s.replace("require-amr = [\"mfa\"]", "require-amr = [\"mfa\"]\nanswer-by = \"form-post\"")).await;
    let mut benoit = Person::new();
    let page = benoit.open(&stack.gate("/received")).await;
    let back = benoit.prove(page, "benoit").await;
    let parked = benoit.submit(&back).await;
    assert_eq!(parked.status, 303);
    let page = benoit.follow(parked).await;
    assert!(page.status == 200 && received(&page, "x-harbour-user", "benoit"), "{}", page.body);
    // In another browser it is nobody's.
    let mut benoit = Person::new();
    let page = benoit.open(&stack.gate("/received")).await;
    let back = benoit.prove(page, "benoit").await;
    let mut thief = Person::new();
    let parked = thief.submit(&back).await;
    let page = thief.follow(parked).await;
    assert_eq!(refusal(&stack, &page).await.0, "check.state-other-browser");
    // Size, and how many may wait.
    let consumer = stack.pass("/.passeur/saml/pilotage-saml/answer");
    let large = "x".repeat(500_000);
    let page = Person::new().submit_to(&consumer, &[("SAMLResponse", &large)]).await;
    assert_eq!(page.status, 413, "{}", page.body);
    let parked = Person::new().submit_to(&stack.pass("/.passeur/saml/nobody/answer"), &[("a", "b")]).await;
    assert_eq!(parked.status, 404);
    // What names no flow of ours is checked at once, and does not wait for anybody.
    let mut sender = Person::new();
    let good = relay_state(&stack, &mut sender).await;
    for (body, code) in [
        (vec![("SAMLResponse", "x")], "check.saml-unreadable"),
        (vec![("a", "b")], "check.saml-no-answer"),
        (vec![("SAMLResponse", "x"), ("RelayState", &good[1..])], "check.saml-unreadable"),
        (vec![("SAMLResponse", "x"), ("RelayState", &good.replace(['0', '1', '2'], "3"))], "check.state-other-browser"),
    ] {
        let page = sender.submit_to(&consumer, &body).await;
        assert_eq!(refusal(&stack, &page).await.0, code, "{body:?}");
    }
    let forged = sender.submit_to(&stack.pass("/.passeur/oidc/pilotage/answer"), &[("code", "x"), ("state", "y")]).await;
    assert_eq!(refusal(&stack, &forged).await.0, "check.state-unreadable");
    assert_eq!(stack.database.count("parked").await, 0);
    // Of one flow one answer waits, the last.
    for _ in 0..2 {
        assert_eq!(sender.submit_to(&consumer, &[("SAMLResponse", "x"), ("RelayState", &good)]).await.status, 303);
    }
    assert_eq!(stack.database.count("parked").await, 1);
    for _ in 0..199 {
        let state = relay_state(&stack, &mut sender).await;
        assert_eq!(sender.submit_to(&consumer, &[("SAMLResponse", "x"), ("RelayState", &state)]).await.status, 303);
    }
    let last = relay_state(&stack, &mut sender).await;
    let page = sender.submit_to(&consumer, &[("SAMLResponse", "x"), ("RelayState", &last)]).await;
    assert_eq!(page.status, 503, "{}", page.body);
    let story = stack.story(&page.crossing()).await;
    assert_eq!(story["code"], "check.answers-full");
    stack.clock.advance(chrono::Duration::minutes(3));
    let again = sender.submit_to(&consumer, &[("SAMLResponse", "x"), ("RelayState", &last)]).await;
    assert_eq!(again.status, 303, "what is too old does not count");
}

/// What a stranger can send at most, of what a parser takes longest for: refused before it is parsed.
#[tokio::test(flavor = "multi_thread")]
async fn a_document_that_costs_too_much_is_not_parsed() {
    let stack = Stack::new().await;
    let attributes: String = (0..25_000).map(|i| format!(" a{i}=''")).collect();
    let prefixes: String = (0..60).map(|i| format!(" xmlns:p{i}='u'")).collect();
    let response = |inside: &str| {
        STANDARD.encode(format!("<samlp:Response xmlns:samlp='{0}'>{inside}</samlp:Response>", passeur_protocols::saml::PROTOCOL))
    };
    let consumer = stack.pass("/.passeur/saml/pilotage-saml/answer");
    for inside in [
        format!("<x{attributes}/>"),
        format!("<a{prefixes}><b{0}><c{0}/></b></a>", prefixes.replace(":p", ":q")),
        "<a>".repeat(10_000),
        "<a/>".repeat(45_000),
    ] {
        let value = response(&inside);
        // Unasked it is checked where it arrives; as the answer to a flow of ours once its browser fetches it.
        let page = Person::new().submit_to(&consumer, &[("SAMLResponse", &value)]).await;
        assert_eq!(refusal(&stack, &page).await.0, "check.saml-unreadable");
        let mut person = Person::new();
        let state = relay_state(&stack, &mut person).await;
        let parked = person.submit_to(&consumer, &[("SAMLResponse", &value), ("RelayState", &state)]).await;
        let page = person.follow(parked).await;
        assert_eq!(refusal(&stack, &page).await.0, "check.saml-unreadable");
        let page =
            Person::new().submit_to(&stack.pass("/.passeur/saml/pilotage-saml/sign-out"), &[("SAMLRequest", &value)]).await;
        assert!(page.status == 403 || page.status == 413, "{}", page.status);
    }
    // Nobody has to sign in to be told that the process runs.
    assert_eq!(Person::new().open(&stack.pass("/healthz")).await.body, "ok\n");
    assert_eq!(Person::new().open(&stack.pass("/readyz")).await.body, "ready\n");
}
