//! The command line.

use std::net::SocketAddr;
use std::path::PathBuf;

mod site;
mod trial;

pub use site::{
    Acts, ActsCommand, Draft, PersonArgs, PresentCommand, ProfileCommand, ReachCommand, ReachTry, Rehearse, RehearsePerson,
    RouteCommand, Site, SourceArgs, ZoneCommand,
};
pub use trial::{Trial, TrialEntrance};

use clap::{Args as ClapArgs, Parser, Subcommand, ValueEnum};
use passeur_api::{Outcome, ProviderKind};
use passeur_service::TunnelConfig;

use crate::exit;

/// Puts gates behind federated sign-in, and says why somebody was refused.
#[derive(Debug, Parser)]
#[command(name = "passeur", version, after_help = exit::HELP, max_term_width = 100)]
pub struct Args {
    #[command(subcommand)]
    pub command: Command,
    #[command(flatten)]
    pub client: ClientArgs,
}

/// Where the service is, and how to print.
#[derive(Debug, ClapArgs)]
pub struct ClientArgs {
    /// The sign-in host's address
    #[arg(long, env = "PASSEUR_URL", global = true, help_heading = "Client")]
    pub url: Option<String>,
    /// A file that holds the API token; PASSEUR_TOKEN may hold the token itself
    #[arg(long, env = "PASSEUR_TOKEN_FILE", global = true, help_heading = "Client")]
    pub token_file: Option<PathBuf>,
    /// How to print
    #[arg(long, value_enum, default_value_t = Output::Text, global = true, help_heading = "Client")]
    pub output: Output,
    /// The language of sentences
    #[arg(long, value_enum, default_value_t = Language::En, env = "PASSEUR_LANG", global = true, help_heading = "Client")]
    pub language: Language,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Output {
    /// For people: tables that fit the terminal
    Text,
    /// What the API answered
    Json,
    /// For spreadsheets; lists only
    Csv,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Language {
    En,
    Fr,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    /// Run the service
    Serve(Box<Serve>),
    /// Make the file of the account that works when everything else is broken
    #[command(subcommand)]
    Emergency(Emergency),
    /// Make a key ring or a first token
    #[command(subcommand)]
    KeyRing(KeyRing),
    /// Check, compare, publish, show or roll back the site file
    #[command(subcommand)]
    Site(Site),
    /// Try an edition on past crossings, or on one person; nothing is changed
    #[command(subcommand)]
    Rehearse(Rehearse),
    /// API tokens: list or revoke; they are made in the console, by whom they belong to
    #[command(subcommand)]
    Token(Token),
    /// What engineers did; whether that record holds
    Acts(Acts),
    /// Store a secret, or list what is stored
    #[command(subcommand)]
    Secret(Secret),
    /// What another team must enter on its side, before or after it is connected
    Handover(Handover),
    /// Try a provider or directory, also on values not saved yet: says which value is wrong
    #[command(subcommand)]
    Trial(Trial),
    /// Check everything the site depends on: what is wrong, how it was seen and what to do, the worst first
    Survey {
        /// Show what the last survey found instead
        #[arg(long)]
        last: bool,
    },
    /// Kerberos: what keys there are and whether the KDC agrees; what is in a keytab, a credential cache or a krb5.conf
    #[command(subcommand)]
    Kerberos(Kerberos),
    /// Whether a person with a ticket gets into a host by SSH, and onward: what stands in the way, with the exact line to change
    #[command(after_help = HOST_HELP)]
    Host(Host),
    /// The gates, their rules, and what happened of late
    Gates {
        /// Only those that hold this text: in a name, an address, a way in, a rule
        #[arg(long = "match", value_name = "TEXT")]
        matching: Option<String>,
    },
    /// The node that answers: connections accepted and turned away
    Node,
    /// The providers, and how many people never came back from each
    Providers,
    /// Add a provider from what it says of itself, or print what we say of ourselves
    #[command(subcommand)]
    Provider(ProviderCommand),
    /// Sign-in routes: list them, or try which decides for somebody and why not the others
    #[command(subcommand)]
    Route(RouteCommand),
    /// Who is on a network that opens after sign-in: list or end them, say who had an address, or who accepted terms
    #[command(subcommand)]
    Present(PresentCommand),
    /// Personal profiles of tunnels: list, make or revoke them; the gate's own authority, and its VPN server's certificate
    #[command(subcommand)]
    Profile(ProfileCommand),
    /// What networks open: list it, or say whether somebody may reach something
    #[command(subcommand)]
    Reach(ReachCommand),
    /// Zones of network gates: what signing in needs there
    #[command(subcommand)]
    Zone(ZoneCommand),
    /// The directories and their servers: which answer, which are passed over, and why
    Directories,
    /// List crossings, latest first
    Crossings(Crossings),
    /// Tell the story of one crossing
    Crossing {
        /// The short id, as shown to the person
        id: String,
    },
    /// List live sessions
    Sessions {
        /// Part of a name or subject
        #[arg(long)]
        person: Option<String>,
    },
    /// End sessions: of a person, or by id
    End {
        /// Session ids
        sessions: Vec<uuid::Uuid>,
        /// End every session of this subject, to the letter
        #[arg(long, conflicts_with = "sessions")]
        subject: Option<String>,
    },
    /// Read the rights of live sessions again, now: of a person, or by id
    ReRead {
        /// Session ids
        sessions: Vec<uuid::Uuid>,
        /// Every session of this subject, to the letter
        #[arg(long, conflicts_with = "sessions")]
        subject: Option<String>,
    },
    /// Look a person up in a directory, exactly as a gate would
    Person {
        /// The key's value
        value: String,
        /// The directory's name
        #[arg(long)]
        directory: String,
    },
    /// Take everything away from somebody who left, at once and on every node, and keep them out
    #[command(after_help = LEAVER_HELP)]
    Leaver(Leaver),
    /// List who is kept out, since when and why
    KeptOut,
    /// Let people in again who are kept out
    LetIn {
        /// People, each as `provider/subject`
        #[arg(required = true)]
        people: Vec<String>,
    },
    /// Second factors of a person: see them, or take them away from whoever lost theirs
    Factors {
        /// The person, as `provider/subject`; see `passeur sessions` and `passeur crossings`
        person: String,
        /// Take one away, by its id
        #[arg(long, conflicts_with = "reset")]
        remove: Option<uuid::Uuid>,
        /// Take all away, recovery codes too: the person enrols anew
        #[arg(long)]
        reset: bool,
    },
    /// Roles of a person at each gate and in the console, and when and why they changed
    Roles {
        /// The person, as `provider/subject`
        person: String,
    },
    /// Tokens that a person made for programs of theirs: see them, or revoke them
    PersonalTokens {
        /// The person, as `provider/subject`
        person: String,
        /// Revoke one, by its id
        #[arg(long, conflicts_with = "all")]
        revoke: Option<uuid::Uuid>,
        /// Revoke all, and end the sessions that they opened
        #[arg(long)]
        all: bool,
    },
    /// Sign in for twelve hours: shows a code to type in a browser (RFC 8628)
    SignIn,
    /// Revoke what `sign-in` got, and forget it
    SignOut,
    /// Who the service takes me for
    Whoami,
}

#[derive(Debug, Subcommand)]
pub enum Kerberos {
    /// Look from the service: stored keytabs, what the KDCs give, clocks, accounts that act for people. Ends with 3 where something is wrong
    Check,
    /// Read files by themselves; nothing is sent unless --ask. Ends with 3 where something is wrong
    Read {
        /// Keytabs, credential caches, krb5.conf
        #[arg(required = true)]
        files: Vec<PathBuf>,
        /// Ask the KDC, with the keys of a keytab, whether they fit
        #[arg(long)]
        ask: bool,
        /// The krb5.conf to ask by
        #[arg(long, env = "KRB5_CONFIG")]
        krb5_config: Option<PathBuf>,
    },
}

const LEAVER_HELP: &str = "Sessions, tokens, factors, recovery codes, kept passwords and command lines that wait are taken away; nothing is published. \
Where PERSON is not one person for certain (a part of a name is not), those found are listed and nothing is done. Ends with 3 where a node has not acknowledged, or a summary is not genuine.";

/// `passeur leaver`.
#[derive(Debug, ClapArgs)]
pub struct Leaver {
    /// A name, a mail address, or an identity as `provider/subject`
    #[arg(required_unless_present = "check")]
    pub person: Option<String>,
    /// Show who is meant and what they have; take nothing away
    #[arg(long)]
    pub look: bool,
    /// Only these identities, each as `provider/subject`; also one that never came
    #[arg(long, value_name = "IDENTITY")]
    pub only: Vec<String>,
    /// Why they are kept out: told to engineers in the crossing of every later attempt
    #[arg(long, default_value = "left")]
    pub why: String,
    /// Leave their second factors and recovery codes
    #[arg(long)]
    pub keep_factors: bool,
    /// Do not keep them out: they may come back where the rules admit them
    #[arg(long)]
    pub no_block: bool,
    /// Write a signed summary to this file
    #[arg(long, value_name = "FILE")]
    pub summary: Option<PathBuf>,
    /// Look whether a kept summary is one of this service, unaltered
    #[arg(long, value_name = "FILE", conflicts_with_all = ["person", "look", "only", "summary", "no_block", "keep_factors"])]
    pub check: Option<PathBuf>,
}

const HOST_HELP: &str =
    "Nothing is changed in place. Ends with 3 where the person does not come in, or not onward. docs/hosts.md has every finding.";

#[derive(Debug, ClapArgs)]
pub struct Host {
    /// Who is to come in: NAME@REALM
    pub person: String,
    /// A folder that holds the files of another host, as etc/krb5.conf; this machine unless set
    #[arg(long)]
    pub root: Option<PathBuf>,
    /// The account that their client asks for, where it is not the one that they are
    #[arg(long)]
    pub user: Option<String>,
    /// The address that they come from
    #[arg(long)]
    pub from: Option<String>,
    /// The next host, as they type it; any host of the same domain unless set
    #[arg(long)]
    pub to: Option<String>,
    /// Show the files to change as a difference
    #[arg(long, conflicts_with = "write_to")]
    pub diff: bool,
    /// Write the changed files into this folder, each at its own path there
    #[arg(long)]
    pub write_to: Option<PathBuf>,
    /// Another krb5.conf than the server's usual one
    #[arg(long)]
    pub krb5_config: Option<String>,
    /// Another keytab than /etc/krb5.keytab
    #[arg(long)]
    pub keytab: Option<String>,
    /// Another sshd_config than /etc/ssh/sshd_config
    #[arg(long)]
    pub sshd_config: Option<String>,
    /// Another ssh_config than the account's own and /etc/ssh/ssh_config
    #[arg(long)]
    pub ssh_config: Option<String>,
}

#[derive(Debug, ClapArgs)]
pub struct Serve {
    /// Where to listen
    #[arg(long, env = "PASSEUR_LISTEN", default_value = "127.0.0.1:8640")]
    pub listen: SocketAddr,
    /// Where to speak TLS as well
    #[arg(long, env = "PASSEUR_TLS_LISTEN", requires = "certificates")]
    pub tls_listen: Option<SocketAddr>,
    /// A folder with NAME.pem and NAME.key for each certificate; read again when a file changes
    #[arg(long, env = "PASSEUR_CERTIFICATES")]
    pub certificates: Option<PathBuf>,
    /// A file (mode 600) that holds the PostgreSQL URL
    #[arg(long, env = "PASSEUR_DATABASE_FILE")]
    pub database_file: PathBuf,
    /// The key ring file (mode 600); make one with `passeur key-ring new`
    #[arg(long, env = "PASSEUR_KEY_RING")]
    pub key_ring: PathBuf,
    /// A file (mode 600) with an API token of the configure role, for setting up
    #[arg(long, env = "PASSEUR_FIRST_TOKEN_FILE")]
    pub first_token_file: Option<PathBuf>,
    /// The emergency account's file (mode 600); make one with `passeur emergency new`
    #[arg(long, env = "PASSEUR_EMERGENCY_FILE")]
    pub emergency_file: Option<PathBuf>,
    /// The krb5.conf that Kerberos uses; the system's unless set
    #[arg(long, env = "PASSEUR_KRB5_CONFIG")]
    pub krb5_config: Option<PathBuf>,
    /// This node's name in crossings
    #[arg(long, env = "PASSEUR_NODE", default_value = "node-1")]
    pub node: String,
    /// Log as JSON lines
    #[arg(long)]
    pub log_json: bool,
    /// How much to log: one line for each crossing, act and ended session at info
    #[arg(long, env = "PASSEUR_LOG", value_name = "LEVEL", default_value = "info",
        value_parser = ["error", "warn", "info", "debug", "trace"])]
    pub log: String,
    /// The Unix socket of passeur-sluice: this node guards the zones whose interface the sluice was given
    #[arg(long, env = "PASSEUR_SLUICE", value_name = "SOCKET")]
    pub sluice: Option<PathBuf>,
    /// Where plain HTTP of machines that are not signed in is answered, such as [::]:8643
    #[arg(long, env = "PASSEUR_LED_LISTEN", requires = "sluice", value_name = "ADDRESS")]
    pub led_listen: Option<SocketAddr>,
    /// Where questions about names are answered, once for each address of a zone's resolver, such as 10.70.0.1:53: what a name of a
    /// reach leads to is opened before the machine is told
    #[arg(long, env = "PASSEUR_NAMES_LISTEN", requires_all = ["sluice", "names_from"], value_name = "ADDRESS", value_delimiter = ',')]
    pub names_listen: Vec<SocketAddr>,
    /// The resolver that these questions are passed on to, such as 127.0.0.1:5353
    #[arg(long, env = "PASSEUR_NAMES_FROM", requires = "names_listen", value_name = "ADDRESS")]
    pub names_from: Option<SocketAddr>,
    /// The file in which dnsmasq keeps its leases, for names of machines
    #[arg(long, env = "PASSEUR_LEASES", requires = "sluice", value_name = "FILE")]
    pub leases: Option<PathBuf>,
    /// The management socket of the VPN server at an entrance of this node, NAME=SOCKET; once for each
    #[arg(long, env = "PASSEUR_TUNNEL", requires = "sluice", value_name = "NAME=SOCKET", value_delimiter = ',', value_parser = tunnel)]
    pub tunnel: Vec<TunnelConfig>,
    /// Where RADIUS clients ask and tell of their sessions, such as 0.0.0.0:1812,0.0.0.0:1813 and the same of [::]
    #[arg(long, env = "PASSEUR_RADIUS_LISTEN", value_name = "ADDRESS", value_delimiter = ',')]
    pub radius_listen: Vec<SocketAddr>,
    /// Where RADIUS clients with certificates ask over TLS, such as 0.0.0.0:2083,[::]:2083
    #[arg(long, env = "PASSEUR_RADIUS_TLS_LISTEN", requires = "tls_listen", value_name = "ADDRESS", value_delimiter = ',')]
    pub radius_tls_listen: Vec<SocketAddr>,
    /// The database comes from a backup: end every session before anybody is served
    #[arg(long)]
    pub restored: bool,
}

