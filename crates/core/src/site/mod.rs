//! An edition: one document, compiled as a whole into one immutable [`Site`], with every mistake listed at once.
//!
//! Here stands what an edition says, as types, each part in a module of its own. [`crate::document`] makes a [`Site`] of the text; one that
//! exists is sound: every name it refers to was resolved. What is done with it is elsewhere ([`crate::decide`], [`crate::compare`]).

mod access;
mod attribute_id;
mod callers;
mod comparison;
pub(crate) mod condition;
mod delivery;
mod device;
mod directory;
mod expectation;
mod factor;
mod gate;
mod mapping;
mod network;
mod octets;
mod open_network;
mod place;
mod provider;
mod radius;
pub(crate) mod reach;
pub(crate) mod response;
mod roles_stand_on;
mod route;
mod rule;
mod section;
mod sentence;
mod ticket;
mod time;
mod tunnel;
mod upstream;
mod upstream_ticket;
mod way;
mod zone;

pub use access::{Access, Dead, Disabled, GroupsFrom};
pub use attribute_id::AttributeId;
pub use callers::{ACCESS_TOKEN, Callers, PERSONAL_TOKEN};
pub use comparison::{Compared, Order, Pattern, Test, Version};
pub use condition::{Condition, Named, Truth};
pub use delivery::{Delivery, Encoding, Fit, HeaderRule, Missing, OnSeparator, Piece, ValueOf};
pub use device::{DeviceCertificate, DeviceCheck, Unreachable};
pub use directory::{Asking, Directory, DirectorySecurity, FindGroups, GroupSearch, Nested, Primary, Referrals};
pub use expectation::{Described, Expectation};
pub use factor::{OUTSIDE_PROVES, OutsideFactor, OwnFactors, PASSKEY_PROVES, RECOVERY_PROVES, TOTP_PROVES};
pub use gate::{Gate, GateKind, HandOver, Web};
pub(crate) use mapping::Side;
pub use mapping::{Affix, Case, Choice, Mapping, Salts, Source, Transform, Without};
pub use network::{Limits, Network};
pub use octets::Octets;
pub use open_network::{HardwareAddress, Machine, OpenNetwork, TermsOfUse, WhenFull};
pub use place::Place;
pub use provider::{
    ByHand, ClientAuthentication, ENTITY_PATH, OidcClient, Provider, ProviderGroups, SamlBinding, SamlParty, SamlSource,
    SamlTrust, Speaks, check_endpoint, check_issuer,
};
pub use radius::{
    RADIUS_ATTRIBUTES, RADIUS_FILTER_OCTETS, RADIUS_FILTERS_MAX, RadiusAsks, RadiusAttribute, RadiusCertificate, RadiusClient,
    RadiusPlace, RadiusProof, RadiusValue,
};
pub use reach::{Covers, Destination, HostPattern, Reach, Service, Transport, Wanted};
pub use response::{CookieFlags, ResponseEdits, SameSite};
pub use roles_stand_on::RolesStandOn;
pub use route::{ByName, Holds, Route};
pub(crate) use rule::{BITS, OCTETS};
pub use rule::{Effect, Grants, RolesFrom, Rule, Rules};
pub use section::{PathAccess, Section, SectionAccess, path_access};
pub use sentence::{octets_in_words, rate_in_words};
pub use ticket::{Nobody, OfRealm, Realm, RealmUser, TicketWay, name_and_realm, realm_of};
pub use time::{Dates, Hours};
pub use upstream::{Health, Upstream, UpstreamTls, Upstreams};
pub use upstream_ticket::{Behalf, By, UpstreamTicket};
pub use way::{
    CertificateWay, MailSecurity, MailServer, MailedCodeWay, PasskeyWay, PasswordOf, PasswordWay, SponsorWay, TRIES_MINUTES, Way,
    WayKind, plain_mail,
};

pub use tunnel::{Browser, Profiles, PushedOption, Server, Tunnel};
pub use zone::{FirstReach, Machines, Zone};

use std::net::IpAddr;
use std::sync::Arc;

