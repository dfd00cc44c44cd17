//! VPN servers that lie, and one with many clients: what a test has a server say at its management socket.

use std::collections::BTreeSet;

use reqwest::Method;
use serde_json::json;

use super::present;
use crate::support::{Person, ScriptedVpn, Sea, Talk, eventually};

/// A server of the pilots' entrance that is scripted, and the service connected to it.
pub async fn scripted(sea: &Sea) -> (ScriptedVpn, Talk) {
    let socket = sea.management("pilots");
    std::fs::create_dir_all(socket.parent().unwrap()).unwrap();
    let server = ScriptedVpn::at(&socket);
    let talk = server.met().await;
    (server, talk)
}

/// Says at the address that a client shows that it is theirs.
pub async fn says_yes(person: &mut Person, url: &str) -> String {
    let url = url::Url::parse(url).unwrap();
    let ask = url.query().unwrap();
    let origin = url.origin().ascii_serialization();
    person.send(Method::POST, &format!("{origin}/.passeur/connect?{ask}&answer=yes"), Some(&[])).await.body
}

/// Somebody who is signed in at the gate.
pub async fn at_the_gate(sea: &Sea, user: &str) -> Person {
    let mut person = Person::new();
    let page = person.open(&format!("http://tunnel.havrelune.localhost:{}/", sea.harbour.stack.address.port())).await;
    let back = person.prove(page, user).await;
    person.follow(back).await;
    person
}

#[tokio::test(flavor = "multi_thread")]
async fn whatever_a_server_says_nobody_is_let_in_who_did_not_sign_in() {
    if !Sea::is_caged("tunnels::servers::whatever_a_server_says_nobody_is_let_in_who_did_not_sign_in") {
        return;
    }
    let sea = Sea::without_servers(|site| site).await;
    let (server, mut talk) = scripted(&sea).await;
    // What is no message of a server, or of nobody: it is passed over, and the next client is asked as always.
    let mut id = 100;
    let mut strange: Vec<Vec<u8>> = [
        ">CLIENT:ESTABLISHED,99\r\n>CLIENT:ENV,END",
        ">CLIENT:REAUTH,99,1\r\n>CLIENT:ENV,END",
        ">CLIENT:DISCONNECT,99\r\n>CLIENT:ENV,END",
        ">CLIENT:CR_RESPONSE,99,1,Zm9v\r\n>CLIENT:ENV,END",
        ">CLIENT:CR_RESPONSE,99,1,not base64\r\n>CLIENT:ENV,END",
        ">CLIENT:ADDRESS,99,10.71.0.9,1",
        "SUCCESS: of nothing",
        "ERROR: of nothing",
        "END",
        "",
        ">UNHEARD-OF:x",
        ">LOG:1,,",
        "CLIENT_LIST,a,b,c",
    ]
    .iter()
    .map(|s| format!("{s}\r\n").into_bytes())
    .collect();
    strange.push(
        b">CLIENT:CONNECT,98,1\r\n>CLIENT:ENV,untrusted_ip=\xff\xfe\r\n>CLIENT:ENV,IV_PLAT=\xff\x1b[2J\r\n>CLIENT:ENV,END\r\n"
            .to_vec(),
    );
    let mut many = b">CLIENT:CONNECT,97,1\r\n".to_vec();
    (0..5_000).for_each(|n| many.extend(format!(">CLIENT:ENV,x{n}={n}\r\n").into_bytes()));
    many.extend(b">CLIENT:ENV,END\r\n");
    strange.push(many);
    for octets in strange {
        let shown = String::from_utf8_lossy(&octets).chars().take(80).collect::<String>();
        assert!(talk.say_octets(&octets).await, "{shown}");
        id += 1;
        talk.connects(id, 1, "198.51.100.7").await;
        assert!(talk.asked(id).await.contains("/connect?ask="), "{shown}");
        // Those that wait from one network are few: this one is gone.
        talk.leaves(id).await;
    }
    // A client without an address, and one whose words hold orders, are refused or asked; and no line of theirs becomes an order.
    talk.say(">CLIENT:CONNECT,201,1\r\n>CLIENT:ENV,IV_SSO=webauth\r\n>CLIENT:ENV,END").await;
    talk.until(|l| l.starts_with("client-deny 201 1 ").then_some(())).await;
    talk.say(
        ">CLIENT:CONNECT,202,1\r\n>CLIENT:ENV,untrusted_ip=198.51.100.7\r\n>CLIENT:ENV,username=a\" \"b\\\r\n>CLIENT:ENV,END",
    )
    .await;
    let question = talk.until(|l| l.starts_with("client-deny 202 1 ").then(|| l.to_owned())).await;
    assert_eq!(question.matches("CRV1:R,E:202:").count(), 1, "{question}");
    // One that knows the older word for a browser alone is told by that.
    talk.say(
        ">CLIENT:CONNECT,203,1\r\n>CLIENT:ENV,untrusted_ip=198.51.100.7\r\n>CLIENT:ENV,IV_SSO=openurl,crtext\r\n>CLIENT:ENV,END",
    )
    .await;
    let older = talk.until(|l| l.starts_with("client-pending-auth 203 1 ").then(|| l.to_owned())).await;
    assert!(older.contains(" \"OPEN_URL:http") && older.contains("/connect?ask="), "{older}");
    talk.leaves(203).await;
    assert!(!talk.let_in(), "{:#?}", talk.told);
    // What breaks the protocol ends the connection, and the service comes again.
    for octets in [
        vec![b'x'; 5_000],
        b">CLIENT:CONNECT,-1,1\r\n".to_vec(),
        b">CLIENT:CONNECT,99999999999999999999999,1\r\n".to_vec(),
        b">FATAL:all is over\r\n".to_vec(),
        b">CLIENT:ESTABLISHED,99\r\n>CLIENT:CONNECT,1,1\r\n".to_vec(),
        b">CLIENT:ENV,untrusted_ip=10.0.0.1\r\n".to_vec(),
    ] {
        let shown = String::from_utf8_lossy(&octets).chars().take(60).collect::<String>();
        talk.say_octets(&octets).await;
        talk.left().await;
        talk = server.met().await;
        // Somebody who was let in nowhere is in its list, at an address of the entrance: they are ended, and may come again.
        talk.is_here(300, "198.51.100.7", "10.71.0.2");
        let order = talk.until(|l| l.starts_with("client-kill 300").then(|| l.to_owned())).await;
        assert!(!order.contains("HALT") && !talk.let_in(), "{shown}: {order}");
    }
    // Half a message, and the server is gone.
    talk.say_octets(b">CLIENT:CONNECT,1,1\r\n>CLIENT:ENV,untrusted").await;
    drop(talk);
    let mut talk = server.met().await;
    // A person's yes counts for the client that asked, in the connection in which it asked.
    talk.connects(1, 1, "10.70.0.21").await;
    let url = talk.asked(1).await;
    drop(talk);
    let mut talk = server.met().await;
    talk.connects(1, 1, "10.70.0.21").await;
    let newer = talk.asked(1).await;
    assert_ne!(url, newer);
    let mut anouk = at_the_gate(&sea, "anouk").await;
    let (old, ()) = tokio::join!(says_yes(&mut anouk, &url), async {
        talk.until(|l| l.starts_with("status 3").then_some(())).await;
    });
    assert!(!old.contains("The tunnel is open"), "{old}");
    assert!(present(&sea).await.is_empty());
    assert!(!talk.let_in(), "{:#?}", talk.told);
}