#[derive(Debug, Subcommand)]
pub enum Emergency {
    /// Write a new file, and print the password once
    New {
        file: PathBuf,
        /// The account's name
        #[arg(long)]
        name: String,
        /// A network it is offered to, such as 10.20.0.0/24; may stand several times
        #[arg(long, required = true)]
        network: Vec<String>,
        /// A file that holds the password; otherwise one is made
        #[arg(long)]
        password_file: Option<PathBuf>,
    },
}

#[derive(Debug, Subcommand)]
pub enum KeyRing {
    /// Write a new ring with one key, for the service's eyes only
    New { file: PathBuf },
    /// Add a key: it seals from the next start on, the older ones still open
    Add { file: PathBuf },
    /// Write a new API token to a file
    Token { file: PathBuf },
    /// Keys that the database was sealed with, and what still needs each
    List,
    /// Seal everything anew that stands under an older key, so that it can be taken out of the ring file
    Retire {
        number: u16,
        /// Go through with it: recovery-codes, which nobody can seal anew, are taken away then
        #[arg(long, value_name = "WORD")]
        anyway: Vec<String>,
    },
}

#[derive(Debug, Subcommand)]
pub enum Secret {
    /// Store a secret read from standard input or a file; it is in use at once, unless it waits for a second engineer
    Set {
        name: String,
        #[arg(long)]
        file: Option<PathBuf>,
        /// Let it stand beside the one in use while the other side changes
        #[arg(long)]
        stand_by: bool,
    },
    /// Make a private key with a certificate on the server and store it: what signs SAML messages and opens what is encrypted
    MakeKey {
        name: String,
        /// Let it stand beside the one in use until providers know it
        #[arg(long)]
        stand_by: bool,
        /// How long its certificate is good
        #[arg(long, default_value_t = 3, value_parser = clap::value_parser!(u8).range(1..=10))]
        years: u8,
        /// An authority of a gate of kind vpn, which certifies personal profiles and VPN servers
        #[arg(long)]
        authority: bool,
    },
    /// Put a kept version into use, after a trial with it
    Use {
        name: String,
        version: i32,
        /// Use it although the trial failed: untried
        #[arg(long, value_name = "WORD")]
        anyway: Vec<String>,
    },
    /// Forget a version that is not in use
    Forget { name: String, version: i32 },
    /// Remove a secret, with all its versions, that neither the live edition nor the draft names
    Remove { name: String },
    /// What is stored, and what is needed and missing
    List,
}