use crate::address::PublicAddress;
use crate::forwarded::Proxies;
use crate::person::{PersonKey, WayIn, authority};
use crate::session::Lifetimes;

/// One compiled edition.
#[derive(Clone, Debug)]
pub struct Site {
    pub name: String,
    /// The sign-in host's public address.
    pub address: PublicAddress,
    pub lifetimes: Lifetimes,
    /// Proxies in front of us, which are believed about where a request came from.
    pub proxies: Option<Proxies>,
    /// How many days crossings are kept.
    pub keep_days: u16,
    pub providers: Vec<Provider>,
    /// Ways in of our own.
    pub ways: Vec<Way>,
    /// Checks of the devices on which people sign in.
    pub device_checks: Vec<Arc<DeviceCheck>>,
    /// Second factors of our own, where there are any.
    pub factors: Option<OwnFactors>,
    /// How mail is sent, where it can be.
    pub mail: Option<MailServer>,
    /// What we are to providers that speak SAML.
    pub saml: SamlParty,
    pub directories: Vec<Directory>,
    pub deliveries: Vec<Delivery>,
    pub gates: Vec<Gate>,
    /// Named destinations that networks and tunnels open.
    pub reaches: Vec<Reach>,
    /// Networks that network gates guard, and after them entrances of tunnels.
    pub zones: Vec<Zone>,
    /// Gateways, switches and access points that ask by RADIUS.
    pub radius_clients: Vec<RadiusClient>,
    /// Who may use the console, and how far; none means nobody by sign-in.
    pub engineers: Option<Access>,
    /// Rules of the whole site, which stand before those of every gate.
    pub site_rules: Vec<Rule>,
    /// Whether a change of who may do what needs the agreement of a second engineer.
    pub second_engineer: bool,
    /// What must be so, whatever the rules say.
    pub expectations: Vec<Expectation>,
    /// Networks on which sessions are kept otherwise.
    pub networks: Vec<Network>,
    /// Which way in people take, in order.
    pub routes: Vec<Route>,
    /// Names of attributes; [`AttributeId`] points here.
    pub attributes: Vec<String>,
    /// Those of them that only mappings make.
    pub mapped: Vec<AttributeId>,
    /// The site's own mappings, which stand before those of every gate.
    pub mappings: Vec<Mapping>,
    /// Secrets that identifiers are made with; they are put in once the document is compiled.
    pub salts: Salts,
}

/// Attributes every sign-in has, whatever is mapped.
pub const BUILT_IN: [&str; 2] = ["subject", "provider"];

