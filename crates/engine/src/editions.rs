//! Editions in force: the live one is loaded, with connections to all that it names; one that nobody confirms goes back.

use std::collections::HashMap;
use std::sync::Arc;

use passeur_core::Moment;
use passeur_core::document::{Finding, Severity, compile};
use passeur_core::site::Site;
use passeur_links::kerberos::{Behalf, Tickets};
use passeur_links::ldap::DirectoryLink;
use passeur_links::smtp::Mailer;
use passeur_live::edition::Edition;
use passeur_store::{StoreError, Turned};

use crate::engine::Engine;
use crate::providers::own::OwnSaml;
use crate::providers::{self, ProviderLink};

/// Connections of the live edition.
#[derive(Default)]
pub(crate) struct Links {
    pub(crate) providers: HashMap<String, ProviderLink>,
    pub(crate) own: Arc<OwnSaml>,
    pub(crate) directories: HashMap<String, Arc<DirectoryLink>>,
    pub(crate) mailer: Option<Arc<Mailer>>,
    pub(crate) tickets: HashMap<String, Arc<Tickets>>,
    /// Accounts that act for people, by gate.
    pub(crate) behalf: HashMap<String, Arc<Behalf>>,
}

/// When the live edition is loaded.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Load {
    /// When it is newer than the one in use, or when a secret changed.
    WhereChanged,
    /// In any case: what it is made from was changed here.
    Anyway,
}

impl Engine {
    /// Keys of every way in by ticket. Tickets live as long as they are issued for: the key before the one in use goes on opening
    /// them until it is forgotten.
    async fn tickets_of(&self, site: &Site) -> Result<HashMap<String, Arc<Tickets>>, StoreError> {
        let mut out = HashMap::new();
        for (way, ticket) in site.ticket_ways() {
            let mut keytabs = vec![];
            for name in &ticket.keytabs {
                let opened = self.kept_secret(name).await?;
                match opened.is_empty() {
                    true => keytabs.push((name.as_str(), None)),
                    false => keytabs.extend(opened.into_iter().map(|(_, k)| (name.as_str(), Some(k)))),
                }
            }
            let keytabs = keytabs.iter().map(|(name, kept)| (*name, kept.as_deref()));
            out.insert(way.to_owned(), Arc::new(Tickets::new(self.kerberos.clone(), keytabs, ticket.hosts.clone())));
        }
        Ok(out)
    }

    /// Loads the live edition. A node that cannot load an edition keeps the last good one and says so.
    pub async fn load_edition(&self, load: Load) -> Result<(), StoreError> {
        let current = self.live.get().map_or(0, |e| e.number);
        let heads = self.store.secret_heads().await?;
        let turned = *self.secret_heads.lock().unwrap_or_else(|e| e.into_inner()) != heads;
        if load == Load::WhereChanged && !turned && self.store.live_edition_number().await? <= current {
            return Ok(());
        }
        let Some(row) = self.store.live_edition().await? else {
            return Ok(());
        };
        let waits = row.confirm_by.filter(|_| row.confirmed_by.is_none());
        *self.unconfirmed.lock().unwrap_or_else(|e| e.into_inner()) = waits.map(|by| (row.number, by));
        let document = row.document.clone();
        let compiled = tokio::task::spawn_blocking(move || compile(&document)).await;
        let (site, findings) = compiled.map_err(|e| StoreError::Query(e.to_string()))?;
        let Some(site) = site else {
            let first = findings.iter().find(|f| f.severity == Severity::Error).map(Finding::to_string).unwrap_or_default();
            let words =
                format!("edition {} cannot be loaded on node {}; edition {current} stays in use: {first}", row.number, self.node);
            let mut known = self.trouble.lock().unwrap_or_else(|e| e.into_inner());
            if known.as_ref() != Some(&words) {
                tracing::error!(edition = row.number, first, "the live edition cannot be loaded; the last good one stays in use");
            }
            *known = Some(words);
            return Ok(());
        };
        *self.trouble.lock().unwrap_or_else(|e| e.into_inner()) = None;
        let secrets = self.secrets().await?;
        let site = salted(site, &secrets);
        let own = self.own_saml_of(&site).await?;
        let tickets = self.tickets_of(&site).await?;
        let links = self.build_links(&site, &secrets, own, tickets);
        *self.secret_heads.lock().unwrap_or_else(|e| e.into_inner()) = heads;
        *self.links.write().unwrap_or_else(|e| e.into_inner()) = links;
        let authorities = site.authorities().collect::<Vec<_>>();
        self.store.adopt(&authorities).await?;
        let before = self.live.get();
        if row.number > current || before.as_ref().is_some_and(|e| e.number == row.number && e.site.salts != site.salts) {
            tracing::info!(edition = row.number, "edition in use");
            self.live.set(Edition::new(row.number, row.published_at, site));
        }
        Ok(())
    }