#[derive(Debug, clap::Args)]
pub struct Handover {
    /// The provider's, directory's or realm's name in the site, or the name it will have; for an application its gate
    pub name: String,
    /// For whose team
    #[arg(long = "for", value_enum, default_value_t = Team::Provider)]
    pub team: Team,
    /// Of a provider: what one gate needs
    #[arg(long)]
    pub gate: Option<String>,
    /// Of a provider that is not in the live edition: oidc or saml
    #[arg(long, value_parser = provider_kind)]
    pub kind: Option<ProviderKind>,
}

#[derive(Clone, Copy, Debug, clap::ValueEnum)]
pub enum Team {
    Provider,
    Directory,
    Realm,
    Application,
}

#[derive(Debug, Subcommand)]
pub enum ProviderCommand {
    /// Read a discovery document or SAML metadata, from its address or from a file, and print its part of the site file
    Read {
        /// https://… or a file
        source: String,
        /// The name it gets; made from its address unless given
        #[arg(long)]
        name: Option<String>,
        /// PEM certificates to trust beside the system's, a file on the server
        #[arg(long)]
        ca_file: Option<String>,
    },
    /// Fetch its addresses and keys anew, now, on the node that answers: after its team changed a key
    Refresh {
        /// The provider's name
        name: String,
    },
    /// Print our SAML metadata, as the provider's team needs it
    Metadata {
        /// As one provider needs it; of all unless given
        name: Option<String>,
    },
}

