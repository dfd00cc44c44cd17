//! Which hardware address an address on a link belongs to: what the kernel says, kept as it changes. Reading needs no privilege.

use std::collections::HashMap;
use std::io;
use std::net::IpAddr;
use std::os::fd::OwnedFd;
use std::sync::{Arc, Mutex, MutexGuard};

use passeur_protocols::netlink::addresses::{self, Own};
use passeur_protocols::netlink::neighbours::{GROUPS, Heard, Neighbour, ask, read};
use passeur_protocols::netlink::{Malformed, Told};
use rustix::net::netlink::SocketAddrNetlink;
use rustix::net::{AddressFamily, RecvFlags, SendFlags, SocketFlags, SocketType, bind, recv, send, socket_with, sockopt};
use tokio::sync::mpsc::Sender;

/// The most neighbours that are kept; those of a link that is flooded with made-up ones are asked for one by one.
const KEPT_MAX: usize = 100_000;

/// A hardware address on an interface.
pub type At = (u32, [u8; 6]);

/// Something changed on a link.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// An address answers from a hardware address, where none or another was known.
    Answers { address: IpAddr, interface: u32, hardware: [u8; 6], before: Option<[u8; 6]> },
    /// An address is known no more.
    Gone { address: IpAddr, interface: u32 },
}

/// Hardware addresses, by interface and address.
type Known = HashMap<(u32, IpAddr), [u8; 6]>;

/// The neighbours of this machine. Cheap to clone.
#[derive(Clone, Default)]
pub struct Neighbours(Arc<Mutex<Known>>);

fn open(groups: u32, flags: SocketFlags) -> io::Result<OwnedFd> {
    let socket = socket_with(AddressFamily::NETLINK, SocketType::RAW, SocketFlags::CLOEXEC | flags, None)?;
    let _ = sockopt::set_socket_recv_buffer_size(&socket, 4 << 20);
    bind(&socket, &SocketAddrNetlink::new(0, groups))?;
    Ok(socket)
}

/// The number of an interface, while it is there.
pub fn interface_number(name: &str) -> Option<u32> {
    // Not by /sys, which may be that of another network namespace.
    let socket = socket_with(AddressFamily::INET, SocketType::DGRAM, SocketFlags::CLOEXEC, None).ok()?;
    rustix::net::netdevice::name_to_index(&socket, name).ok()
}

impl Neighbours {
    fn known(&self) -> MutexGuard<'_, Known> {
        self.0.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// The hardware address of an address on an interface. What is not known is asked of the kernel.
    pub fn hardware(&self, interface: u32, address: IpAddr) -> Option<[u8; 6]> {
        if let Some(known) = self.known().get(&(interface, address)) {
            return Some(*known);
        }
        let all = dump().inspect_err(|e| tracing::warn!(error = %e, "neighbours cannot be read")).ok()?;
        let is = |heard: &Heard| matches!(heard, Heard::Neighbour(n) if (n.interface, n.address) == (interface, address));
        let found = all.into_iter().find(is)?;
        // Only what was asked for: of all else whoever watches is told when it changes.
        match self.take(found) {
            Some(Change::Answers { hardware, .. }) => Some(hardware),
            _ => self.known().get(&(interface, address)).copied(),
        }
    }

    /// The addresses of a hardware address on an interface.
    pub fn addresses(&self, at: At) -> Vec<IpAddr> {
        let mut all: Vec<IpAddr> = self.known().iter().filter(|((i, _), h)| (*i, **h) == at).map(|((_, a), _)| *a).collect();
        all.sort_unstable();
        all
    }

    /// Other interfaces of `among` on which a hardware address is.
    pub fn elsewhere(&self, at: At, among: &[u32]) -> Option<u32> {
        self.known().iter().find(|((i, _), h)| **h == at.1 && *i != at.0 && among.contains(i)).map(|((i, _), _)| *i)
    }

    fn take(&self, heard: Heard) -> Option<Change> {
        let mut known = self.known();
        match heard {
            Heard::Neighbour(Neighbour { interface, address, hardware: Some(hardware) }) => {
                if known.len() >= KEPT_MAX && !known.contains_key(&(interface, address)) {
                    return None;
                }
                let before = known.insert((interface, address), hardware);
                (before != Some(hardware)).then_some(Change::Answers { address, interface, hardware, before })
            }
            Heard::Gone(n) => {
                known.remove(&(n.interface, n.address)).map(|_| Change::Gone { address: n.address, interface: n.interface })
            }
            // It does not answer just now; the entry goes when the kernel forgets it.
            Heard::Neighbour(_) => None,
        }
    }

