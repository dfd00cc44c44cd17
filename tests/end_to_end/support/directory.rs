//! A directory that a test may change or break: slapd with the harbour's people, started as `./run` does it.

use std::path::PathBuf;

use super::database::shell;

pub struct Directory {
    folder: PathBuf,
    port: u16,
}

impl Directory {
    pub async fn alone() -> Directory {
        tokio::task::spawn_blocking(|| {
            // The port may be lost between here and the server's start; the next one is taken then.
            for _ in 0..5 {
                let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
                let folder = std::env::temp_dir().join(format!("passeur-slapd-{}-{port}", std::process::id()));
                let directory = Directory { folder, port };
                if shell(&directory.folder, &format!("prepare; start_slapd {port} \"\"")) {
                    return directory;
                }
            }
            panic!("slapd does not start");
        })
        .await
        .unwrap()
    }

    pub fn url(&self) -> String {
        format!("ldap://127.0.0.1:{}", self.port)
    }

    /// The password of the service account.
    pub fn password(&self) -> String {
        std::fs::read_to_string(self.folder.join("slapd.account")).unwrap()
    }

    /// Applies changes in LDIF (RFC 2849).
    pub fn modify(&self, ldif: &str) {
        let file = self.folder.join("change.ldif");
        std::fs::write(&file, ldif).unwrap();
        let words = format!(
            "ldapmodify -x -H {} -D cn=root,dc=havrelune,dc=example -y $STATE/slapd.root -f {}",
            self.url(),
            file.display()
        );
        assert!(shell(&self.folder, &words), "{ldif}");
    }

    pub fn stop(&self) {
        assert!(shell(&self.folder, "end slapd"));
    }
}

impl Drop for Directory {
    fn drop(&mut self) {
        shell(&self.folder, "end slapd; rm -rf $STATE");
    }
}
