//! The realms that `./run test` made, and what a workstation does: a client of GSS-API of its own, by another road than the
//! product's.

use std::path::PathBuf;
use std::process::Command;

use libgssapi::context::{ClientCtx, CtxFlags};
use libgssapi::credential::{Cred, CredUsage};
use libgssapi::name::Name;
use libgssapi::oid::{GSS_MECH_KRB5, GSS_MECH_SPNEGO, GSS_NT_KRB5_PRINCIPAL, OidSet};

use super::database::shell;
use super::stack::env;

pub const REALM: &str = "HAVRELUNE.EXAMPLE";
/// The service of the sign-in host.
pub const PASS: &str = "HTTP/pass.havrelune.localhost@HAVRELUNE.EXAMPLE";

/// Where `./run test` keeps what it made.
pub fn folder() -> PathBuf {
    env("PASSEUR_TEST_KERBEROS").into()
}

/// The demo, where everybody at the gate for everybody comes by ticket, and otherwise by the pilotage office.
pub fn everybody_by_ticket(site: String) -> String {
    let route = "[[route]]\nname = \"harbour workstations\"\ngate = \"harbour-wide\"\nnetwork = \"10.20.1.0/24\"\n";
    assert!(site.contains(route) && site.contains("password = true\n"));
    site.replace(route, "[[route]]\nname = \"harbour workstations\"\ngate = \"harbour-wide\"\n").replace("password = true\n", "")
}

/// The keys of the sign-in host, as a secret holds them.
pub fn keytab() -> String {
    in_base64(&folder().join("keytabs/passeur.keytab"))
}

/// The keys of the account that acts for people, as a secret holds them.
pub fn gateway_keytab() -> String {
    in_base64(&folder().join("keytabs/gateway.keytab"))
}

/// A file in base64.
pub fn in_base64(path: &std::path::Path) -> String {
    use base64::Engine;
    base64::engine::general_purpose::STANDARD.encode(std::fs::read(path).unwrap())
}

/// Runs commands of kadmin in the harbour's realm.
pub fn kadmin(commands: &str) {
    let words = format!("kadmin_local $REALM <<'COMMANDS' 2>&1 | tee /dev/stderr | (! grep ' while ')\n{commands}\nCOMMANDS\n");
    assert!(shell(&folder(), &words), "{commands}");
}

/// Lets an account of ours act for people towards a service, as the directory team would.
pub fn may_delegate(account: &str, service: &str) {
    let words = format!(
        "may_delegate {account} {service} | ldapmodify -x -H {} -D cn=root,dc=havrelune,dc=example -y $STATE/slapd.root",
        env("PASSEUR_TEST_LDAP")
    );
    assert!(shell(&folder(), &words), "{account} to {service}");
}

/// A host of a test's own, whose service has keys in a file.
pub fn service(what: &str) -> (String, PathBuf) {
    let host = format!("{what}-{}.havrelune.localhost", &uuid::Uuid::new_v4().simple().to_string()[..8]);
    let keytab = folder().join(format!("keytabs/{host}.keytab"));
    kadmin(&format!("addprinc -randkey HTTP/{host}\nktadd -k {} HTTP/{host}", keytab.display()));
    (host, keytab)
}

/// Says where another realm's KDC is; removed with the guard.
pub struct OtherRealm(PathBuf);

impl OtherRealm {
    pub fn at(realm: &str, port: u16) -> OtherRealm {
        let path = folder().join(format!("krb5.d/{}", realm.replace('.', "-")));
        // Written whole before it can be read: other tests read the folder meanwhile.
        let made = path.with_extension("tmp");
        std::fs::write(&made, format!("[realms]\n  {realm} = {{\n    kdc = 127.0.0.1:{port}\n  }}\n")).unwrap();
        std::fs::rename(made, &path).unwrap();
        OtherRealm(path)
    }
}

impl Drop for OtherRealm {
    fn drop(&mut self) {
        let _ = std::fs::remove_file(&self.0);
    }
}

/// Somebody's workstation, signed in to a realm.
pub struct Workstation {
    cred: Cred,
}

/// A token, and the side that waits for its answer.
pub struct Shown {
    pub token: Vec<u8>,
    context: ClientCtx,
}

impl Shown {
    /// The value of the Authorization field.
    pub fn field(&self) -> String {
        negotiate(&self.token)
    }

