//! Hosts reached by SSH with a ticket: Debian's sshd and ssh on loopback, against the tests' own KDC.

use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};

use passeur_protocols::ssh::{Lines, Login};

use crate::support::kerberos::{Cache, folder, kadmin};
use crate::support::{binary, eventually};

/// What our own reading gives for a keyword.
fn read(path: &Path, asked: &Login, keyword: &str, of_server: bool) -> Option<String> {
    let text = std::fs::read_to_string(path).unwrap();
    let mut open = |pattern: &str| {
        let (folder, last) = pattern.rsplit_once('/').unwrap();
        let mut names: Vec<String> =
            std::fs::read_dir(folder).unwrap().map(|e| e.unwrap().file_name().into_string().unwrap()).collect();
        names.sort();
        names.retain(|n| passeur_protocols::ssh::matches(last, n));
        names.into_iter().map(|n| format!("{folder}/{n}")).map(|f| (f.clone(), std::fs::read_to_string(f).unwrap())).collect()
    };
    let lines = Lines::read(&[(path.display().to_string(), text)], &mut open);
    assert!(lines.troubles.is_empty(), "{:?}", lines.troubles);
    let found = if of_server { lines.of_server(keyword, asked) } else { lines.of_client(keyword, asked) };
    found.map(|v| v.item.value().to_ascii_lowercase())
}

/// What the program itself says.
fn said(out: &Output, keyword: &str) -> String {
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    let text = String::from_utf8_lossy(&out.stdout).into_owned();
    let line = text.lines().find_map(|l| l.to_ascii_lowercase().strip_prefix(&format!("{keyword} ")).map(str::to_owned));
    line.unwrap_or_else(|| panic!("{keyword}: {text}"))
}

fn fresh() -> PathBuf {
    let path = std::env::temp_dir().join(format!("passeur-host-{}", &uuid::Uuid::new_v4().simple().to_string()[..8]));
    std::fs::create_dir_all(path.join("more.d")).unwrap();
    // The server insists on it, wherever it is told to work.
    let _ = std::fs::create_dir_all("/run/sshd");
    path
}

fn host_key(at: &Path) -> PathBuf {
    let key = at.join("host_key");
    let mut keygen = Command::new("ssh-keygen");
    keygen.args(["-q", "-t", "ed25519", "-N", "", "-f"]).arg(&key);
    assert!(keygen.status().unwrap().success());
    key
}

#[test]
fn what_is_read_of_a_server_is_what_the_server_says() {
    let at = fresh();
    let key = host_key(&at);
    let more = at.join("more.d").display().to_string();
    std::fs::write(at.join("more.d/10.conf"), "Match User farid\n  GSSAPIAuthentication no\n").unwrap();
    std::fs::write(at.join("more.d/20.conf"), "gssapiauthentication = yes # of the harbour\n").unwrap();
    let include = format!("Include {more}/*.conf");
    let cases = [
        "GSSAPIAuthentication yes",
        "GSSAPIAuthentication yes\nGSSAPIAuthentication no",
        "gssapiauthentication=yes",
        "  \"GSSAPIAuthentication\" \"yes\"",
        "#GSSAPIAuthentication yes",
        "Match User anouk\nGSSAPIAuthentication yes",
        "GSSAPIAuthentication yes\nMatch User farid,anouk\nGSSAPIAuthentication no\nMatch all\nGSSAPIAuthentication yes",
        "GSSAPIAuthentication yes\nMatch User *,!anouk\nGSSAPIAuthentication no",
        "GSSAPIAuthentication no\nMatch Address 10.20.0.0/16 User anou?\nGSSAPIAuthentication yes",
        "GSSAPIAuthentication no\nMatch Address 10.21.0.0/16\nGSSAPIAuthentication yes",
        "GSSAPIAuthentication no\nMatch Address 10.20.*,!10.20.1.5\nGSSAPIAuthentication yes",
        "GSSAPIAuthentication no\nMatch Host pier-?.example\nGSSAPIAuthentication yes",
        &include,
        &format!("GSSAPIAuthentication no\n{include}"),
        &format!("{include}\nGSSAPIAuthentication no\nGSSAPIStrictAcceptorCheck no\nMatch User anouk\nGSSAPIAuthentication no"),
        &format!("Match User anouk\n{include}\nMatch all\nPermitRootLogin no"),
        &format!("Match User benoit\n{include}\nMatch all\nPermitRootLogin no"),
    ];
    for text in cases {
        let path = at.join("sshd_config");
        std::fs::write(&path, format!("HostKey {}\n{text}\n", key.display())).unwrap();
        for (user, address, host) in [("anouk", "10.20.1.5", "pier-7.example"), ("farid", "192.0.2.1", "elsewhere.example")] {
            let connection = format!("user={user},host={host},addr={address}");
            let out = Command::new("/usr/sbin/sshd").args(["-T", "-f"]).arg(&path).args(["-C", &connection]).output().unwrap();
            let asked = Login { user: user.into(), groups: vec![], host: Some(host.into()), address: Some(address.into()) };
            for (keyword, unless) in [("gssapiauthentication", "no"), ("gssapistrictacceptorcheck", "yes")] {
                let ours = read(&path, &asked, keyword, true).unwrap_or_else(|| unless.to_owned());
                assert_eq!(ours, said(&out, keyword), "{user} {keyword}: {text}");
            }
        }
    }
    std::fs::remove_dir_all(at).unwrap();
}