#[tokio::test(flavor = "multi_thread")]
async fn two_hundred_tunnels_have_addresses_of_their_own_and_are_all_cut_at_once() {
    if !Sea::is_caged("tunnels::servers::two_hundred_tunnels_have_addresses_of_their_own_and_are_all_cut_at_once") {
        return;
    }
    const EACH: usize = 67;
    let sea = Sea::without_servers(|site| {
        site.replacen("devices = 2\nwhen-full = \"end-oldest\"\nauthority", &format!("devices = {EACH}\nauthority"), 1)
            .replace("browser = \"same-address\"\n", "")
    })
    .await;
    let (_server, mut talk) = scripted(&sea).await;
    let mut people = vec![];
    for user in ["anouk", "klara", "lucie"] {
        people.push((at_the_gate(&sea, user).await, vec![]));
    }
    let total = people.len() * EACH;
    for n in 0..total {
        let id = n as u64 + 1;
        talk.connects(id, 1, &format!("192.0.{}.{}", n / 200, n % 200 + 1)).await;
        let url = talk.asked(id).await;
        people[n / EACH].1.push(url);
    }
    let answering = async {
        let each = people.iter_mut().map(|(person, urls)| async {
            let mut opened = 0;
            for url in urls.iter() {
                opened += usize::from(says_yes(person, url).await.contains("The tunnel is open"));
            }
            opened
        });
        futures_util::future::join_all(each).await
    };
    let serving = async {
        let mut given = BTreeSet::new();
        for _ in 0..total {
            let id = talk.until(|l| l.strip_prefix("client-auth ")?.split(' ').next()?.parse::<u64>().ok()).await;
            talk.until(|l| (l == "END").then_some(())).await;
            let address = talk.address_of(id).to_owned();
            assert!(given.insert(address.clone()), "{address} is given twice");
            talk.stands(id).await;
        }
        given.len()
    };
    let (opened, given) = tokio::join!(answering, serving);
    assert_eq!((opened.iter().sum::<usize>(), given), (total, total));
    eventually("all are on", async || present(&sea).await.len() == total).await;
    // Machines without a person stay.
    let machines = sea.harbour.open_in_kernel() - total;
    // All sessions end: nothing is open when the call returns, and every client is ended for good.
    let sessions: Vec<_> = sea.harbour.stack.get("/sessions").await.as_array().unwrap().iter().map(|s| s["id"].clone()).collect();
    let (status, _) = sea.harbour.stack.post("/sessions/end", json!({"sessions": sessions})).await;
    assert_eq!(status, 200);
    assert_eq!(sea.harbour.open_in_kernel(), machines);
    let mut ended = BTreeSet::new();
    while ended.len() < total {
        ended.insert(talk.until(|l| l.strip_prefix("client-kill ")?.strip_suffix(" HALT").map(str::to_owned)).await);
    }
    eventually("nobody is on", async || present(&sea).await.is_empty()).await;
}