/// What opens a reach.
#[derive(Clone, Copy, Debug)]
pub enum Opener<'a> {
    /// A rule, to those whom it applies to.
    Rule(&'a Rule),
    /// A zone, to every machine in it.
    Zone(&'a Zone),
    /// A zone, to every machine for a short time before sign-in.
    First(&'a Zone),
    /// A machine without a person.
    Machine(&'a Machine),
}

impl Site {
    /// Who may enter, for each gate and then the console.
    pub fn accesses(&self) -> impl Iterator<Item = &Access> {
        self.gates.iter().map(|g| &g.access).chain(&self.engineers)
    }

    /// Where rules decide who may enter: each gate and then the console, with its access.
    pub fn places(&self) -> impl Iterator<Item = (Place, &Access)> {
        let gates = self.gates.iter().map(|g| (g.place(), &g.access));
        gates.chain(self.engineers.iter().map(|a| (Place::Console, a)))
    }

    /// Ways in by ticket, each with its name.
    pub fn ticket_ways(&self) -> impl Iterator<Item = (&str, &TicketWay)> {
        self.ways.iter().filter_map(|w| match &w.kind {
            WayKind::Ticket(t) => Some((w.name.as_str(), t)),
            _ => None,
        })
    }

    /// The gate of a name.
    pub fn gate(&self, name: &str) -> Option<&Gate> {
        self.gates.iter().find(|g| g.name == name)
    }

    /// Who may enter a gate, or the console. None of other places, where rules decide nothing.
    pub fn access_at(&self, place: &Place) -> Option<&Access> {
        match place {
            Place::Console => self.engineers.as_ref(),
            Place::Gate(name) => self.gate(name).map(|g| &g.access),
            Place::Quay | Place::SignIn | Place::Trial => None,
        }
    }

    /// The provider of a name.
    pub fn provider(&self, name: &str) -> Option<&Provider> {
        self.providers.iter().find(|p| p.name == name)
    }

    /// The way in of our own of a name.
    pub fn way(&self, name: &str) -> Option<&Way> {
        self.ways.iter().find(|w| w.name == name)
    }

    /// Who vouches for people of a provider or way in of this name: see [`crate::evidence::authority`].
    pub fn authority(&self, name: &str) -> Option<String> {
        if let Some(p) = self.provider(name) {
            let way_in = if p.saml().is_some() { WayIn::Saml } else { WayIn::Oidc };
            return Some(authority(way_in, name, &p.issuer));
        }
        self.way(name).map(|_| authority(WayIn::Password, name, ""))
    }

    /// Every provider and way in with who vouches for its people.
    pub fn authorities(&self) -> impl Iterator<Item = (String, String)> {
        let names = self.providers.iter().map(|p| &p.name).chain(self.ways.iter().map(|w| &w.name));
        names.filter_map(|n| Some((n.clone(), self.authority(n)?)))
    }

    /// Whether the one who vouches for somebody is the one that the provider's name stands for in this edition.
    pub fn knows(&self, provider: &str, person: &PersonKey) -> bool {
        self.authority(provider).is_some_and(|a| a == person.authority)
    }

    /// What people read of a provider or way in.
    pub fn title_of_way<'a>(&'a self, name: &'a str) -> &'a str {
        let provider = self.provider(name).map(|p| p.title.as_str());
        provider.or_else(|| self.way(name).map(|w| w.title.as_str())).unwrap_or(name)
    }

    /// Attributes that a sign-in feeds by itself, each with its claim.
    pub fn fed_by_sign_in(&self, name: &str) -> &[(AttributeId, String)] {
        let provider = self.provider(name).map(|p| p.attributes.as_slice());
        provider.or_else(|| self.way(name).map(|w| w.attributes.as_slice())).unwrap_or_default()
    }

    /// The directory of a name.
    pub fn directory(&self, name: &str) -> Option<&Directory> {
        self.directories.iter().find(|d| d.name == name)
    }

    /// The reach of a name.
    pub fn reach(&self, name: &str) -> Option<&Reach> {
        self.reaches.iter().find(|r| r.name == name)
    }

    /// Everything that opens a reach, with the network gate that it belongs to, gate by gate.
    pub fn openers<'a>(&'a self, reach: &'a str) -> impl Iterator<Item = (&'a Gate, Opener<'a>)> {
        let named = move |all: &[String]| all.iter().any(|n| n == reach);
        let networks = self.gates.iter().filter_map(|g| Some((g, g.network()?)));
        networks.flat_map(move |(gate, network)| {
            let rules = gate.access.rules.iter().filter(move |r| r.effect.opens(reach)).map(Opener::Rule);
            let zones = self.zones_of(gate).flat_map(move |z| {
                let first = z.first.as_ref().is_some_and(|f| f.reach == reach);
                [named(&z.before).then_some(Opener::Zone(z)), first.then_some(Opener::First(z))].into_iter().flatten()
            });
            let machines = network.machines.iter().filter(move |m| named(&m.reach)).map(Opener::Machine);
            rules.chain(zones).chain(machines).map(move |o| (gate, o))
        })
    }

    /// Network gates that open a reach, each once.
    pub fn gates_opening<'a>(&'a self, reach: &'a str) -> impl Iterator<Item = &'a Gate> {
        self.gates.iter().filter(move |g| self.openers(reach).any(|(of, _)| of.name == g.name))
    }

    /// The zone of a name.
    pub fn zone(&self, name: &str) -> Option<&Zone> {
        self.zones.iter().find(|z| z.name == name)
    }

    /// Zones that a gate guards.
    pub fn zones_of<'a>(&'a self, gate: &'a Gate) -> impl Iterator<Item = &'a Zone> {
        gate.network().into_iter().flat_map(|n| &n.zones).filter_map(|z| self.zone(z))
    }

    /// A RADIUS client by its name.
    pub fn radius_client(&self, name: &str) -> Option<&RadiusClient> {
        self.radius_clients.iter().find(|c| c.name == name)
    }

    /// The RADIUS client that sends from an address.
    pub fn radius_client_at(&self, address: IpAddr) -> Option<&RadiusClient> {
        self.radius_clients.iter().find(|c| c.sends_from(address))
    }

    /// The gate that takes people in by a RADIUS client.
    pub fn gate_of_radius_client(&self, client: &str) -> Option<&Gate> {
        self.gates.iter().find(|g| g.network().is_some_and(|n| n.radius.iter().any(|c| c == client)))
    }

    /// The gate that takes people in at an entrance of tunnels; none where there is no such entrance.
    pub fn gate_of_entrance(&self, entrance: &str) -> Option<&Gate> {
        self.zone(entrance)?.tunnel()?;
        self.gates.iter().find(|g| g.is_vpn() && self.zones_of(g).any(|z| z.name == entrance))
    }

    /// RADIUS clients by which a gate takes people in.
    pub fn radius_clients_of<'a>(&'a self, gate: &'a Gate) -> impl Iterator<Item = &'a RadiusClient> {
        let names = gate.network().into_iter().flat_map(|n| &n.radius);
        names.filter_map(|name| self.radius_client(name))
    }

    /// Whether people may come by an entrance of this name: a VPN server's, or a RADIUS client.
    pub fn has_entrance(&self, name: &str) -> bool {
        self.zone(name).is_some_and(|z| z.tunnel().is_some()) || self.radius_clients.iter().any(|c| c.name == name)
    }

    /// The delivery attached to a gate.
    pub fn delivery(&self, gate: &Gate) -> Option<&Delivery> {
        gate.delivery.as_ref().and_then(|name| self.deliveries.iter().find(|d| d.name == *name))
    }

    /// The name of an attribute.
    pub fn attribute_name(&self, id: AttributeId) -> &str {
        self.attributes.get(id.0 as usize).map_or("?", String::as_str)
    }

    /// The attribute of a name.
    pub fn attribute(&self, name: &str) -> Option<AttributeId> {
        self.attributes.iter().position(|a| a == name).map(|i| AttributeId(i as u16))
    }

    /// Where an OpenID Connect provider sends people back to: one address per provider, so that an answer cannot be taken for
    /// another's (RFC 9700 4.4).
    pub fn redirect_uri(&self, provider: &str) -> String {
        self.address.at(&format!("/.passeur/oidc/{provider}/answer"))
    }

    /// The same for the trial of a document in which the provider's name stands for another issuer than in the live edition. An
    /// answer of the one could otherwise be handed to the other, with the verifier that makes it good (RFC 9700 4.4.2).
    pub fn trial_redirect_uri(&self, provider: &str) -> String {
        self.address.at(&format!("/.passeur/oidc/{provider}/trial"))
    }

    /// Where an OpenID Connect provider finds the keys that prove us: a client's `jwks_uri`.
    pub fn client_keys_uri(&self, provider: &str) -> String {
        self.address.at(&format!("/.passeur/oidc/{provider}/keys"))
    }

    /// Where an OpenID Connect provider says that it ended a session: by `back-channel` or `front-channel`.
    pub fn oidc_sign_out_uri(&self, provider: &str, channel: &str) -> String {
        self.address.at(&format!("/.passeur/oidc/{provider}/{channel}"))
    }

    /// The same of a SAML provider: its assertion consumer service.
    pub fn consumer_uri(&self, provider: &str) -> String {
        self.address.at(&format!("/.passeur/saml/{provider}/answer"))
    }

    /// Where a SAML provider sends messages to sign out.
    pub fn saml_sign_out_uri(&self, provider: &str) -> String {
        self.address.at(&format!("/.passeur/saml/{provider}/sign-out"))
    }

    /// Where our SAML metadata is, as one provider needs it.
    pub fn saml_metadata_uri(&self, provider: &str) -> String {
        self.address.at(&format!("{ENTITY_PATH}?provider={provider}"))
    }

    /// Names of every secret the edition refers to, with what needs it.
    pub fn secrets(&self) -> Vec<(String, String)> {
        let providers = self.providers.iter().filter_map(|p| p.secret().map(|s| (s.to_owned(), format!("provider {}", p.name))));
        let own = self.saml.key.clone().map(|s| (s, "SAML: our own key".to_owned()));
        let directories = self.directories.iter().filter_map(|d| d.secret.clone().map(|s| (s, format!("directory {}", d.name))));
        let mail = self.mail.iter().filter_map(|m| Some((m.account.as_ref()?.1.clone(), "the mail server".to_owned())));
        let keytabs = self.ways.iter().flat_map(|w| match &w.kind {
            WayKind::Ticket(t) => t.keytabs.iter().map(|k| (k.clone(), format!("way in {}: keys", w.name))).collect(),
            _ => vec![],
        });
        let behalf = self.gates.iter().filter_map(|g| {
            let keytab = g.ticket()?.behalf.as_ref()?.keytab.clone();
            Some((keytab, format!("gate {}: the account that acts for people", g.name)))
        });
        let authorities = self.gates.iter().filter_map(|g| {
            let authority = g.network()?.authority.clone()?;
            Some((authority, format!("gate {}: the authority of personal profiles", g.name)))
        });
        let of = |c: &RadiusClient| Some((c.secret()?.to_owned(), format!("RADIUS client {}", c.name)));
        let clients = self.radius_clients.iter().filter_map(of);
        let outside =
            self.factors.iter().filter_map(|f| f.outside.as_ref()).map(|o| (o.secret.clone(), "servers for codes".to_owned()));
        let mut out: Vec<_> = providers
            .chain(own)
            .chain(directories)
            .chain(mail)
            .chain(keytabs)
            .chain(behalf)
            .chain(authorities)
            .chain(clients)
            .chain(outside)
            .collect();
        let hashes = |place: &str, of: &[Mapping]| -> Vec<(String, String)> {
            salts_of(of).map(|secret| (secret.to_owned(), format!("pairwise identifiers of {place}"))).collect()
        };
        out.extend(hashes("the site", &self.mappings));
        for g in &self.gates {
            let own = g.access.mappings.get(self.mappings.len()..).unwrap_or_default();
            out.extend(hashes(&format!("gate {}", g.name), own));
        }
        out
    }

    /// The same site with the secrets that identifiers are made with.
    pub fn with_salts(mut self, secret: impl Fn(&str) -> Option<String>) -> Site {
        let all = self.mappings.iter().chain(self.gates.iter().flat_map(|g| &g.access.mappings));
        let found = salts_of(all).filter_map(|n| Some((n.to_owned(), secret(n)?.into_bytes()))).collect::<Vec<_>>();
        self.salts = Salts::new(found);
        self
    }
}

impl Site {
    /// The network that an address is on: the first that holds it.
    pub fn network_of(&self, address: IpAddr) -> Option<&Network> {
        let address = address.to_canonical();
        self.networks.iter().find(|n| n.within.members.iter().any(|m| m.contains(&address)))
    }

    /// Whether people share machines at an address.
    pub fn is_shared(&self, address: IpAddr) -> bool {
        self.network_of(address).is_some_and(|n| n.shared)
    }

    /// Lifetimes of a session that began at an address: the site's, or shorter ones of the network and of the gate.
    pub fn lifetimes_at(&self, began: Option<IpAddr>, gate: Option<&Gate>) -> Lifetimes {
        let on = began.and_then(|a| self.network_of(a)).map_or(self.lifetimes, |n| n.limits.within(self.lifetimes));
        gate.map_or(on, |g| g.session.within(on))
    }
}

/// Names of the secrets that mappings make identifiers with.
fn salts_of<'a>(mappings: impl IntoIterator<Item = &'a Mapping>) -> impl Iterator<Item = &'a str> {
    mappings.into_iter().flat_map(|m| &m.transforms).filter_map(|t| match t {
        Transform::Hash { secret, .. } => Some(secret.as_str()),
        _ => None,
    })
}