#[derive(Debug, Subcommand)]
pub enum Token {
    /// Tokens that are good: how far, for what, until when, whose
    List,
    /// Revoke a token by name
    Revoke { name: String },
}

#[derive(Debug, ClapArgs)]
pub struct Crossings {
    /// Only this gate
    #[arg(long)]
    pub gate: Option<String>,
    /// Part of a name or subject, or a whole mail address
    #[arg(long)]
    pub person: Option<String>,
    /// From this address, or a network such as 10.20.0.0/16
    #[arg(long)]
    pub address: Option<String>,
    /// By this provider or way in
    #[arg(long)]
    pub way: Option<String>,
    /// Where this rule matched, refused or asked for more
    #[arg(long)]
    pub rule: Option<String>,
    /// Only these outcomes, separated by commas: admitted, refused, provider-refused, check-failed, failed,
    /// unauthenticated, bad-request, waiting, never-came-back, signed-out
    #[arg(long, value_delimiter = ',', value_parser = outcome)]
    pub outcome: Vec<Outcome>,
    /// Not older than this: 30m, 24h, 7d, a date, or a moment (RFC 3339); 7d with a mail address, --way or --rule unless said
    #[arg(long)]
    pub since: Option<String>,
    /// Older than this, in the same words
    #[arg(long, conflicts_with = "follow")]
    pub until: Option<String>,
    /// At most so many
    #[arg(long, default_value_t = 50, value_parser = clap::value_parser!(i64).range(1..=1000))]
    pub limit: i64,
    /// All of them, page after page
    #[arg(long, conflicts_with_all = ["limit", "follow"])]
    pub all: bool,
    /// Go on and print crossings as they happen
    #[arg(long)]
    pub follow: bool,
}

/// An entrance with the management socket of its VPN server.
fn tunnel(text: &str) -> Result<TunnelConfig, String> {
    let (entrance, management) = text.split_once('=').ok_or("write NAME=SOCKET")?;
    if entrance.is_empty() || !management.starts_with('/') {
        return Err(
            "write the entrance's name and the whole path of the socket: pilots=/run/passeur-tunnels/pilots.sock".to_owned()
        );
    }
    Ok(TunnelConfig { entrance: entrance.to_owned(), management: management.into() })
}

fn provider_kind(word: &str) -> Result<ProviderKind, String> {
    ProviderKind::parse(word).ok_or_else(|| "it is oidc or saml".to_owned())
}

fn outcome(word: &str) -> Result<Outcome, String> {
    let all = || Outcome::ALL.iter().map(|o| o.word()).collect::<Vec<_>>().join(", ");
    Outcome::parse(word).ok_or_else(|| format!("it is one of {}", all()))
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    #[test]
    fn the_command_line_is_sound() {
        super::Args::command().debug_assert();
    }
}
