//! The pilots' tunnel for real: an OpenVPN server without any privilege on the router, and a client on a machine at sea.

use std::path::{Path, PathBuf};
use std::process::Child;

use passeur_service::TunnelConfig;
use passeur_standins::cage::{Yard, run};
use rcgen::{BasicConstraints, CertificateParams, DnType, ExtendedKeyUsagePurpose, IsCa, Issuer, KeyPair, KeyUsagePurpose};

use super::{Harbour, eventually};

/// The machine at sea, and the router's address there.
const PILOT: &str = "198.51.100.7";
const ROUTER_AT_SEA: &str = "198.51.100.1";

const TUNNEL: &str = include_str!("../../../demo/tunnel.toml");

/// The harbour with the pilots' tunnel.
pub struct Sea {
    pub harbour: Harbour,
    pub folder: tempfile::TempDir,
    servers: Vec<(String, Child)>,
}

/// A client that runs.
pub struct Connecting {
    child: Child,
    log: PathBuf,
    server_log: PathBuf,
}

/// The wires: a machine at sea, which reaches nothing but the router.
fn wires(_: &Yard) {
    run(&[
        "ip netns add pilot && ip -n pilot link set lo up",
        "ip link add name sea0 type veth peer name eth0 netns pilot && ip link set sea0 up && ip -n pilot link set eth0 up",
        &format!("ip addr add {ROUTER_AT_SEA}/24 dev sea0 && ip -n pilot addr add {PILOT}/24 dev eth0"),
        // The sign-in host, as a browser there reaches it.
        &format!("ip -n pilot route add 10.70.0.1 via {ROUTER_AT_SEA}"),
        // Nothing else is passed on from there: what reaches the harbour comes by the tunnel.
        "nft 'table inet sea { chain forward { type filter hook forward priority -10; iifname \"sea0\" drop; }; }'",
    ]
    .join(" && "));
    // The way back into tunnels.
    run("ip -n internet route add 10.71.0.0/24 via 10.88.0.1 && ip -n internet -6 route add fd71:71::/64 via fd88::1");
}

/// A certificate authority, with certificates for a server and for everybody's client.
fn certificates(folder: &Path) {
    let mut ca = CertificateParams::new(vec![]).unwrap();
    ca.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    ca.distinguished_name.push(DnType::CommonName, "tunnel test authority");
    ca.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
    let ca_key = KeyPair::generate().unwrap();
    let ca_pem = ca.self_signed(&ca_key).unwrap().pem();
    let issuer = Issuer::new(ca, ca_key);
    std::fs::write(folder.join("ca.pem"), ca_pem).unwrap();
    for (name, usage) in [("server", ExtendedKeyUsagePurpose::ServerAuth), ("client", ExtendedKeyUsagePurpose::ClientAuth)] {
        let mut of = CertificateParams::new(vec![]).unwrap();
        of.distinguished_name.push(DnType::CommonName, name);
        of.extended_key_usages = vec![usage];
        of.key_usages = vec![KeyUsagePurpose::DigitalSignature];
        let key = KeyPair::generate().unwrap();
        std::fs::write(folder.join(format!("{name}.pem")), of.signed_by(&key, &issuer).unwrap().pem()).unwrap();
        std::fs::write(folder.join(format!("{name}.key")), key.serialize_pem()).unwrap();
    }
}

impl Sea {
    /// Whether this is the cage of a test.
    pub fn is_caged(test: &str) -> bool {
        Harbour::is_caged(test)
    }

    /// The harbour with the tunnel and its server; `change` changes the site file.
    pub async fn new(change: impl FnOnce(String) -> String) -> Sea {
        let mut sea = Sea::without_servers(change).await;
        sea.start_server("pilots", 1194, "10.71.0", Some("fd71:71::"));
        sea
    }

    /// The management socket of an entrance.
    pub fn management(&self, name: &str) -> PathBuf {
        self.folder.path().join(format!("m-{name}/{name}.sock"))
    }