#[test]
fn what_is_read_of_a_client_is_what_the_client_says() {
    let at = fresh();
    let more = at.join("more.d").display().to_string();
    std::fs::write(at.join("more.d/10.conf"), "Host winch\n  GSSAPIDelegateCredentials yes\n").unwrap();
    for text in [
        "GSSAPIAuthentication yes",
        "Host *.example !bollard.example\n  GSSAPIAuthentication yes",
        "Host winch bollard.example\n  GSSAPIAuthentication yes\n  User hoist\nHost *\n  GSSAPIAuthentication no",
        "Match host *.example\n  GSSAPIDelegateCredentials yes\nMatch all\nUser pilot",
        "Host winch\n  HostName winch.example\nMatch all\n  GSSAPIAuthentication yes",
        &format!("Include {more}/*.conf\nGSSAPIDelegateCredentials no"),
        &format!("Host bollard*\n  Include {more}/*.conf\nHost *\n  GSSAPIDelegateCredentials no"),
    ] {
        let path = at.join("ssh_config");
        std::fs::write(&path, text).unwrap();
        for to in ["winch", "bollard.example", "pier.example"] {
            let out = Command::new("ssh").arg("-G").arg("-F").arg(&path).arg("--").arg(to).output().unwrap();
            let asked = Login { user: "anouk".into(), host: Some(to.into()), ..Login::default() };
            for (keyword, unless) in [("gssapiauthentication", "no"), ("gssapidelegatecredentials", "no"), ("hostname", to)] {
                let ours = read(&path, &asked, keyword, false).unwrap_or_else(|| unless.to_owned());
                assert_eq!(ours, said(&out, keyword), "{to} {keyword}: {text}");
            }
        }
    }
    std::fs::remove_dir_all(at).unwrap();
}

/// A server of a test's own; ended with it.
struct Sshd {
    at: PathBuf,
    name: String,
    port: u16,
    running: Option<Child>,
}

impl Drop for Sshd {
    fn drop(&mut self) {
        self.stop();
        let _ = std::fs::remove_dir_all(&self.at);
    }
}

/// Whoever runs the tests: the one account that a server of theirs may let in.
fn me() -> String {
    let out = Command::new("id").arg("-un").output().unwrap();
    String::from_utf8(out.stdout).unwrap().trim().to_owned()
}

