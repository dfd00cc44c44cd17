//! Names resolved for reqwest clients: as everything else is ([`passeur_live::resolve`]), and refusing what may not be fetched
//! ([`passeur_core::guard`]).

use passeur_core::guard::check_address;
use passeur_live::resolve::resolve;

/// The resolver of HTTP clients.
#[derive(Clone, Copy, Debug)]
pub struct Resolver;

impl reqwest::dns::Resolve for Resolver {
    fn resolve(&self, name: reqwest::dns::Name) -> reqwest::dns::Resolving {
        let host = name.as_str().to_owned();
        Box::pin(async move {
            let addresses = resolve(&host, 0).await?;
            for a in &addresses {
                check_address(&host, a.ip())?;
            }
            Ok(Box::new(addresses.into_iter()) as reqwest::dns::Addrs)
        })
    }
}