    /// The same, with nobody at the management sockets.
    pub async fn without_servers(change: impl FnOnce(String) -> String) -> Sea {
        let folder = tempfile::tempdir().unwrap();
        run(&format!("chmod 755 {}", folder.path().display()));
        certificates(folder.path());
        let configs: Vec<TunnelConfig> = ["pilots", "trial"]
            .iter()
            .map(|n| TunnelConfig { entrance: (*n).to_owned(), management: folder.path().join(format!("m-{n}/{n}.sock")) })
            .collect();
        let with_tunnel = |site: String| {
            // The entrance of the trial is called by its interface, as every entrance of these tests.
            let own = TUNNEL.replace("pilots-trial", "trial");
            change(format!("{site}\n{}", super::on_port(&site, &own)))
        };
        let harbour = Harbour::with_tunnels(configs, wires, with_tunnel).await;
        Sea { harbour, folder, servers: vec![] }
    }

    /// Starts the server of an entrance, as a user that may do nothing: its device is made beforehand.
    pub fn start_server(&mut self, name: &str, port: u16, net: &str, net6: Option<&str>) {
        self.start_server_with(name, port, net, net6, "");
    }

    /// The same, with more lines of configuration.
    pub fn start_server_with(&mut self, name: &str, port: u16, net: &str, net6: Option<&str>, more: &str) {
        let dir = self.folder.path().display().to_string();
        let device = format!("tun-{name}");
        let mut lines = vec![
            format!("ip link show {device} > /dev/null 2>&1 || ip tuntap add dev {device} mode tun user nobody"),
            format!("ip addr replace {net}.1/24 dev {device} && ip link set {device} up"),
            format!(
                "mkdir -p {dir}/m-{name} && chown nobody {dir}/m-{name} && chmod 700 {dir}/m-{name} && rm -f {dir}/m-{name}/*"
            ),
            format!("[ -e {dir}/tun ] || mknod -m 666 {dir}/tun c 10 200"),
            format!("chmod 644 {dir}/*.key && touch {dir}/{name}.log && chown nobody {dir}/{name}.log"),
        ];
        let mut config = format!(
            "dev {device}\ndev-type tun\ndev-node {dir}/tun\nproto udp\nlocal {ROUTER_AT_SEA}\nport {port}\ntopology subnet\n\
             server {net}.0 255.255.255.0{}\nca ca.pem\ncert server.pem\nkey server.key\ndh none\nverify-client-cert require\n\
             management m-{name}/{name}.sock unix\nmanagement-hold\nmanagement-client-auth\nauth-user-pass-optional\nduplicate-cn\n\
             auth-gen-token 0 external-auth\nkeepalive 2 20\nhand-window 120\nifconfig-noexec\nverb 3\nlog-append {name}.log\n",
            // The server takes no second network beside it.
            if net6.is_none() { " nopool" } else { "" },
        );
        if let Some(net6) = net6 {
            lines.push(format!("ip addr replace {net6}1/64 dev {device} nodad"));
            config += &format!("server-ipv6 {net6}/64\n");
        }
        config += more;
        std::fs::write(self.folder.path().join(format!("{name}.conf")), config).unwrap();
        run(&lines.join(" && "));
        let unprivileged =
            "setpriv --reuid nobody --regid nogroup --clear-groups --inh-caps -all --bounding-set -all --no-new-privs";
        let server = self.harbour.yard.start(None, &format!("{unprivileged} openvpn --cd {dir} --config {name}.conf"));
        self.servers.push((name.to_owned(), server));
    }

    /// Lets everybody into the folder of a server's management socket.
    pub fn open_folder(&self, name: &str) {
        run(&format!("chmod 755 {}/m-{name}", self.folder.path().display()));
    }

    /// Kills a server.
    pub fn kill_server(&mut self, name: &str) {
        for (of, server) in &mut self.servers {
            if of == name {
                let _ = server.kill();
                let _ = server.wait();
            }
        }
        self.servers.retain(|(of, _)| of != name);
    }