    /// What we are to SAML providers in a site. A provider may go on encrypting for a key that another has taken over from: every
    /// version opens until it is forgotten.
    pub async fn own_saml_of(&self, site: &Site) -> Result<OwnSaml, StoreError> {
        let kept: Vec<String> = match &site.saml.key {
            Some(name) => self.store.kept_versions(name).await?.iter().filter_map(|s| self.open_secret(s)).collect(),
            None => vec![],
        };
        Ok(OwnSaml::new(&site.saml, &kept))
    }

    /// What engineers must know of this node: an edition it cannot load.
    pub fn trouble(&self) -> Option<String> {
        self.trouble.lock().unwrap_or_else(|e| e.into_inner()).clone()
    }

    /// Until when the live edition must be confirmed.
    pub fn waits_for_confirmation(&self) -> Option<Moment> {
        self.unconfirmed.lock().unwrap_or_else(|e| e.into_inner()).map(|(_, by)| by)
    }

    /// Somebody confirmed an edition: it waits no more, and nothing else of it changed.
    pub fn confirmed(&self, number: i32) {
        self.unconfirmed.lock().unwrap_or_else(|e| e.into_inner()).take_if(|(n, _)| *n == number);
    }

    /// Puts the edition before the live one back when nobody confirmed it in time.
    pub async fn go_back(&self) -> Result<(), StoreError> {
        let Some((number, by)) = *self.unconfirmed.lock().unwrap_or_else(|e| e.into_inner()) else { return Ok(()) };
        if self.now() < by {
            // Confirmed on another node: nothing waits here any more either.
            let live = self.store.edition_heads(None, 1).await?;
            if live.iter().any(|e| e.number == number && e.confirmed_by.is_some()) {
                self.confirmed(number);
            }
            return Ok(());
        }
        let note = format!("edition {number} was not confirmed");
        let act = self.own_act("go back", serde_json::json!({"edition": number + 1, "unconfirmed": number}));
        let turned = match (self.live.get(), self.store.edition_before(number).await?) {
            (Some(live), Some(before)) => {
                let look = move || compile(&before.document).0.map(|site| turned(&live.site, &site, &[])).unwrap_or_default();
                tokio::task::spawn_blocking(look).await.map_err(|e| StoreError::Query(e.to_string()))?
            }
            _ => vec![],
        };
        if let Some(back) = self.store.go_back(number, &note, &turned, act).await? {
            tracing::warn!(edition = back, unconfirmed = number, "the edition before is put back: nobody confirmed in time");
        }
        // Whoever did it, or confirmed meanwhile: this node looks again.
        self.load_edition(Load::Anyway).await
    }

    fn build_links(
        &self,
        site: &Site,
        secrets: &HashMap<String, Vec<String>>,
        own: OwnSaml,
        tickets: HashMap<String, Arc<Tickets>>,
    ) -> Links {
        let own = Arc::new(own);
        let secret = |name: &str| secrets.get(name).cloned().unwrap_or_default();
        let providers = providers::all(site, &secret, &own, &self.clock, &|name| self.provider(name)).collect();
        let directories = site.directories.iter().map(|d| {
            let secrets = d.secret.as_deref().map(secret).unwrap_or_default();
            (d.name.clone(), DirectoryLink::new(d.clone(), secrets, self.clock.clone()))
        });
        let mailer = site.mail.as_ref().map(|m| {
            let password = m.account.as_ref().and_then(|(_, name)| secret(name).into_iter().next());
            Arc::new(Mailer::new(m.clone(), password))
        });
        let behalf = site.gates.iter().filter_map(|g| {
            let of = g.ticket()?.behalf.as_ref()?;
            let link = Behalf::new(self.kerberos.clone(), of.account.clone(), &secret(&of.keytab));
            Some((g.name.clone(), Arc::new(link)))
        });
        Links { providers, own, directories: directories.collect(), mailer, tickets, behalf: behalf.collect() }
    }
}

/// Providers and ways in whose name stands for another authority in a new edition; `moves` names those that only changed their address.
pub fn turned(live: &Site, next: &Site, moves: &[String]) -> Vec<Turned> {
    let changed = live.authorities().filter_map(|(provider, before)| {
        let after = next.authority(&provider).filter(|a| *a != before)?;
        Some(Turned { moves: moves.contains(&provider), provider, before, after })
    });
    changed.collect()
}

/// A site with the secrets that its mappings make identifiers with.
pub fn salted(site: Site, secrets: &HashMap<String, Vec<String>>) -> Site {
    site.with_salts(|name| secrets.get(name).and_then(|all| all.first().cloned()))
}
