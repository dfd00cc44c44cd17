//! Whatever is wrong with keys, names, clocks and accounts is found before people find it, and files are read for what is in them.

use std::path::Path;
use std::process::Command;

use serde_json::{Value, json};
use tokio::net::TcpListener;

use crate::support::kerberos::{self, Cache, OtherRealm, PASS, folder, in_base64, kadmin, keytab};
use crate::support::{RawUpstream, Stack, binary};

async fn look(stack: &Stack) -> Value {
    let (status, seen) = stack.post("/kerberos", json!({})).await;
    assert_eq!(status, 200, "{seen}");
    seen
}

fn codes(seen: &Value) -> Vec<String> {
    let mut all: Vec<String> =
        seen["findings"].as_array().unwrap().iter().map(|f| f["code"].as_str().unwrap().to_owned()).collect();
    all.sort();
    all
}

fn words(seen: &Value, code: &str) -> String {
    let all = seen["findings"].as_array().unwrap();
    let one = all.iter().find(|f| f["code"] == code).unwrap_or_else(|| panic!("{code}: {seen:#}"));
    format!("{} {} {}", one["what"].as_str().unwrap(), one["seen"].as_str().unwrap(), one["remedy"].as_str().unwrap())
}

#[tokio::test]
async fn a_sound_realm_is_told_whole_and_no_key_of_it() {
    let stack = Stack::new().await;
    let seen = look(&stack).await;
    assert_eq!(codes(&seen), [""; 0], "{seen:#}");
    let text = seen.to_string();
    let realm = |name: &str| seen["realms"].as_array().unwrap().iter().find(|r| r["realm"] == name).cloned().unwrap();
    assert_eq!(realm("HAVRELUNE.EXAMPLE")["answer"], "answered");
    assert!(realm("HAVRELUNE.EXAMPLE")["ahead"].as_i64().unwrap().abs() <= 2);
    // No key of ours is there; that somebody answers is known all the same, for the password that is taken.
    assert_eq!(realm("AGENTS.EXAMPLE")["answer"], "alive");
    let service = seen["services"].as_array().unwrap().iter().find(|s| s["service"] == PASS).unwrap();
    assert_eq!((&service["found"], &service["enctype"]), (&json!("sealed"), &json!("aes256-cts-hmac-sha384-192")), "{text}");
    assert_eq!(seen["accounts"][0]["state"], "acts", "{text}");
    assert_eq!(seen["keytabs"].as_array().unwrap().len(), 2);
    // What goes out holds no piece of a key.
    let whole = keytab();
    assert!((0..whole.len() - 24).all(|i| !text.contains(&whole[i..i + 24])), "a key was told");
    assert_eq!(stack.get("/kerberos/realms").await, json!(["AGENTS.EXAMPLE", "HAVRELUNE.EXAMPLE"]));
    // The survey finds the same.
    let (_, survey) = stack.post("/survey", json!({})).await;
    assert!(codes(&survey).iter().all(|c| !c.starts_with("kerberos.")), "{survey:#}");
    let sheet = stack.get("/handover/realm/HAVRELUNE.EXAMPLE").await;
    assert!(sheet["markdown"].as_str().unwrap().contains("kvno HTTP/pass.havrelune.localhost"), "{sheet}");
    assert_eq!(stack.status("/handover/realm/..%2f").await, 400);
}

