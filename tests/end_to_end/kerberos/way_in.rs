//! Whoever holds a ticket comes in by it, is known by the directory like anybody else, and is not asked twice; whoever has none
//! comes in by another way.

use std::process::Command;

use passeur_protocols::kerberos::bindings;
use reqwest::StatusCode;

use super::{asked, decided, show};
use crate::support::kerberos::{Cache, PASS, Workstation, everybody_by_ticket, negotiate};
use crate::support::{Authority, Person, Stack};

#[tokio::test]
async fn a_ticket_comes_in_and_both_sides_are_known() {
    let stack = Stack::new().await;
    let (mut person, page) = asked(&stack).await;
    let mut shown = Workstation::person("anouk").token(PASS);
    let done = show(&mut person, &page, &shown.field()).await;
    assert_eq!(done.status, StatusCode::SEE_OTHER, "{}", done.body);
    assert!(shown.believes(done.header("www-authenticate")), "the service proves itself: {:?}", done.headers);
    let page = person.follow(done).await;
    assert!(page.body.contains("You are signed in as") || page.body.contains("anouk"), "{}", page.body);
    assert!(page.body.contains("Sign in as someone else"), "a silent sign-in can be left: {}", page.body);
    // At a gate that takes it, nothing is asked any more, and the directory knows the person by name.
    person.open(&stack.everybody("/")).await;
    person.accept = "application/json";
    let page = person.open(&stack.everybody("/received")).await;
    assert_eq!((page.saw("x-harbour-user"), page.saw("x-harbour-staff-number")), (vec!["anouk".into()], vec!["4101".into()]));
    assert_eq!(page.saw("authorization"), Vec::<String>::new());
    // A gate that does not take tickets sends elsewhere.
    person.accept = "text/html";
    assert!(person.open(&stack.gate("/")).await.url.contains("bureau-pilotage"));
    let list = stack.get("/crossings?limit=50").await;
    let quay = list["crossings"].as_array().unwrap().iter().find(|c| c["gate"] == "quay" && c["outcome"] == "admitted").unwrap();
    let story = stack.story(quay["id"].as_str().unwrap()).await.to_string();
    let told =
        format!("anouk@HAVRELUNE.EXAMPLE showed a ticket for {PASS}, sealed with key version 2 (aes256-cts-hmac-sha384-192)");
    assert!(story.contains(&told), "{story}");
    assert!(!story.contains(&shown.field()[12..]), "no token is kept");
}

#[tokio::test]
async fn the_realms_rule_says_who_somebody_is() {
    let stack = Stack::new().await;
    let (mut person, page) = asked(&stack).await;
    let marin = Workstation::of("marin@AGENTS.EXAMPLE", "agents-anchor");
    let done = show(&mut person, &page, &negotiate(&marin.bare(PASS))).await;
    assert_eq!(done.status, StatusCode::SEE_OTHER, "{}", done.body);
    let list = stack.get("/sessions").await;
    let session = &list[0];
    assert_eq!(
        (session["subject"].as_str(), session["name"].as_str()),
        (Some("marin@AGENTS.EXAMPLE"), Some("marin@AGENTS.EXAMPLE"))
    );
    // The same name of a realm that is not named any more is nobody; a name for another office never was somebody.
    let realm = "[[way.realm]]\nname = \"AGENTS.EXAMPLE\"\nuser = \"principal\"\n";
    assert!(stack.site.contains(realm));
    stack.publish(&stack.site.replace(realm, "")).await;
    let (mut person, page) = asked(&stack).await;
    let page = show(&mut person, &page, &marin.token(PASS).field()).await;
    assert_eq!(page.status, StatusCode::FORBIDDEN);
    let (code, words) = decided(&stack, &page.crossing()).await;
    assert_eq!((code.as_str(), words.contains("no way in names its realm")), ("way.ticket-nobody", true), "{words}");
    let admin = format!("admin-of-{}", stack.address.port());
    crate::support::kerberos::kadmin(&format!("addprinc -pw a-second-office anouk/{admin}"));
    let (mut person, page) = asked(&stack).await;
    let other = Workstation::of(&format!("anouk/{admin}@HAVRELUNE.EXAMPLE"), "a-second-office");
    let page = show(&mut person, &page, &other.token(PASS).field()).await;
    assert_eq!(decided(&stack, &page.crossing()).await.0, "way.ticket-nobody");
}

