//! What the roles of engineers stand on: the ways by which they come in, with everything that vouches for somebody there. A change of
//! any of it may make another person an engineer, so that a second engineer is asked about all of it alike.

use super::Site;
use super::salts_of;
use super::way::WayKind;
use std::collections::BTreeSet;

/// Parts of a site by name, as the roles of engineers stand on them.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RolesStandOn {
    /// Providers and ways in, also those whose people may come by a passkey.
    pub ways: BTreeSet<String>,
    pub directories: BTreeSet<String>,
    /// Whether a code by mail lets somebody in.
    pub mail: bool,
    /// Names of the secrets that any of these uses.
    pub secrets: BTreeSet<String>,
}

impl Site {
    /// What the roles of engineers stand on; nothing where nobody has any.
    pub fn roles_stand_on(&self) -> RolesStandOn {
        let mut out = RolesStandOn::default();
        let Some(access) = &self.engineers else { return out };
        out.directories.extend(access.directories.iter().cloned());
        let mut names: Vec<&str> = access.ways.iter().map(String::as_str).collect();
        while let Some(name) = names.pop() {
            if !out.ways.insert(name.to_owned()) {
                continue;
            }
            if let Some(provider) = self.provider(name) {
                out.secrets.extend(provider.secret().map(str::to_owned));
                if provider.saml().is_some() {
                    out.secrets.extend(self.saml.key.clone());
                }
            }
            match self.way(name).map(|w| &w.kind) {
                Some(WayKind::Passkey(p)) => names.extend(p.of.iter().map(String::as_str)),
                Some(WayKind::Password(p)) => drop(out.directories.insert(p.directory.clone())),
                Some(WayKind::MailedCode(_)) => out.mail = true,
                Some(WayKind::Ticket(t)) => out.secrets.extend(t.keytabs.iter().cloned()),
                // The console takes no guests, and nobody by RADIUS.
                Some(WayKind::Sponsor(_) | WayKind::Certificate(_) | WayKind::Gateway | WayKind::Machine(_)) | None => {}
            }
        }
        let directories = out.directories.iter().filter_map(|d| self.directory(d));
        out.secrets.extend(directories.filter_map(|d| d.secret.clone()));
        if out.mail {
            out.secrets.extend(self.mail.iter().filter_map(|m| Some(m.account.as_ref()?.1.clone())));
        }
        out.secrets.extend(salts_of(&access.mappings).map(str::to_owned));
        out
    }
}