#[tokio::test]
async fn keys_are_held_against_the_kdc() {
    let (host, file) = kerberos::service("looked-at");
    let stack = Stack::with(|s| {
        let ours = format!(
            "keytabs = [\"harbour-keytab\", \"own-keytab\"]\nhosts = [\"pass.havrelune.localhost\", \"{host}\", \"unheard-{host}\"]\n"
        );
        s.replace("keytabs = [\"harbour-keytab\"]\n", &ours)
    })
    .await;
    let own = async |value: String| stack.put("/secrets/own-keytab", json!({"value": value})).await;
    own(in_base64(&file)).await;
    // A host that the KDC knows nothing of, and that no keytab has a key of.
    let seen = look(&stack).await;
    assert_eq!(codes(&seen), ["kerberos.no-service"], "{seen:#}");
    assert!(words(&seen, "kerberos.no-service").contains(&format!("HTTP/unheard-{host}@HAVRELUNE.EXAMPLE")), "{seen:#}");
    kadmin(&format!("addprinc -randkey HTTP/unheard-{host}"));
    assert_eq!(codes(&look(&stack).await), ["kerberos.no-key"]);
    // The key is made anew, and nobody told us.
    kadmin(&format!("cpw -randkey HTTP/{host}"));
    let seen = look(&stack).await;
    assert_eq!(codes(&seen), ["kerberos.key-version", "kerberos.no-key"], "{seen:#}");
    assert!(words(&seen, "kerberos.key-version").contains("version 3; ours are of version 2"), "{seen:#}");
    // Both versions side by side are in order.
    kadmin(&format!("ktadd -k {} HTTP/{host}", file.display()));
    own(in_base64(&file)).await;
    assert_eq!(codes(&look(&stack).await), ["kerberos.no-key"]);
    // The same version of another account: only signing in tells.
    kadmin(&format!(
        "delprinc -force HTTP/{host}\naddprinc -randkey HTTP/{host}\ncpw -randkey HTTP/{host}\ncpw -randkey HTTP/{host}\n\
         cpw -randkey HTTP/{host}"
    ));
    let seen = look(&stack).await;
    assert_eq!(codes(&seen), ["kerberos.key-differs", "kerberos.no-key"], "{seen:#}");
    // A key of one kind alone, and of a kind that is deprecated.
    let _ = std::fs::remove_file(&file);
    kadmin(&format!("ktadd -e aes128-cts:normal -k {} HTTP/{host}\ncpw -randkey HTTP/{host}", file.display()));
    own(in_base64(&file)).await;
    assert!(codes(&look(&stack).await).contains(&"kerberos.key-version".to_owned()));
    own("not a keytab".to_owned()).await;
    let seen = look(&stack).await;
    assert!(words(&seen, "kerberos.keytab").contains("own-keytab"), "{seen:#}");
}

#[tokio::test]
async fn accounts_applications_and_clocks_are_looked_at() {
    let (host, file) = kerberos::service("account");
    let account = format!("HTTP/{host}@HAVRELUNE.EXAMPLE");
    let plain =
        "HTTP/1.1 401 Unauthorized\r\nWWW-Authenticate: Basic realm=\"x\"\r\nContent-Length: 0\r\nConnection: close\r\n\r\n";
    let upstream = RawUpstream::new(plain, false).await;
    let locks = crate::support::env("PASSEUR_TEST_LOCKS");
    let stack = Stack::with(|s| {
        let s = s.replace("HTTP/gateway.havrelune.localhost@HAVRELUNE.EXAMPLE", &account);
        assert!(s.contains(&locks));
        s.replace(&locks, &upstream.address.to_string())
    })
    .await;
    stack.put("/secrets/gateway-keytab", json!({"value": in_base64(&file)})).await;
    let seen = look(&stack).await;
    assert_eq!(codes(&seen), ["kerberos.not-allowed", "kerberos.not-offered"], "{seen:#}");
    assert!(words(&seen, "kerberos.not-offered").contains("401, offering Basic"), "{seen:#}");
    kerberos::may_delegate(&format!("HTTP/{host}"), "HTTP/lockhouse.havrelune.localhost");
    assert!(codes(&look(&stack).await).contains(&"kerberos.acts-for-nobody".to_owned()));
    kadmin(&format!("modprinc +ok_to_auth_as_delegate HTTP/{host}"));
    assert_eq!(codes(&look(&stack).await), ["kerberos.not-offered"]);
    // Our clock is the one that counts.
    stack.clock.advance(chrono::Duration::minutes(3));
    let seen = look(&stack).await;
    assert!(words(&seen, "kerberos.clock-drifts").contains("differ by -1"), "{seen:#}");
    stack.clock.advance(chrono::Duration::minutes(3));
    assert!(codes(&look(&stack).await).contains(&"kerberos.clock".to_owned()));
    stack.clock.advance(chrono::Duration::minutes(-6));
    kadmin(&format!("cpw -randkey HTTP/{host}"));
    let seen = look(&stack).await;
    assert!(codes(&seen).contains(&"kerberos.key-differs".to_owned()), "{seen:#}");
}