#[tokio::test]
async fn whoever_has_no_ticket_goes_on_another_way_and_is_asked_anew_next_time() {
    let stack = Stack::with(everybody_by_ticket).await;
    let mut person = Person::new();
    // The answer is no blank page: it goes on by itself, and does so once.
    let page = person.open(&stack.everybody("/received")).await;
    assert!(page.url.contains("bureau-pilotage.localhost"), "{} {}", page.url, page.body);
    let back = person.prove(page, "benoit").await;
    person.accept = "application/json";
    let page = person.follow(back).await;
    assert_eq!(page.saw("x-harbour-user"), ["benoit"]);
    let list = stack.get("/crossings?gate=harbour-wide&limit=10").await;
    let story = stack.story(list["crossings"][0]["id"].as_str().unwrap()).await;
    let codes: Vec<&str> = story["steps"].as_array().unwrap().iter().map(|s| s["code"].as_str().unwrap()).collect();
    assert!(codes.contains(&"way.ticket-none") && !codes.contains(&"route.chosen"), "{codes:?}");
    // What was taken for want of a ticket is not what the browser remembers.
    assert!(!person.cookies["pass.havrelune.localhost"].contains_key("passeur-way"), "{:?}", person.cookies);
    // A page's own requests never negotiate.
    let mut background = Person::new();
    background.accept = "*/*";
    let page = background.open(&stack.everybody("/received")).await;
    assert_eq!(page.status, StatusCode::UNAUTHORIZED);
    assert!(!page.header("www-authenticate").contains("Negotiate"), "{:?}", page.headers);
}

#[tokio::test]
async fn where_there_is_no_other_way_the_page_says_so() {
    let stack = Stack::with(|site| {
        let ways = "ways-in = [\"pilotage\", \"pilotage-saml\", \"harbour-password\", \"passkey\", \"ticket\", \"visitors\"]";
        assert!(site.contains(ways));
        let from = site.find("[[route]]").unwrap();
        let to = site.find("# Who may use the console").unwrap();
        let site = format!("{}{}", &site[..from], &site[to..]);
        site.replace(ways, "ways-in = [\"ticket\"]")
            .replace("password = true\n", "")
            .replace("access-tokens = [\"pilotage\"]\n", "")
    })
    .await;
    let mut person = Person::new();
    let page = person.open(&stack.everybody("/received")).await;
    assert_eq!(page.status, StatusCode::UNAUTHORIZED);
    assert!(page.body.contains("There is no other way in here"), "{}", page.body);
    assert_eq!(page.refresh(), None);
}

#[tokio::test]
async fn curl_comes_in_and_negotiates_once() {
    let stack = Stack::with(everybody_by_ticket).await;
    let cache = Cache::person("benoit");
    let jar = cache.0.with_extension("jar");
    let url = stack.everybody("/received");
    let curl = async || {
        let mut curl = Command::new("curl");
        curl.args(["-sS", "--noproxy", "*", "--negotiate", "-u", ":", "-L", "--max-redirs", "8", "-H", "Accept: text/html"]);
        curl.arg("-b").arg(&jar).arg("-c").arg(&jar).arg(&url).env("KRB5CCNAME", format!("FILE:{}", cache.0.display()));
        let out = tokio::task::spawn_blocking(move || curl.output().unwrap()).await.unwrap();
        assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
        String::from_utf8_lossy(&out.stdout).into_owned()
    };
    // The address that is asked for first is another host than the one that negotiates: curl shows nothing there by itself.
    let body = curl().await;
    let at = body.find("http://pass").map(|i| body[i..].split('"').next().unwrap().to_owned());
    assert!(body.contains("benoit") || at.is_some() || body.contains("This machine showed no ticket"), "{body}");
    let mut direct = Command::new("curl");
    direct.args([
        "-sS",
        "--noproxy",
        "*",
        "--negotiate",
        "-u",
        ":",
        "-L",
        "-o",
        "/dev/null",
        "-w",
        "%{http_code} %{num_redirects}",
    ]);
    direct.arg("-b").arg(&jar).arg("-c").arg(&jar).arg(stack.pass("/.passeur/sign-in?for=quay&way=ticket"));
    direct.env("KRB5CCNAME", format!("FILE:{}", cache.0.display()));
    let out = tokio::task::spawn_blocking(move || direct.output().unwrap()).await.unwrap();
    assert_eq!(String::from_utf8_lossy(&out.stdout), "200 2", "{}", String::from_utf8_lossy(&out.stderr));
    let before = stack.get("/sessions").await.as_array().unwrap().len();
    for _ in 0..3 {
        let body = curl().await;
        assert!(body.contains("benoit"), "{body}");
    }
    assert_eq!(stack.get("/sessions").await.as_array().unwrap().len(), before, "one negotiation for a session");
    let _ = std::fs::remove_file(&jar);
}

