//! A VPN server that says at its management socket what a test has it say, and tells what it was told.

use std::collections::BTreeMap;
use std::path::Path;
use std::time::Duration;

use tokio::io::{AsyncBufReadExt, AsyncWriteExt, BufReader, Lines};
use tokio::net::UnixListener;
use tokio::net::unix::{OwnedReadHalf, OwnedWriteHalf};

/// A server that waits for the service.
pub struct ScriptedVpn {
    listener: UnixListener,
}

/// What is said over one connection.
pub struct Talk {
    lines: Lines<BufReader<OwnedReadHalf>>,
    out: OwnedWriteHalf,
    /// What the server was told.
    pub told: Vec<String>,
    /// Who is connected: from where, and at which address.
    here: BTreeMap<u64, (String, String)>,
    /// Of which client an order is being read.
    of: Option<u64>,
}

/// What stands over the list of who is connected.
const COLUMNS: &str = "HEADER\tCLIENT_LIST\tCommon Name\tReal Address\tVirtual Address\tVirtual IPv6 Address\tClient ID";

/// The environment of a client that opens a browser, at an address.
fn env(address: &str) -> Vec<String> {
    [("untrusted_ip", address), ("IV_VER", "2.6.3"), ("IV_PLAT", "linux"), ("IV_SSO", "webauth,crtext"), ("session_id", address)]
        .iter()
        .map(|(name, value)| format!(">CLIENT:ENV,{name}={value}"))
        .chain([">CLIENT:ENV,END".to_owned()])
        .collect()
}

impl ScriptedVpn {
    pub fn at(socket: &Path) -> ScriptedVpn {
        ScriptedVpn { listener: UnixListener::bind(socket).unwrap() }
    }

    /// The next connection of the service.
    pub async fn met(&self) -> Talk {
        let (stream, _) =
            tokio::time::timeout(Duration::from_secs(20), self.listener.accept()).await.expect("it connects").unwrap();
        let (read, out) = stream.into_split();
        let mut talk = Talk { lines: BufReader::new(read).lines(), out, told: vec![], here: BTreeMap::new(), of: None };
        talk.say(">INFO:OpenVPN Management Interface Version 5").await;
        talk
    }
}

impl Talk {
    /// Says a line. Whether the service still listens.
    pub async fn say(&mut self, line: &str) -> bool {
        self.say_octets(format!("{line}\r\n").as_bytes()).await
    }

    pub async fn say_octets(&mut self, octets: &[u8]) -> bool {
        self.out.write_all(octets).await.is_ok()
    }

    /// A client connects.
    pub async fn connects(&mut self, id: u64, key: u64, address: &str) {
        self.is_here(id, address, "");
        self.say(&format!(">CLIENT:CONNECT,{id},{key}")).await;
        for line in env(address) {
            self.say(&line).await;
        }
    }

    /// A client is gone.
    pub async fn leaves(&mut self, id: u64) {
        self.here.remove(&id);
        self.say(&format!(">CLIENT:DISCONNECT,{id}\r\n>CLIENT:ENV,END")).await;
    }

    /// The tunnel of a client stands.
    pub async fn stands(&mut self, id: u64) {
        self.say(&format!(">CLIENT:ESTABLISHED,{id}\r\n>CLIENT:ENV,END")).await;
    }

    /// Somebody is in the list of who is connected.
    pub fn is_here(&mut self, id: u64, from: &str, at: &str) {
        self.here.insert(id, (format!("{from}:1194"), at.to_owned()));
    }

    /// The address that a client was given.
    pub fn address_of(&self, id: u64) -> &str {
        &self.here[&id].1
    }

    /// Does what the service orders, until `found` takes a line.
    pub async fn until<T>(&mut self, found: impl Fn(&str) -> Option<T>) -> T {
        for _ in 0..10_000 {
            // Who is connected is asked every half minute, and later on a busy machine.
            let next = tokio::time::timeout(Duration::from_secs(120), self.lines.next_line()).await;
            let Ok(next) = next else { panic!("it was never told that: {:#?}", self.told) };
            let line = next.ok().flatten().unwrap_or_else(|| panic!("the service leaves after {:#?}", self.told));
            self.told.push(line.clone());
            self.obeys(&line).await;
            if let Some(found) = found(&line) {
                return found;
            }
        }
        panic!("it is told much, and never that: {:#?}", self.told.last())
    }

    async fn obeys(&mut self, line: &str) {
        let mut words = line.split(' ');
        let (order, id) = (words.next().unwrap_or_default(), words.next().and_then(|n| n.parse::<u64>().ok()));
        match (order, id) {
            ("status", _) => {
                let client = |(id, (from, at)): (&u64, &(String, String))| format!("CLIENT_LIST\tclient\t{from}\t{at}\t\t{id}");
                let all: Vec<String> = self.here.iter().map(client).collect();
                self.say(&[COLUMNS.to_owned()].into_iter().chain(all).chain(["END".to_owned()]).collect::<Vec<_>>().join("\r\n"))
                    .await;
            }
            ("log" | "hold", _) => {
                self.say("SUCCESS: done").await;
            }
            ("client-auth", id) => self.of = id,
            ("client-deny" | "client-kill", Some(id)) => {
                self.say("SUCCESS: done").await;
                self.leaves(id).await;
            }
            ("client-pending-auth" | "client-auth-nt", _) => {
                self.say("SUCCESS: done").await;
            }
            ("END", _) => {
                self.of = None;
                self.say("SUCCESS: done").await;
            }
            ("ifconfig-push", _) => {
                if let (Some(of), Some(at)) = (self.of.and_then(|id| self.here.get_mut(&id)), line.split(' ').nth(1)) {
                    at.clone_into(&mut of.1);
                }
            }
            _ => {}
        }
    }

    /// The address at which a client's person is asked.
    pub async fn asked(&mut self, id: u64) -> String {
        let begins = format!("client-pending-auth {id} ");
        self.until(|line| {
            let text = line.strip_prefix(&begins)?.split("WEB_AUTH::").nth(1)?;
            Some(text.split('"').next().unwrap_or_default().to_owned())
        })
        .await
    }

    /// Whether anybody was let in.
    pub fn let_in(&self) -> bool {
        self.told.iter().any(|l| l.starts_with("client-auth"))
    }

    /// Waits until the service closes the connection.
    pub async fn left(mut self) {
        let left = async {
            while let Ok(Some(line)) = self.lines.next_line().await {
                self.told.push(line);
            }
        };
        tokio::time::timeout(Duration::from_secs(20), left).await.expect("it closes");
    }
}
