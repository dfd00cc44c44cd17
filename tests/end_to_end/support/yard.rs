//! A harbour whose node guards the yard, in a cage: real kernel, real sluice, machines on a link.

use std::net::SocketAddr;
use std::path::PathBuf;
use std::process::Child;
use std::sync::{Arc, Mutex};

use passeur_service::{NetworkConfig, ResolverConfig, TunnelConfig};
use passeur_sluice::client::Client;
use passeur_standins::cage::{self, ROUTER, TABLET, Yard};

use super::{Stack, Where, env, eventually};
use crate::networks::with_yard;

/// The command that loads rules; beside a file of the name `nft.fails` it breaks off in the middle.
const NFT: &str = "#!/bin/sh\nif [ -e \"$0.fails\" ]; then head -c 400 > /dev/null; echo 'Error: broken off' >&2; exit 1; fi\nexec /usr/sbin/nft \"$@\"\n";

/// The harbour, with the yard and the sluice.
pub struct Harbour {
    pub stack: Stack,
    pub yard: Yard,
    /// On which machine people sit.
    pub at: Arc<Mutex<&'static str>>,
    sluice: Option<Child>,
    pub socket: PathBuf,
    nft: PathBuf,
    /// Interfaces of the sluice beside the yard's.
    interfaces: Vec<String>,
    _folder: tempfile::TempDir,
}

/// Ports of the servers that tests use.
fn ports() -> Vec<u16> {
    let port = |url: String| url.rsplit(':').next().and_then(|p| p.split('/').next()).unwrap().parse().unwrap();
    ["PASSEUR_TEST_POSTGRES", "PASSEUR_TEST_LDAP", "PASSEUR_TEST_LOCKS"].map(|name| port(env(name))).to_vec()
}

impl Harbour {
    /// Whether this is the cage of a test; see [`cage::inside`].
    pub fn is_caged(test: &str) -> bool {
        cage::inside_reaching(test, &ports())
    }

    /// The demo's harbour with the yard; `change` changes the site file.
    pub async fn new(change: impl FnOnce(String) -> String) -> Harbour {
        Harbour::with_tunnels(vec![], |_| {}, change).await
    }

    /// The same with VPN servers at entrances of the node, whose interfaces are `tun-NAME`; `before` is done to the yard first.
    pub async fn with_tunnels(
        tunnels: Vec<TunnelConfig>,
        before: impl FnOnce(&Yard),
        change: impl FnOnce(String) -> String,
    ) -> Harbour {
        let yard = Yard::build();
        before(&yard);
        let interfaces: Vec<String> = tunnels.iter().map(|t| format!("tun-{}", t.entrance)).collect();
        let folder = tempfile::tempdir().unwrap();
        let socket = folder.path().join("sluice.sock");
        let nft = folder.path().join("nft");
        std::fs::write(&nft, NFT).unwrap();
        std::fs::set_permissions(&nft, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
        let sluice = Some(start(&socket, &nft, &interfaces));
        let leases = folder.path().join("leases");
        std::fs::write(&leases, format!("1796000000 {} 10.70.0.10 tablet-3 *\n", cage::written(&TABLET.hardware))).unwrap();
        // The router's resolver, and behind it one that says where names lead; questions that it does not know it refuses.
        let listen_names = ROUTER.map(|a| SocketAddr::new(a.parse().unwrap(), 53)).to_vec();
        let resolver = Some(ResolverConfig { listen: listen_names, from: "127.0.0.1:5353".parse().unwrap() });
        let network =
            NetworkConfig { sluice: socket.clone(), redirect: "[::]:8643".parse().ok(), leases: Some(leases), resolver };
        // A cage has ports of its own, and connections come from higher ones: the same port is free on every address.
        let listen: SocketAddr = format!("{}:8640", ROUTER[0]).parse().unwrap();
        let place = Where { listen, network: Some(network), tunnels, ..Where::default() };
        let tablet = |site: String| site.replace("00:1b:44:11:3a:b7", &cage::written(&TABLET.hardware));
        let stack = Stack::guarding(place, |site| change(tablet(with_yard(site)))).await;
        let at = Arc::new(Mutex::new("visitor"));
        yard.pass_on(stack.address.port(), stack.address, at.clone());
        let harbour = Harbour { stack, yard, at, sluice, socket, nft, interfaces, _folder: folder };
        harbour.guarded().await;
        harbour
    }

    /// Waits until the kernel holds the live edition.
    pub async fn guarded(&self) {
        let live = self.stack.get("/site").await["number"].as_i64().unwrap();
        let client = Client::new(&self.socket);
        eventually("the kernel holds the live edition", async || {
            client.state().is_ok_and(|s| s.edition == i32::try_from(live).ok())
        })
        .await;
    }

    /// How many machines are open in the kernel, as the sluice has it.
    pub fn open_in_kernel(&self) -> usize {
        Client::new(&self.socket).state().unwrap().admissions
    }

    /// People sit at this machine from now on.
    pub fn sit(&self, machine: &'static str) {
        *self.at.lock().unwrap() = machine;
    }

    /// Kills the sluice.
    pub fn kill_sluice(&mut self) {
        if let Some(mut child) = self.sluice.take() {
            child.kill().unwrap();
            child.wait().unwrap();
        }
    }

    /// Starts it anew.
    pub fn start_sluice(&mut self) {
        self.sluice = Some(start(&self.socket, &self.nft, &self.interfaces));
    }

    /// From now on the command that loads rules fails as soon as it has read half of them, or works again.
    pub fn nft_fails(&self, fails: bool) {
        let flag = self.nft.with_file_name("nft.fails");
        match fails {
            true => std::fs::write(&flag, "").unwrap(),
            false => std::fs::remove_file(&flag).unwrap(),
        }
    }

    /// Whether a machine gets an answer from a host.
    pub fn reaches(&self, machine: &str, host: &str, port: u16) -> bool {
        let to = SocketAddr::new(host.parse().unwrap(), port);
        self.yard.at(machine, move || std::net::TcpStream::connect_timeout(&to, std::time::Duration::from_secs(2)).is_ok())
    }
}

impl Drop for Harbour {
    fn drop(&mut self) {
        self.kill_sluice();
    }
}

fn start(socket: &std::path::Path, nft: &std::path::Path, interfaces: &[String]) -> Child {
    let mut command = std::process::Command::new(super::binary("passeur-sluice"));
    command.args(["--peer", "0", "--interface", "yard0", "--socket"]).arg(socket).arg("--nft").arg(nft);
    interfaces.iter().for_each(|i| {
        command.args(["--interface", i]);
    });
    command.spawn().unwrap()
}
