//! The kernel's side: elements by netlink, rules by nft(8). Every call is one transaction, and waits for what the kernel says to it.

use std::io::{self, Write};
use std::os::fd::OwnedFd;
use std::path::PathBuf;
use std::process::{Command, Stdio};

use passeur_protocols::netlink::netfilter::{Answer, Batch, CHANGES_GROUP, Change, Element, ask_elements, ask_generation, read};
use rustix::net::netlink::{NETFILTER, SocketAddrNetlink};
use rustix::net::{AddressFamily, RecvFlags, SendFlags, SocketFlags, SocketType, bind, recv, send, socket_with, sockopt};
use thiserror::Error;

use crate::rules::{TABLE, There};

/// What the kernel may say before it is read, in octets.
const BUFFER: usize = 8 << 20;
/// The most changes of a batch: each is acknowledged, and acknowledgements wait in the buffer.
pub const BATCH_MAX: usize = 2_000;
/// The longest message of a dump.
const MESSAGE_MAX: usize = 256 << 10;

/// Why the kernel did not do something.
#[derive(Debug, Error)]
pub enum Failed {
    #[error("the netlink socket: {0}")]
    Socket(#[from] io::Error),
    #[error("the kernel refused change {at} of {of}: {why}")]
    Refused { at: usize, of: usize, why: io::Error },
    #[error("the kernel acknowledged {acknowledged} of {of} changes")]
    Silent { acknowledged: usize, of: usize },
    #[error("{0}")]
    Read(#[from] passeur_protocols::netlink::Malformed),
    #[error("nft: {0}")]
    Nft(String),
}

impl From<rustix::io::Errno> for Failed {
    fn from(e: rustix::io::Errno) -> Failed {
        Failed::Socket(e.into())
    }
}

/// A socket to nf_tables, and the command that loads rules.
pub struct Kernel {
    socket: OwnedFd,
    sequence: u32,
    nft: PathBuf,
    /// How many transactions it made: the kernel's generation goes on by one with each.
    pub commits: u32,
}

/// A socket that is told of each change of nf_tables by anybody; reading waits.
///
/// # Errors
/// The system gives none.
pub fn watch() -> Result<OwnedFd, Failed> {
    let socket = socket_with(AddressFamily::NETLINK, SocketType::RAW, SocketFlags::CLOEXEC, Some(NETFILTER))?;
    bind(&socket, &SocketAddrNetlink::new(0, 1 << (CHANGES_GROUP - 1)))?;
    Ok(socket)
}

impl Kernel {
    /// Opens it.
    ///
    /// # Errors
    /// The system gives no socket.
    pub fn open(nft: PathBuf) -> Result<Kernel, Failed> {
        let flags = SocketFlags::CLOEXEC | SocketFlags::NONBLOCK;
        let socket = socket_with(AddressFamily::NETLINK, SocketType::RAW, flags, Some(NETFILTER))?;
        bind(&socket, &SocketAddrNetlink::new(0, 0))?;
        // Beyond the system's limit with CAP_NET_ADMIN; without, batches are refused as a whole, and nothing opens.
        let _ = sockopt::set_socket_recv_buffer_size_force(&socket, BUFFER);
        let _ = sockopt::set_socket_send_buffer_size_force(&socket, BUFFER);
        Ok(Kernel { socket, sequence: 1, nft, commits: 0 })
    }

    /// Everything that has come. The kernel answers while it is sent to.
    fn answers(&self, mut take: impl FnMut(Answer) -> bool) -> Result<(), Failed> {
        let mut buffer = vec![0u8; MESSAGE_MAX];
        loop {
            match recv(&self.socket, &mut buffer[..], RecvFlags::TRUNC) {
                Ok((_, length)) if length > buffer.len() => {
                    return Err(Failed::Socket(io::Error::other("a message longer than any that was asked for")));
                }
                Ok((_, length)) => {
                    for answer in read(&buffer[..length])? {
                        if !take(answer) {
                            return Ok(());
                        }
                    }
                }
                Err(rustix::io::Errno::AGAIN) => return Ok(()),
                Err(rustix::io::Errno::INTR) => {}
                Err(e) => return Err(e.into()),
            }
        }
    }

    /// Drops what may still wait from before.
    fn drain(&self) {
        let _ = self.answers(|_| true);
    }

    /// Makes changes, wholly or not at all for each [`BATCH_MAX`] of them.
    ///
    /// # Errors
    /// The kernel refused one: nothing of its batch is made, and nothing of those after it.
    pub fn apply(&mut self, changes: &[Change<'_>]) -> Result<(), Failed> {
        for part in changes.chunks(BATCH_MAX) {
            self.drain();
            let first = self.sequence;
            let mut batch = Batch::new(TABLE, first);
            part.iter().for_each(|c| batch.push(c));
            let (octets, next) = batch.finish();
            self.sequence = next.wrapping_add(1).max(1);
            send(&self.socket, &octets, SendFlags::empty())?;
            let (mut acknowledged, mut refused) = (0, None);
            self.answers(|answer| {
                match answer {
                    Answer::Done { .. } => acknowledged += 1,
                    Answer::Refused { sequence, errno } if refused.is_none() => refused = Some((sequence, errno)),
                    _ => {}
                }
                true
            })?;
            if let Some((sequence, errno)) = refused {
                let at = sequence.wrapping_sub(first) as usize;
                return Err(Failed::Refused { at, of: part.len(), why: io::Error::from_raw_os_error(errno) });
            }
            if acknowledged != part.len() {
                return Err(Failed::Silent { acknowledged, of: part.len() });
            }
            self.commits = self.commits.wrapping_add(1);
        }
        Ok(())
    }

    /// Every element of a set; none where there is no such set.
    ///
    /// # Errors
    /// The kernel refuses, or the set changed while it was read (EINTR): it is asked again by whoever wants to know.
    pub fn elements(&mut self, set: &str) -> Result<Vec<Element>, Failed> {
        self.drain();
        let sequence = self.take();
        send(&self.socket, &ask_elements(TABLE, set, sequence), SendFlags::empty())?;
        let (mut out, mut refused) = (vec![], None);
        self.answers(|answer| match answer {
            Answer::Element(e) => {
                out.push(e);
                true
            }
            Answer::Refused { errno, .. } => {
                refused = Some(errno);
                false
            }
            Answer::End { .. } => false,
            _ => true,
        })?;
        match refused.map(io::Error::from_raw_os_error) {
            None => Ok(out),
            Some(e) if e.kind() == io::ErrorKind::NotFound => Ok(vec![]),
            Some(why) => Err(Failed::Refused { at: 1, of: 1, why }),
        }
    }

    /// In which generation nf_tables are.
    ///
    /// # Errors
    /// The kernel does not say.
    pub fn generation(&mut self) -> Result<u32, Failed> {
        self.drain();
        let sequence = self.take();
        send(&self.socket, &ask_generation(sequence), SendFlags::empty())?;
        let mut told = None;
        self.answers(|answer| {
            if let Answer::Generation(number) = answer {
                told = Some(number);
            }
            told.is_none()
        })?;
        told.ok_or(Failed::Silent { acknowledged: 0, of: 1 })
    }

    fn take(&mut self) -> u32 {
        let sequence = self.sequence;
        self.sequence = self.sequence.wrapping_add(1).max(1);
        sequence
    }

    /// Loads statements in one transaction.
    ///
    /// # Errors
    /// What nft says: nothing is changed then.
    pub fn load(&mut self, text: &str) -> Result<(), Failed> {
        let started =
            Command::new(&self.nft).args(["-f", "-"]).stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::piped()).spawn();
        let mut child = started.map_err(|e| Failed::Nft(format!("{} cannot be started: {e}", self.nft.display())))?;
        let written = match child.stdin.take() {
            Some(mut stdin) => stdin.write_all(text.as_bytes()),
            None => Ok(()),
        };
        let done = child.wait_with_output()?;
        if !done.status.success() {
            let said = String::from_utf8_lossy(&done.stderr);
            let said: Vec<&str> = said.lines().filter(|l| !l.trim_start().starts_with('^')).take(4).collect();
            return Err(Failed::Nft(said.join(" / ")));
        }
        self.commits = self.commits.wrapping_add(1);
        written.map_err(|e| Failed::Nft(format!("it did not read its rules: {e}")))
    }

    /// What nft says to a question, as JSON; `Err` holds what it says where it fails.
    fn said(&self, args: &[&str]) -> Result<Result<serde_json::Value, String>, Failed> {
        let done = Command::new(&self.nft).arg("-j").args(args).output();
        let done = done.map_err(|e| Failed::Nft(format!("{} cannot be started: {e}", self.nft.display())))?;
        if !done.status.success() {
            return Ok(Err(String::from_utf8_lossy(&done.stderr).into_owned()));
        }
        let said = serde_json::from_slice(&done.stdout);
        said.map(Ok).map_err(|e| Failed::Nft(format!("what it lists cannot be read: {e}")))
    }

    /// What nft lists of the table without elements, as JSON; none where there is no table.
    ///
    /// # Errors
    /// It cannot be listed.
    pub fn list(&self) -> Result<Option<serde_json::Value>, Failed> {
        match self.said(&["-t", "list", "table", "inet", TABLE])? {
            Ok(listed) => Ok(Some(listed)),
            Err(why) if why.contains("No such file") => Ok(None),
            Err(why) => Err(not_listed(&why)),
        }
    }

    /// Flow tables of anybody on some interfaces, each in words.
    ///
    /// # Errors
    /// They cannot be listed.
    pub fn bypassed(&self, interfaces: &[String]) -> Result<Vec<String>, Failed> {
        let listed = self.said(&["list", "flowtables"])?.map_err(|why| not_listed(&why))?;
        Ok(bypassed(&listed, interfaces))
    }
}

fn not_listed(why: &str) -> Failed {
    Failed::Nft(why.lines().next().unwrap_or("listing failed").to_owned())
}

/// Flow tables on any of some interfaces in what nft lists, in words.
fn bypassed(listed: &serde_json::Value, interfaces: &[String]) -> Vec<String> {
    let mut out = vec![];
    for table in listed["nftables"].as_array().into_iter().flatten().filter_map(|o| o.get("flowtable")) {
        let of = &table["dev"];
        // One is listed as a text, several as a list.
        let devices = of.as_str().into_iter().chain(of.as_array().into_iter().flatten().filter_map(|d| d.as_str()));
        for device in devices.filter(|d| interfaces.iter().any(|i| i == d)) {
            let text = |key: &str| table[key].as_str().unwrap_or("?");
            out.push(format!("flow table {} of table {} {}, on {device}", text("name"), text("family"), text("table")));
        }
    }
    out
}

/// The names of chains and sets in what nft lists.
pub fn there(listed: Option<&serde_json::Value>) -> There {
    let mut out = There::default();
    for object in listed.and_then(|l| l["nftables"].as_array()).into_iter().flatten() {
        let name = |kind: &str| object[kind]["name"].as_str().map(str::to_owned);
        out.chains.extend(name("chain"));
        out.sets.extend(name("set").or_else(|| name("map")));
    }
    out
}

/// What nft lists, without what the kernel numbers by itself: the same for the same rules.
pub fn shape(listed: Option<&serde_json::Value>) -> String {
    fn strip(value: &mut serde_json::Value) {
        match value {
            serde_json::Value::Object(all) => {
                for key in ["handle", "metainfo", "elem"] {
                    if key != "elem" || !all.get("elem").is_some_and(serde_json::Value::is_object) {
                        all.remove(key);
                    }
                }
                all.values_mut().for_each(strip);
            }
            serde_json::Value::Array(all) => all.iter_mut().for_each(strip),
            _ => {}
        }
    }
    let mut listed = listed.cloned().unwrap_or_default();
    // Quotas come and go with admissions, and count.
    if let Some(all) = listed["nftables"].as_array_mut() {
        all.retain(|o| o.get("quota").is_none());
    }
    strip(&mut listed);
    listed.to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn flow_tables_on_guarded_interfaces_are_found_whoever_made_them() {
        // As nft lists them (libnftables-json(5), FLOWTABLE OBJECT): one device as a text, several as a list.
        let listed = serde_json::json!({"nftables": [
            {"metainfo": {"json_schema_version": 1}},
            {"flowtable": {"family": "ip", "table": "fast", "name": "a", "handle": 1, "hook": "ingress", "prio": 0, "dev": "wan0"}},
            {"flowtable": {"family": "inet", "table": "fast", "name": "b", "handle": 2, "hook": "ingress", "prio": 0, "dev": ["wan0", "yard0"]}},
            {"flowtable": {"family": "ip6", "table": "own", "name": "c", "handle": 3, "hook": "ingress", "prio": 0, "dev": "yard0"}},
            {"flowtable": {"family": "ip6", "table": "own", "name": "d", "handle": 4, "hook": "ingress", "prio": 0}},
        ]});
        let of = |interfaces: &[&str]| bypassed(&listed, &interfaces.iter().map(|i| (*i).to_owned()).collect::<Vec<_>>());
        assert_eq!(of(&["yard0"]), ["flow table b of table inet fast, on yard0", "flow table c of table ip6 own, on yard0"]);
        assert_eq!(of(&["yard"]), Vec::<String>::new());
        assert_eq!(bypassed(&serde_json::Value::Null, &["yard0".to_owned()]), Vec::<String>::new());
    }
}