    /// Whether an answer proves that the service is the true one.
    pub fn believes(&mut self, field: &str) -> bool {
        use base64::Engine;
        use libgssapi::context::SecurityContext;
        let Some(text) = field.strip_prefix("Negotiate ") else { return false };
        let Ok(token) = base64::engine::general_purpose::STANDARD.decode(text) else { return false };
        self.context.step(Some(&token), None).is_ok() && self.context.is_complete()
    }
}

/// A token as a browser sends it.
pub fn negotiate(token: &[u8]) -> String {
    use base64::Engine;
    format!("Negotiate {}", base64::engine::general_purpose::STANDARD.encode(token))
}

impl Workstation {
    /// Somebody signs in: `name@REALM`, and a password.
    pub fn of(principal: &str, password: &str) -> Workstation {
        let name = Name::new(principal.as_bytes(), Some(GSS_NT_KRB5_PRINCIPAL)).unwrap();
        let mut mechanisms = OidSet::new();
        mechanisms.add(GSS_MECH_SPNEGO).unwrap();
        mechanisms.add(GSS_MECH_KRB5).unwrap();
        let cred = Cred::acquire_with_password(Some(&name), password, None, CredUsage::Initiate, Some(&mechanisms));
        Workstation { cred: cred.unwrap_or_else(|e| panic!("{principal}: {e}")) }
    }

    /// One of the demo's people, in the harbour's realm.
    pub fn person(user: &str) -> Workstation {
        let (password, _) = super::client::secrets_of(user);
        Workstation::of(&format!("{user}@{REALM}"), &password)
    }

    /// A token for a service, as a browser makes it.
    pub fn token(&self, service: &str) -> Shown {
        self.bound(service, None)
    }

    /// The same, bound to a TLS channel.
    pub fn bound(&self, service: &str, bindings: Option<&[u8]>) -> Shown {
        self.with(service, bindings, CtxFlags::GSS_C_MUTUAL_FLAG)
    }

    fn with(&self, service: &str, bindings: Option<&[u8]>, flags: CtxFlags) -> Shown {
        let target = Name::new(service.as_bytes(), Some(GSS_NT_KRB5_PRINCIPAL)).unwrap();
        let mut context = ClientCtx::new(Some(self.cred.clone()), target, flags, Some(GSS_MECH_SPNEGO));
        let token = context.step(None, bindings).unwrap_or_else(|e| panic!("{service}: {e}")).unwrap().to_vec();
        Shown { token, context }
    }

    /// The same, with the person's own ticket sent along.
    pub fn along(&self, service: &str) -> Shown {
        self.with(service, None, CtxFlags::GSS_C_MUTUAL_FLAG | CtxFlags::GSS_C_DELEG_FLAG)
    }

    /// A token of Kerberos itself, without the negotiation around it.
    pub fn bare(&self, service: &str) -> Vec<u8> {
        let target = Name::new(service.as_bytes(), Some(GSS_NT_KRB5_PRINCIPAL)).unwrap();
        let mut context = ClientCtx::new(Some(self.cred.clone()), target, CtxFlags::empty(), Some(GSS_MECH_KRB5));
        context.step(None, None).unwrap().unwrap().to_vec()
    }
}

/// A cache with somebody's ticket, for programs; removed with the guard.
pub struct Cache(pub PathBuf);

impl Cache {
    pub fn of(principal: &str, password: &str, path: PathBuf) -> Cache {
        use std::io::Write;
        let mut kinit = Command::new("kinit");
        kinit.arg(principal).env("KRB5CCNAME", format!("FILE:{}", path.display()));
        let mut child = kinit.stdin(std::process::Stdio::piped()).stdout(std::process::Stdio::null()).spawn().unwrap();
        child.stdin.take().unwrap().write_all(format!("{password}\n").as_bytes()).unwrap();
        assert!(child.wait().unwrap().success(), "kinit {principal}");
        Cache(path)
    }

    /// One of the demo's people, at a place of the test's own.
    pub fn person(user: &str) -> Cache {
        let (password, _) = super::client::secrets_of(user);
        let path = std::env::temp_dir().join(format!("passeur-tickets-{}", uuid::Uuid::new_v4()));
        Cache::of(&format!("{user}@{REALM}"), &password, path)
    }
}

impl Drop for Cache {
    fn drop(&mut self) {
        let _ = std::fs::remove_file(&self.0);
    }
}
