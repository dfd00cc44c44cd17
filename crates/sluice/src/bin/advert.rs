//! `passeur-advert`: sends router advertisements that say where a machine's system asks how it stands (RFC 8910, option 37). The usual daemons do
//! not send that option, and two that advertise one router contradict one another (RFC 4861 6.2.7): so this one says all of it.
//!
//! It has CAP_NET_RAW alone, listens to nothing but solicitations, and answers with what it was started with.

use std::io;
use std::net::{Ipv6Addr, SocketAddrV6};
use std::os::fd::OwnedFd;
use std::process::ExitCode;
use std::time::{Duration, Instant};

use clap::Parser;
use passeur_protocols::ndp::{Advertisement, is_solicitation};
use passeur_sluice::plan::is_interface;
use rustix::net::sockopt::{self, Timeout};
use rustix::net::{
    AddressFamily, RecvFlags, SendFlags, SocketFlags, SocketType, bind, ipproto, netdevice, recv, sendto, socket_with,
};

/// All machines and all routers of a link (RFC 4291 2.7.1).
const MACHINES: Ipv6Addr = Ipv6Addr::new(0xff02, 0, 0, 0, 0, 0, 0, 1);
const ROUTERS: Ipv6Addr = Ipv6Addr::new(0xff02, 0, 0, 0, 0, 0, 0, 2);
/// How often it is said unasked; at first, and at least so long between two (RFC 4861 6.2.1, 10).
const EVERY: Duration = Duration::from_secs(200);
const FIRST: (u32, Duration) = (3, Duration::from_secs(8));
const APART: Duration = Duration::from_secs(3);

/// Advertises this router on one interface, with the captive portal's address (RFC 8910). Let no other daemon advertise there.
///
/// Give it CAP_NET_RAW and nothing else. docs/networks.md has the unit for systemd.
#[derive(Parser)]
#[command(version)]
struct Args {
    /// The interface
    #[arg(long, value_name = "NAME", value_parser = interface)]
    interface: String,
    /// Where a machine's system asks how it stands, such as https://yard.example/.passeur/captive
    #[arg(long, value_name = "URL", value_parser = https)]
    portal: String,
    /// A prefix of 64 bits for machines to make addresses of, such as fd70:70::
    #[arg(long = "prefix", value_name = "ADDRESS", required = true)]
    prefixes: Vec<Ipv6Addr>,
    /// A resolver
    #[arg(long = "resolver", value_name = "ADDRESS")]
    resolvers: Vec<Ipv6Addr>,
    /// For how many seconds this router is a default router
    #[arg(long, default_value = "1800", value_parser = clap::value_parser!(u16).range(600..=9000))]
    lifetime: u16,
    /// More than addresses is to be had by DHCPv6
    #[arg(long)]
    other: bool,
}

fn interface(text: &str) -> Result<String, String> {
    match is_interface(text) {
        true => Ok(text.to_owned()),
        false => Err("an interface has at most 15 letters, digits, dots and hyphens".to_owned()),
    }
}

/// RFC 8910 section 2 wants https; a name under localhost is for trying things out.
fn https(text: &str) -> Result<String, String> {
    let plain = text.bytes().all(|b| b.is_ascii_graphic());
    let tried_out =
        text.strip_prefix("http://").and_then(|rest| rest.split([':', '/']).next()).is_some_and(|h| h.ends_with(".localhost"));
    match plain && (text.starts_with("https://") || tried_out) {
        true => Ok(text.to_owned()),
        false => Err("an address that begins with https://".to_owned()),
    }
}

fn main() -> ExitCode {
    let args = Args::parse();
    match run(&args) {
        Ok(()) => ExitCode::SUCCESS,
        Err(e) => {
            eprintln!("{}: {e}", args.interface);
            ExitCode::FAILURE
        }
    }
}

fn bad(what: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, what.to_owned())
}

/// The address of the link alone, which an advertisement comes from (RFC 4861 4.2).
fn of_link(interface: &str) -> io::Result<Ipv6Addr> {
    let all = std::fs::read_to_string("/proc/net/if_inet6")?;
    let one = |line: &str| {
        let fields: Vec<&str> = line.split_whitespace().collect();
        let address = u128::from_str_radix(fields.first()?, 16).ok().map(Ipv6Addr::from)?;
        (fields.get(5) == Some(&interface) && address.is_unicast_link_local()).then_some(address)
    };
    all.lines().find_map(one).ok_or_else(|| bad("it has no address of the link alone (fe80::): is it up?"))
}

fn run(args: &Args) -> io::Result<()> {
    let socket = socket_with(AddressFamily::INET6, SocketType::RAW, SocketFlags::CLOEXEC, Some(ipproto::ICMPV6))?;
    let index = netdevice::name_to_index(&socket, &args.interface)?;
    let advertisement = Advertisement {
        lifetime_s: args.lifetime,
        other_by_dhcp: args.other,
        prefixes: args.prefixes.clone(),
        resolvers: args.resolvers.clone(),
        portal: args.portal.clone(),
    };
    let octets = advertisement.octets().map_err(io::Error::other)?;
    // Whoever reads one with less knows that it came over a router (RFC 4861 6.1.2).
    sockopt::set_ipv6_multicast_hops(&socket, 255)?;
    sockopt::set_ipv6_add_membership(&socket, &ROUTERS, index)?;
    bind(&socket, &SocketAddrV6::new(of_link(&args.interface)?, 0, 0, index))?;
    println!("advertising on {}", args.interface);
    speak(&socket, &octets, index)
}

/// Says it now and then, and when somebody asks; never more often than the standard lets a router.
fn speak(socket: &OwnedFd, octets: &[u8], index: u32) -> io::Result<()> {
    let to = SocketAddrV6::new(MACHINES, 0, 0, index);
    let (mut times, mut buffer) = (0, [0; 1_500]);
    loop {
        // An interface that is away for a moment comes back.
        if let Err(e) = sendto(socket, octets, SendFlags::empty(), &to) {
            eprintln!("an advertisement was not sent: {e}");
        }
        times += 1;
        let spoke = Instant::now();
        let next = if times <= FIRST.0 { FIRST.1 } else { EVERY };
        let mut asked = false;
        loop {
            let until = if asked { APART } else { next };
            let Some(left) = until.checked_sub(spoke.elapsed()).filter(|l| !l.is_zero()) else { break };
            sockopt::set_socket_timeout(socket, Timeout::Recv, Some(left))?;
            match recv(socket, &mut buffer, RecvFlags::empty()) {
                Ok((_, n)) => asked |= is_solicitation(&buffer[..n.min(buffer.len())]),
                Err(rustix::io::Errno::AGAIN | rustix::io::Errno::INTR) => {}
                Err(e) => return Err(e.into()),
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_it_is_started_with_is_looked_at() {
        for good in ["https://yard.example/.passeur/captive", "http://yard.havrelune.localhost:8640/.passeur/captive"] {
            assert!(https(good).is_ok(), "{good}");
        }
        for no in
            ["", "http://yard.example/", "http://localhost.example/", "https://a b/", "https://é.example/", "ftp://a.localhost/"]
        {
            assert!(https(no).is_err(), "{no}");
        }
    }
}