    /// Starts a client at sea, with more lines of configuration.
    pub fn connect(&self, name: &str, port: u16, more: &str) -> Connecting {
        let dir = self.folder.path().display().to_string();
        let log = self.folder.path().join(format!("client-{name}.log"));
        let config = format!(
            "client\ndev tun-{name}\ndev-type tun\nproto udp\nremote {ROUTER_AT_SEA} {port}\nnobind\nca ca.pem\ncert client.pem\n\
             key client.key\nremote-cert-tls server\npush-peer-info\nconnect-retry 1 2\nconnect-timeout 20\nverb 3\nlog client-{name}.log\n{more}\n"
        );
        std::fs::write(self.folder.path().join(format!("client-{name}.conf")), config).unwrap();
        let _ = std::fs::remove_file(&log);
        let child = self.harbour.yard.start(Some("pilot"), &format!("openvpn --cd {dir} --config client-{name}.conf"));
        let server_log = self.folder.path().join(if port == 1194 { "pilots.log" } else { "trial.log" });
        Connecting { child, log, server_log }
    }

    /// Starts a client by a whole configuration, as a person is handed one.
    pub fn connect_with(&self, name: &str, configuration: &str) -> Connecting {
        let dir = self.folder.path().display().to_string();
        let log = self.folder.path().join(format!("client-{name}.log"));
        let _ = std::fs::remove_file(&log);
        self.write(&format!("client-{name}.conf"), &format!("{configuration}connect-retry 1 2\nverb 3\nlog client-{name}.log\n"));
        let child = self.harbour.yard.start(Some("pilot"), &format!("openvpn --cd {dir} --config client-{name}.conf"));
        Connecting { child, log, server_log: self.folder.path().join("pilots.log") }
    }

    /// Writes a file that server or client reads.
    pub fn write(&self, name: &str, text: &str) {
        std::fs::write(self.folder.path().join(name), text).unwrap();
    }

    /// Starts a client that opens a browser.
    pub fn connect_by_browser(&self, name: &str) -> Connecting {
        self.connect(name, 1194, "setenv IV_SSO webauth,crtext")
    }

    /// Lines of a client's configuration whose person types these.
    pub fn typed(&self, name: &str, user: &str, password: &str) -> String {
        let file = self.folder.path().join(format!("{name}.typed"));
        std::fs::write(&file, format!("{user}\n{password}\n")).unwrap();
        format!("auth-user-pass {}\nauth-retry none", file.display())
    }
}

impl Drop for Sea {
    fn drop(&mut self) {
        for (_, server) in &mut self.servers {
            let _ = server.kill();
            let _ = server.wait();
        }
    }
}

impl Connecting {
    /// What it logged.
    pub fn said(&self) -> String {
        std::fs::read_to_string(&self.log).unwrap_or_default()
    }

    /// Waits until it logged something, so many times.
    pub async fn says(&self, what: &str, times: usize) {
        let heard = eventually(what, async || self.said().matches(what).count() >= times);
        if tokio::time::timeout(std::time::Duration::from_secs(40), heard).await.is_err() {
            let server = std::fs::read_to_string(&self.server_log).unwrap_or_default();
            panic!("the client never says {what:?}\n{}\nand the server:\n{server}", self.said());
        }
    }

    /// The latest address that it was told to open.
    pub async fn address(&self, times: usize) -> String {
        self.says("WEB_AUTH::", times).await;
        let said = self.said();
        said.rsplit("WEB_AUTH::").next().and_then(|r| r.split('\'').next()).unwrap().to_owned()
    }

    /// Whether it has ended.
    pub fn is_over(&mut self) -> bool {
        self.child.try_wait().unwrap().is_some()
    }

    /// Has it connect again, as it does when its network changes.
    pub fn reconnect(&self) {
        run(&format!("kill -USR1 {}", self.child.id()));
    }
}

impl Drop for Connecting {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