    /// Watches on a thread of its own, for as long as anybody takes what it tells.
    ///
    /// # Errors
    /// The system gives no socket or no thread.
    pub fn watch(&self, tell: Sender<Change>) -> io::Result<()> {
        let socket = open(GROUPS, SocketFlags::empty())?;
        for heard in dump()? {
            self.take(heard);
        }
        let own = self.clone();
        std::thread::Builder::new().name("neighbours".to_owned()).spawn(move || {
            let mut buffer = vec![0u8; 64 << 10];
            loop {
                let heard = match recv(&socket, &mut buffer[..], RecvFlags::empty()) {
                    Ok((_, n)) => {
                        let told = read(&buffer[..n.min(buffer.len())]).unwrap_or_default();
                        told.into_iter().filter_map(|t| if let Told::One(heard) = t { Some(heard) } else { None }).collect()
                    }
                    // Some were lost: everything is read again.
                    Err(rustix::io::Errno::NOBUFS) => dump().unwrap_or_default(),
                    Err(rustix::io::Errno::INTR) => vec![],
                    Err(e) => {
                        tracing::error!(error = %e, "neighbours are seen no more");
                        return;
                    }
                };
                for change in heard.into_iter().filter_map(|h| own.take(h)) {
                    if tell.blocking_send(change).is_err() {
                        return;
                    }
                }
            }
        })?;
        Ok(())
    }
}

/// What understands the kernel's answers.
type Read<T> = fn(&[u8]) -> Result<Vec<Told<T>>, Malformed>;

/// Asks for everything of a kind.
fn ask_all<T>(question: &[u8], read: Read<T>) -> io::Result<Vec<T>> {
    let socket = open(0, SocketFlags::empty())?;
    sockopt::set_socket_timeout(&socket, sockopt::Timeout::Recv, Some(std::time::Duration::from_secs(2)))?;
    send(&socket, question, SendFlags::empty())?;
    let (mut out, mut buffer) = (vec![], vec![0u8; 256 << 10]);
    loop {
        let (_, n) = recv(&socket, &mut buffer[..], RecvFlags::empty())?;
        for told in read(&buffer[..n.min(buffer.len())]).map_err(io::Error::other)? {
            match told {
                Told::One(one) => out.push(one),
                Told::End => return Ok(out),
                Told::Refused(errno) => return Err(io::Error::from_raw_os_error(errno)),
            }
        }
    }
}

/// Every neighbour of both families.
fn dump() -> io::Result<Vec<Heard>> {
    ask_all(&ask(1), read)
}

/// The addresses of this machine, with their interfaces.
///
/// # Errors
/// The kernel does not say.
pub fn own_addresses() -> io::Result<Vec<Own>> {
    ask_all(&addresses::ask(1), addresses::read)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_change_is_told_once_and_with_what_was_before() {
        let all = Neighbours::default();
        let (address, a, b) = (IpAddr::from([10, 70, 0, 9]), [2, 0, 0, 0, 0, 1], [2, 0, 0, 0, 0, 2]);
        let answers = |hardware| Heard::Neighbour(Neighbour { interface: 7, address, hardware: Some(hardware) });
        let told = |hardware, before| Some(Change::Answers { address, interface: 7, hardware, before });
        assert_eq!(all.take(answers(a)), told(a, None));
        assert_eq!(all.take(answers(a)), None);
        assert_eq!(all.take(answers(b)), told(b, Some(a)));
        assert_eq!(all.addresses((7, b)), [address]);
        assert_eq!(all.addresses((7, a)), Vec::<IpAddr>::new());
        assert_eq!(all.elsewhere((8, b), &[7, 8]), Some(7));
        assert_eq!(all.elsewhere((8, b), &[8]), None);
        let gone = Heard::Gone(Neighbour { interface: 7, address, hardware: None });
        assert_eq!(all.take(gone.clone()), Some(Change::Gone { address, interface: 7 }));
        assert_eq!(all.take(gone), None);
    }
}
