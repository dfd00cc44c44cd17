//! Router advertisements against a kernel, in a cage: a machine makes its address of the prefix, and its system reads where to ask.

#![allow(clippy::unwrap_used)]

use std::net::{Ipv6Addr, SocketAddrV6};
use std::os::fd::OwnedFd;
use std::time::{Duration, Instant};

use passeur_protocols::ndp::portal_of;
use passeur_standins::cage::{self, Yard};
use rustix::net::sockopt::{self, Timeout};
use rustix::net::{AddressFamily, RecvFlags, SendFlags, SocketFlags, SocketType, ipproto, netdevice, recv, sendto, socket_with};

const PORTAL: &str = "https://yard.havrelune.example/.passeur/captive";

/// A socket of the visitor's machine that hears what routers say.
fn listener(yard: &Yard) -> (OwnedFd, u32) {
    yard.at("visitor", || {
        let socket = socket_with(AddressFamily::INET6, SocketType::RAW, SocketFlags::CLOEXEC, Some(ipproto::ICMPV6)).unwrap();
        sockopt::set_ipv6_multicast_hops(&socket, 255).unwrap();
        sockopt::set_socket_timeout(&socket, Timeout::Recv, Some(Duration::from_millis(200))).unwrap();
        let index = netdevice::name_to_index(&socket, "eth0").unwrap();
        (socket, index)
    })
}

/// What routers say until one names a portal.
fn portal(socket: &OwnedFd) -> Option<String> {
    let (began, mut buffer) = (Instant::now(), [0; 1_500]);
    while began.elapsed() < Duration::from_secs(20) {
        if let Ok((_, n)) = recv(socket, &mut buffer, RecvFlags::empty())
            && let Some(portal) = portal_of(&buffer[..n])
        {
            return Some(portal);
        }
    }
    None
}

#[test]
fn a_machine_makes_its_address_and_is_told_of_the_portal_without_any_dhcp() {
    if !cage::inside("a_machine_makes_its_address_and_is_told_of_the_portal_without_any_dhcp") {
        return;
    }
    let yard = Yard::build();
    // What it was given by hand goes; from now on it listens to routers.
    yard.on("visitor", "ip -6 addr flush dev eth0 scope global; ip -6 route flush default; sysctl -qw net.ipv6.conf.eth0.accept_ra=2 net.ipv6.conf.eth0.forwarding=0");
    let (socket, index) = listener(&yard);
    let line = format!(
        "{} --interface yard0 --portal {PORTAL} --prefix fd70:70:: --resolver fd70:70::1 --other",
        env!("CARGO_BIN_EXE_passeur-advert")
    );
    let mut sender = yard.start(None, &line);
    assert_eq!(portal(&socket).as_deref(), Some(PORTAL));
    let began = Instant::now();
    let addresses = || yard.on("visitor", "ip -6 addr show dev eth0 scope global; ip -6 route show default").1;
    while !(addresses().contains("inet6 fd70:70::") && addresses().contains("default via fe80::")) {
        assert!(began.elapsed() < Duration::from_secs(10), "{}", addresses());
    }
    assert!(addresses().contains("dynamic"), "{}", addresses());
    // Whoever asks is answered once, however often they ask meanwhile.
    let all = SocketAddrV6::new(Ipv6Addr::new(0xff02, 0, 0, 0, 0, 0, 0, 2), 0, 0, index);
    let began = Instant::now();
    let mut heard = 0;
    let mut buffer = [0; 1_500];
    let mut questions = 0;
    while heard == 0 {
        assert!(began.elapsed() < Duration::from_secs(15), "nobody answers");
        questions += 1;
        let _ = sendto(&socket, &[133, 0, 0, 0, 0, 0, 0, 0], SendFlags::empty(), &all);
        while let Ok((_, n)) = recv(&socket, &mut buffer, RecvFlags::DONTWAIT) {
            heard += usize::from(portal_of(&buffer[..n]).is_some());
        }
    }
    assert!(heard <= 2 && questions > heard, "{heard} answers to {questions} questions");
    sender.kill().unwrap();
    sender.wait().unwrap();
    // An interface that is not there, or an address that is none, is told in one line.
    for (wrong, words) in
        [("--interface nothing0", "No such device"), ("--interface yard0 --portal http://yard.example/", "https://")]
    {
        let portal = if wrong.contains("--portal") { String::new() } else { format!("--portal {PORTAL}") };
        let line = format!("{} {wrong} {portal} --prefix fd70:70::", env!("CARGO_BIN_EXE_passeur-advert"));
        let (worked, said) = yard.on("visitor", &line);
        assert!(!worked && said.contains(words), "{said}");
    }
}