#[tokio::test]
async fn after_a_sign_out_and_on_shared_machines_nobody_is_let_in_silently() {
    let stack = Stack::new().await;
    let (mut person, page) = asked(&stack).await;
    let workstation = Workstation::person("anouk");
    let done = show(&mut person, &page, &workstation.token(PASS).field()).await;
    person.follow(done).await;
    let page = person.open(&stack.pass("/.passeur/sign-out")).await;
    person.fill_in(&page, &[]).await;
    // The machine still holds her ticket; it is taken when she says so.
    let page = person.open(&stack.pass("/.passeur/sign-in?for=quay&way=ticket")).await;
    assert_eq!((page.status, page.header("www-authenticate")), (StatusCode::OK, ""), "{}", page.body);
    assert!(page.body.contains("Sign in another way"), "{}", page.body);
    let take = page.link("Use this machine's sign-in").replace("&#39;", "'");
    let challenge = person.open(&take).await;
    assert_eq!(challenge.status, StatusCode::UNAUTHORIZED);
    let done = show(&mut person, &challenge, &workstation.token(PASS).field()).await;
    assert_eq!(done.status, StatusCode::SEE_OTHER);
    // Where others sit at the same machine, a ticket is whoever's: it is not taken at all, even when it is shown.
    stack.publish(&stack.site.replace("network = \"10.20.9.0/24\"", "network = \"127.0.0.0/8\"")).await;
    let mut next = Person::new();
    let page = next.open(&stack.pass("/.passeur/sign-in?for=quay&way=ticket")).await;
    assert_eq!(page.status, StatusCode::OK);
    assert!(!page.body.contains("this machine's sign-in"), "{}", page.body);
    let flow = page.form().1.swap_remove(0).1;
    let url = stack.pass(&format!("/.passeur/way/ticket/ticket?flow={flow}"));
    next.extra.push(("authorization", workstation.token(PASS).field()));
    let page = next.open(&url).await;
    assert_eq!(page.status, StatusCode::FORBIDDEN);
    assert_eq!(decided(&stack, &page.crossing()).await.0, "way.ticket-shared");
}

#[tokio::test(flavor = "multi_thread")]
async fn under_tls_a_ticket_is_bound_to_its_channel_and_another_channels_is_refused() {
    let authority = Authority::new("bound");
    authority.issue_files("pass.havrelune.localhost");
    let port = std::sync::Mutex::new(0);
    let stack = Stack::with_tls(Some(authority.folder.clone()), |site, tls| {
        *port.lock().unwrap() = tls;
        let at = site.find("address = \"http://pass").unwrap();
        let end = at + site[at..].find('\n').unwrap();
        format!("{}address = \"https://pass.havrelune.localhost:{tls}\"{}", &site[..at], &site[end..])
    })
    .await;
    let origin = format!("https://pass.havrelune.localhost:{}", *port.lock().unwrap());
    let certificate = std::fs::read_to_string(authority.folder.join("pass.havrelune.localhost.pem")).unwrap();
    let der = passeur_core::x509::certificate(&certificate).unwrap();
    let right = bindings::end_point(&der).unwrap();
    let http = reqwest::Client::builder()
        .dns_resolver(passeur_links::resolve::Resolver)
        .redirect(reqwest::redirect::Policy::none())
        .no_proxy()
        .tls_certs_only([reqwest::Certificate::from_der(&authority.der()).unwrap()])
        .build()
        .unwrap();
    let workstation = Workstation::person("anouk");
    for (bound, status, says) in [
        (None, 303, "It is not bound to a TLS channel"),
        (Some(right.clone()), 303, "It is bound to the TLS channel it came on"),
        (Some(right.iter().map(|b| b ^ 1).collect()), 403, "bound to another TLS channel"),
    ] {
        let first = http.get(format!("{origin}/.passeur/sign-in?for=quay&way=ticket")).send().await.unwrap();
        let cookie = first.headers()["set-cookie"].to_str().unwrap().split(';').next().unwrap().to_owned();
        let to = format!("{origin}{}", first.headers()["location"].to_str().unwrap());
        let field = workstation.bound(PASS, bound.as_deref()).field();
        let answer = http.get(to).header("cookie", cookie).header("authorization", field).send().await.unwrap();
        assert_eq!(answer.status().as_u16(), status, "{says}: {}", answer.text().await.unwrap());
        stack.service.as_ref().unwrap().settle().await;
        let look = stack.database.look().await;
        let row = look.query_one("SELECT steps::text FROM crossings ORDER BY ended_at DESC LIMIT 1", &[]).await.unwrap();
        let code = if status == 403 { "way.ticket-bindings" } else { "ticket-bound" };
        let steps: String = row.get(0);
        let told = if bound.is_none() { steps.contains("ticket-unbound") } else { steps.contains(code) };
        assert!(told, "{says}: {steps}");
    }
}