#[tokio::test]
async fn a_realm_whose_kdc_is_silent_delays_the_look_and_is_told() {
    let silent = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let realm = format!("STILL{}.EXAMPLE", silent.local_addr().unwrap().port());
    let _realm = OtherRealm::at(&realm, silent.local_addr().unwrap().port());
    let stack = Stack::with(|s| s.replace("AGENTS.EXAMPLE", &realm)).await;
    let seen = look(&stack).await;
    assert_eq!(codes(&seen), ["kerberos.kdc"], "{seen:#}");
    assert!(words(&seen, "kerberos.kdc").contains(&realm), "{seen:#}");
}

struct Ran {
    code: i32,
    out: String,
    err: String,
}

fn read(args: &[&Path], ask: bool) -> Ran {
    let mut passeur = Command::new(binary("passeur"));
    passeur.args(["kerberos", "read"]).args(args).env("COLUMNS", "160").env("TZ", "UTC");
    if ask {
        passeur.arg("--ask");
    }
    let out = passeur.output().unwrap();
    let text = |b: Vec<u8>| String::from_utf8(b).unwrap();
    Ran { code: out.status.code().unwrap(), out: text(out.stdout), err: text(out.stderr) }
}

#[test]
fn files_are_read_by_themselves() {
    let cache = Cache::person("elodie");
    let keytab = folder().join("keytabs/passeur.keytab");
    let ran = read(&[&cache.0, &keytab, &folder().join("krb5.conf")], false);
    assert!(ran.out.contains("credential cache of elodie@HAVRELUNE.EXAMPLE"), "{}", ran.out);
    // Her ticket may not be forwarded, which is why no application sees it.
    assert!(ran.out.contains("it may not be forwarded") && ran.code == 3, "{} {}", ran.code, ran.out);
    assert!(ran.out.contains("aes256-cts-hmac-sha384-192") && ran.out.contains("default_realm"), "{}", ran.out);
    for (bytes, says) in [
        (&b"\x05\x02\0\0\0\x09x"[..], "cut off or damaged at byte 2"),
        (b"\x05\x04\0", "cut off or damaged"),
        (b"\x05\x01", "neither a keytab nor a credential cache"),
        (b"\0\0", "neither"),
        (b"harbour = 1\n", "it is no krb5.conf"),
        (b"", "it is no krb5.conf"),
    ] {
        let path = std::env::temp_dir().join(format!("passeur-read-{}", uuid::Uuid::new_v4()));
        std::fs::write(&path, bytes).unwrap();
        let ran = read(&[&path], true);
        assert!(ran.code == 1 && ran.err.contains(says), "{says}: {} {}", ran.code, ran.err);
        std::fs::remove_file(path).unwrap();
    }
    let ran = read(&[Path::new("/nowhere/at/all")], false);
    assert!(ran.code == 1 && ran.err.contains("No such file"), "{}", ran.err);
}

#[test]
fn a_keytab_is_held_against_the_kdc_before_anybody_stores_it() {
    let (host, file) = kerberos::service("read");
    let good = read(&[&file], true);
    assert!(good.code == 0 && good.out.contains("this file holds that key"), "{} {} {}", good.code, good.out, good.err);
    kadmin(&format!("cpw -randkey HTTP/{host}"));
    let old = read(&[&file], true);
    assert!(old.code == 3 && old.out.contains("the KDC does not take this key"), "{} {} {}", old.code, old.out, old.err);
}