impl Sshd {
    /// Lays down its files; `settings` stand in its configuration.
    fn new(what: &str, settings: &str) -> Sshd {
        let at = fresh();
        let name = format!("{what}-{}.havrelune.localhost", &uuid::Uuid::new_v4().simple().to_string()[..8]);
        let keytab = at.join("krb5.keytab");
        kadmin(&format!("addprinc -randkey host/{name}\nktadd -k {} host/{name}", keytab.display()));
        // The harbour's own, in which Anouk is whoever runs this.
        let config = std::fs::read_to_string(folder().join("krb5.conf")).unwrap();
        let names = format!("  HAVRELUNE.EXAMPLE = {{\n    auth_to_local_names = {{\n      anouk = {}\n    }}\n", me());
        let config = config.replacen("  HAVRELUNE.EXAMPLE = {\n", &names, 1);
        assert!(config.contains("auth_to_local_names"));
        std::fs::write(at.join("krb5.conf"), config).unwrap();
        let sshd = Sshd { name, port: 0, running: None, at };
        let common = format!(
            "HostKey {}\nPidFile {}\nListenAddress 127.0.0.1\nUsePAM no\nStrictModes no\nPermitRootLogin yes\nAuthorizedKeysFile none\n\
             PasswordAuthentication no\nKbdInteractiveAuthentication no\nSetEnv KRB5_CONFIG={}\n{settings}",
            host_key(&sshd.at).display(),
            sshd.file("sshd.pid"),
            sshd.file("krb5.conf")
        );
        std::fs::write(sshd.file("sshd_config"), common).unwrap();
        std::fs::write(sshd.file("ssh_config"), "").unwrap();
        sshd
    }

    fn file(&self, name: &str) -> String {
        self.at.join(name).display().to_string()
    }

    fn stop(&mut self) {
        if let Some(mut running) = self.running.take() {
            let _ = running.kill();
            let _ = running.wait();
        }
    }

    /// Begins, or begins again. A port that was lost meanwhile is chosen anew.
    async fn start(&mut self) {
        self.stop();
        for _ in 0..5 {
            let free = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
            self.port = free.local_addr().unwrap().port();
            drop(free);
            let log = std::fs::File::create(self.file("log")).unwrap();
            let mut sshd = Command::new("/usr/sbin/sshd");
            sshd.args(["-D", "-e", "-f", &self.file("sshd_config"), "-p", &self.port.to_string()]);
            sshd.env("KRB5_CONFIG", self.file("krb5.conf")).env("KRB5_KTNAME", self.file("krb5.keytab"));
            let mut running = sshd.stdin(Stdio::null()).stdout(Stdio::null()).stderr(log).spawn().unwrap();
            let mut ended = false;
            eventually("the server is there", async || {
                ended = running.try_wait().unwrap().is_some();
                ended || tokio::net::TcpStream::connect(("127.0.0.1", self.port)).await.is_ok()
            })
            .await;
            if !ended {
                self.running = Some(running);
                return;
            }
        }
        panic!("the server does not start: {}", std::fs::read_to_string(self.file("log")).unwrap());
    }

    /// What a client writes to come here.
    fn as_next(&self) -> String {
        format!(
            "Host {name}\n  HostName 127.0.0.1\n  Port {}\n  GSSAPIServerIdentity {name}\n  User {}\n",
            self.port,
            me(),
            name = self.name
        )
    }

    /// A client with somebody's ticket, which runs something here.
    fn run(&self, cache: &Cache, client: &str, words: &str) -> Output {
        let path = self.file("client");
        let quiet = "UserKnownHostsFile /dev/null\nStrictHostKeyChecking no\nLogLevel ERROR\nBatchMode yes\n";
        std::fs::write(&path, format!("{quiet}{client}{}", self.as_next())).unwrap();
        let mut ssh = Command::new("ssh");
        ssh.args(["-F", &path, &self.name, words]).env("KRB5CCNAME", format!("FILE:{}", cache.0.display()));
        ssh.env("KRB5_CONFIG", folder().join("krb5.conf")).stdin(Stdio::null()).output().unwrap()
    }

    /// What `passeur host` says of it.
    fn examined(&self, more: &[&str]) -> (i32, String) {
        let mut passeur = Command::new(binary("passeur"));
        passeur.args(["host", "anouk@HAVRELUNE.EXAMPLE", "--from", "127.0.0.1"]).env("COLUMNS", "200");
        for (name, file) in [
            ("--sshd-config", "sshd_config"),
            ("--ssh-config", "ssh_config"),
            ("--krb5-config", "krb5.conf"),
            ("--keytab", "krb5.keytab"),
        ] {
            passeur.args([name, &self.file(file)]);
        }
        let out = passeur.args(more).output().unwrap();
        (out.status.code().unwrap(), format!("{}{}", String::from_utf8_lossy(&out.stdout), String::from_utf8_lossy(&out.stderr)))
    }

