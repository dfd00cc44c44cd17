//! Stored secrets, opened with this node's key ring.

use std::collections::HashMap;

use passeur_core::seal::Purpose;
use passeur_store::{SealedSecret, StoreError};

use crate::engine::Engine;

impl Engine {
    /// Every stored secret, opened, by name: the version in use, then the one that stands beside it.
    pub async fn secrets(&self) -> Result<HashMap<String, Vec<String>>, StoreError> {
        let mut out = HashMap::<String, Vec<String>>::new();
        for s in self.store.sealed_secrets().await? {
            if let Some(value) = self.open_secret(&s) {
                out.entry(s.name).or_default().push(value);
            }
        }
        Ok(out)
    }

    /// A secret, opened: a given version, or the one in use.
    pub async fn secret(&self, name: &str, version: Option<i32>) -> Result<Option<String>, StoreError> {
        match version {
            None => Ok(self.secrets().await?.remove(name).and_then(|all| all.into_iter().next())),
            Some(v) => Ok(self.store.sealed_version(name, v).await?.and_then(|s| self.open_secret(&s))),
        }
    }

    /// Every kept version of a secret, opened, with its number.
    pub async fn kept_secret(&self, name: &str) -> Result<Vec<(i32, String)>, StoreError> {
        let kept = self.store.kept_versions(name).await?;
        Ok(kept.iter().filter_map(|s| Some((s.version, self.open_secret(s)?))).collect())
    }

    pub(crate) fn open_secret(&self, s: &SealedSecret) -> Option<String> {
        let bound = secret_binding(&s.name, s.version);
        let opened = self.ring.open(Purpose::Secret, &bound, &s.sealed).ok().and_then(|b| String::from_utf8(b).ok());
        if opened.is_none() {
            tracing::error!(secret = s.name, version = s.version, "a secret cannot be opened with this key ring");
        }
        opened
    }
}

/// What a secret's seal is bound to: its name and version.
pub fn secret_binding(name: &str, version: i32) -> Vec<u8> {
    format!("{name}/{version}").into_bytes()
}
