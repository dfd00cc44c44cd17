//! Which addresses may be fetched. Every address that comes from an engineer or from a document (an issuer, an endpoint of
//! a discovery document) passes here, so that none of them can be used to reach what only this machine can.
//!
//! Private networks are allowed: an organisation's provider often stands in one. What is never a provider is refused:
//! link-local addresses (where clouds keep their metadata), multicast, the unspecified address, and this machine under
//! any name but `localhost`.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use crate::address::is_loopback;
use url::{Host, Url};

/// Metadata services outside the link-local networks.
const METADATA: [IpAddr; 2] =
    [IpAddr::V4(Ipv4Addr::new(100, 100, 100, 200)), IpAddr::V6(Ipv6Addr::new(0xfd00, 0x0ec2, 0, 0, 0, 0, 0, 0x254))];

/// Why an address is not fetched.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Forbidden {
    #[error("it is no https address (plain http is for localhost names only)")]
    Scheme,
    #[error("it names no host")]
    NoHost,
    #[error("it leads to a link-local address, where nothing but metadata lives")]
    LinkLocal,
    #[error("it leads to an address that is nobody's")]
    Nobody,
    #[error("it leads to this machine, which is reached by localhost names only")]
    ThisMachine,
}

/// Whether a resolved address of `host` may be connected to.
///
/// # Errors
/// Why not.
pub fn check_address(host: &str, address: IpAddr) -> Result<(), Forbidden> {
    check_peer(address)?;
    if address.to_canonical().is_loopback() && !is_loopback(host) {
        return Err(Forbidden::ThisMachine);
    }
    Ok(())
}

/// Whether anything of ours (an application, a directory, a mail server) may stand at an address: this machine and private networks
/// may, metadata services may not.
///
/// # Errors
/// Why not.
pub fn check_peer(address: IpAddr) -> Result<(), Forbidden> {
    let address = address.to_canonical();
    let link_local = match address {
        IpAddr::V4(v4) => v4.is_link_local(),
        IpAddr::V6(v6) => v6.is_unicast_link_local(),
    };
    if link_local || METADATA.contains(&address) {
        return Err(Forbidden::LinkLocal);
    }
    if address.is_unspecified() || address.is_multicast() || address == IpAddr::V4(Ipv4Addr::BROADCAST) {
        return Err(Forbidden::Nobody);
    }
    Ok(())
}

/// Whether an address may be asked for at all, before anything is resolved.
///
/// # Errors
/// Why not.
pub fn check_url(url: &Url) -> Result<(), Forbidden> {
    let host = url.host_str().ok_or(Forbidden::NoHost)?;
    match url.scheme() {
        "https" => {}
        "http" if is_loopback(host) => {}
        _ => return Err(Forbidden::Scheme),
    }
    check_host(url, host)
}

fn check_host(url: &Url, host: &str) -> Result<(), Forbidden> {
    match url.host() {
        Some(Host::Ipv4(v4)) => check_address(host, v4.into()),
        Some(Host::Ipv6(v6)) => check_address(host, v6.into()),
        _ => Ok(()),
    }
}

/// The same of what is signed, and so may travel in clear from anywhere: lists of certificates, and answers about them (RFC 5280 section 8).
///
/// # Errors
/// Why not.
pub fn check_signed_url(url: &Url) -> Result<(), Forbidden> {
    if url.scheme() != "http" {
        return Err(Forbidden::Scheme);
    }
    check_host(url, url.host_str().ok_or(Forbidden::NoHost)?)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_leads_to_metadata_or_to_this_machine_under_another_name() {
        for (url, want) in [
            ("https://sign-in.example/a", Ok(())),
            ("https://10.1.2.3/", Ok(())),
            ("http://bureau-pilotage.localhost:8641/", Ok(())),
            ("http://127.0.0.1:8641/", Ok(())),
            ("https://[::1]/", Ok(())),
            ("http://sign-in.example/", Err(Forbidden::Scheme)),
            ("ftp://sign-in.example/", Err(Forbidden::Scheme)),
            ("file:///etc/passwd", Err(Forbidden::NoHost)),
            ("https://169.254.169.254/latest/", Err(Forbidden::LinkLocal)),
            ("https://0xa9fea9fe/", Err(Forbidden::LinkLocal)),
            ("https://2852039166/", Err(Forbidden::LinkLocal)),
            ("https://[fe80::1]/", Err(Forbidden::LinkLocal)),
            ("https://[::ffff:169.254.169.254]/", Err(Forbidden::LinkLocal)),
            ("https://[fd00:ec2::254]/", Err(Forbidden::LinkLocal)),
            ("https://100.100.100.200/", Err(Forbidden::LinkLocal)),
            ("https://0.0.0.0/", Err(Forbidden::Nobody)),
            ("https://[::]/", Err(Forbidden::Nobody)),
            ("https://224.0.0.1/", Err(Forbidden::Nobody)),
        ] {
            assert_eq!(check_url(&Url::parse(url).unwrap()), want, "{url}");
        }
        for (url, want) in [
            ("http://pki.example/devices.crl", Ok(())),
            ("http://10.1.2.3/devices.crl", Ok(())),
            ("https://pki.example/devices.crl", Err(Forbidden::Scheme)),
            ("http://169.254.169.254/latest", Err(Forbidden::LinkLocal)),
            ("http://[::ffff:100.100.100.200]/", Err(Forbidden::LinkLocal)),
        ] {
            assert_eq!(check_signed_url(&Url::parse(url).unwrap()), want, "{url}");
        }
        // What is ours may stand on this machine and in private networks, under any name.
        for (address, want) in [
            ("127.0.0.1", Ok(())),
            ("::1", Ok(())),
            ("10.0.0.7", Ok(())),
            ("169.254.169.254", Err(Forbidden::LinkLocal)),
            ("::ffff:169.254.169.254", Err(Forbidden::LinkLocal)),
            ("fe80::1", Err(Forbidden::LinkLocal)),
            ("fd00:ec2::254", Err(Forbidden::LinkLocal)),
            ("100.100.100.200", Err(Forbidden::LinkLocal)),
            ("0.0.0.0", Err(Forbidden::Nobody)),
            ("255.255.255.255", Err(Forbidden::Nobody)),
        ] {
            assert_eq!(check_peer(address.parse().unwrap()), want, "{address}");
        }
        // A name that leads there is caught when it is resolved.
        for (host, address, want) in [
            ("rebound.example", "127.0.0.1", Err(Forbidden::ThisMachine)),
            ("rebound.example", "::1", Err(Forbidden::ThisMachine)),
            ("rebound.example", "169.254.169.254", Err(Forbidden::LinkLocal)),
            ("x.localhost", "127.0.0.1", Ok(())),
            ("sign-in.example", "192.168.3.4", Ok(())),
        ] {
            assert_eq!(check_address(host, address.parse().unwrap()), want, "{host} {address}");
        }
    }
}