    /// Does as it advises: the changed files are put in place.
    fn follow(&self, next: &Sshd) {
        let to = self.at.join("advised");
        let (_, words) = self.examined(&["--to", &next.name, "--write-to", &to.display().to_string()]);
        assert!(words.contains("sshd_config"), "{words}");
        for name in ["sshd_config", "ssh_config"] {
            let advised = to.join(self.file(name).trim_start_matches('/'));
            if advised.exists() {
                std::fs::copy(advised, self.file(name)).unwrap();
            }
        }
    }
}

fn text(out: &Output) -> String {
    format!("{}{}", String::from_utf8_lossy(&out.stdout), String::from_utf8_lossy(&out.stderr))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_host_that_refuses_admits_once_its_advice_is_followed_and_the_next_hop_works() {
    let tickets = Cache::person("anouk");
    let mut winch = Sshd::new("winch", "GSSAPIAuthentication yes\nGSSAPIStrictAcceptorCheck no\n");
    winch.start().await;
    let mut bollard = Sshd::new("bollard", "X11Forwarding no\n");
    std::fs::write(
        bollard.file("ssh_config"),
        format!("LogLevel ERROR\nUserKnownHostsFile /dev/null\nStrictHostKeyChecking no\n{}", winch.as_next()),
    )
    .unwrap();
    bollard.start().await;
    let client = "GSSAPIAuthentication yes\nGSSAPIDelegateCredentials yes\n";
    let refused = bollard.run(&tickets, client, "echo landed");
    assert!(!refused.status.success() && text(&refused).contains("Permission denied"), "{}", text(&refused));
    // Everything that stands in the way is named, and it is what the programs themselves say.
    let (code, words) = bollard.examined(&["--to", &winch.name]);
    assert_eq!(code, 3, "{words}");
    for finding in ["sshd.no-gssapi", "sshd.strict-name", "onward.no-gssapi", "onward.no-delegation"] {
        assert!(words.contains(finding), "{finding}: {words}");
    }
    assert!(!words.contains("account."), "{words}");
    let (_, difference) = bollard.examined(&["--to", &winch.name, "--diff"]);
    assert!(difference.contains("+GSSAPIAuthentication yes") && difference.contains("+++ b"), "{difference}");
    let before = std::fs::read_to_string(bollard.file("sshd_config")).unwrap();
    let to = bollard.at.join("advised");
    let (_, written) = bollard.examined(&["--to", &winch.name, "--write-to", &to.display().to_string()]);
    assert!(written.contains("sshd_config"), "{written}");
    assert_eq!(std::fs::read_to_string(bollard.file("sshd_config")).unwrap(), before, "nothing is changed in place");
    // A folder with something in it is never written over.
    let (code, words) = bollard.examined(&["--write-to", &to.display().to_string()]);
    assert!(code == 1 && words.contains("is not empty"), "{code} {words}");
    std::fs::remove_dir_all(&to).unwrap();
    bollard.follow(&winch);
    bollard.start().await;
    let (code, words) = bollard.examined(&["--to", &winch.name]);
    assert!(code == 0 && words.contains("comes in with a ticket"), "{code} {words}");
    let landed = bollard.run(&tickets, client, "echo landed");
    assert!(text(&landed).contains("landed"), "{} {}", text(&landed), std::fs::read_to_string(bollard.file("log")).unwrap());
    // And onward, with the ticket that came along.
    let onward = format!("ssh -F {} -o BatchMode=yes {} echo moored", bollard.file("ssh_config"), winch.name);
    let moored = bollard.run(&tickets, client, &onward);
    assert!(text(&moored).contains("moored"), "{}", text(&moored));
    // A client that keeps its ticket goes no further, and this is what the advice is about.
    let kept = bollard.run(&tickets, "GSSAPIAuthentication yes\n", &onward);
    assert!(!text(&kept).contains("moored"), "{}", text(&kept));
    // Somebody else is another account, or none.
    let farid = Cache::person("farid");
    let stranger = bollard.run(&farid, client, "echo landed");
    assert!(!text(&stranger).contains("landed"), "{}", text(&stranger));
}
