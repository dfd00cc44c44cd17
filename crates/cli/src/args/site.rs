//! Arguments about editions.

use std::path::PathBuf;

use clap::{Args, Subcommand};

/// Which document: a file, the draft, or an edition.
#[derive(Debug, Default, Args)]
#[group(multiple = false)]
pub struct SourceArgs {
    /// A site file
    pub file: Option<PathBuf>,
    /// The draft that is kept by the service
    #[arg(long)]
    pub draft: bool,
    /// An edition by number
    #[arg(long, value_name = "NUMBER")]
    pub edition: Option<i32>,
}

#[derive(Debug, Subcommand)]
pub enum Site {
    /// List every mistake of a site file
    Check {
        file: PathBuf,
        /// Ask the service too: which secrets are missing
        #[arg(long)]
        online: bool,
    },
    /// Print the JSON Schema of the site file, for editors that complete and check TOML
    Schema,
    /// Try the expectations of a site file, the draft, an edition, or the live edition
    Expect {
        #[command(flatten)]
        source: SourceArgs,
    },
    /// Say what a change means for people, then show the plain difference
    Compare {
        #[command(flatten)]
        after: SourceArgs,
        /// Compare with this edition instead of the live one
        #[arg(long, value_name = "NUMBER")]
        with: Option<i32>,
    },
    /// Publish a site file, or the draft, as the next edition
    Publish {
        #[command(flatten)]
        source: SourceArgs,
        /// Why, for those who read the history
        #[arg(long)]
        note: String,
        /// Refuse when another edition than this is live
        #[arg(long, value_name = "NUMBER")]
        based_on: Option<i32>,
        /// Accept by name what the service asks about: refuses-people, locked-out, expectations, other-issuer, other-source,
        /// trial-failed
        #[arg(long, value_delimiter = ',', value_name = "WORD")]
        anyway: Vec<String>,
        /// Go back by itself unless it is confirmed in the console within so many minutes
        #[arg(long, value_name = "MINUTES", value_parser = clap::value_parser!(u32).range(1..=60))]
        confirm_within: Option<u32>,
        /// The issuer of this provider only changed its address: what people keep (factors, tokens) goes with it
        #[arg(long = "move-issuer", value_name = "PROVIDER")]
        move_issuers: Vec<String>,
    },
    /// Publish an earlier edition again
    RollBack {
        edition: i32,
        /// Why, for those who read the history
        #[arg(long)]
        note: String,
        /// Accept by name what the service asks about: refuses-people, locked-out, expectations, other-issuer, other-source,
        /// trial-failed
        #[arg(long, value_delimiter = ',', value_name = "WORD")]
        anyway: Vec<String>,
    },
    /// Print the live edition's site file, or that of an earlier one
    Show { edition: Option<i32> },
    /// The history of editions
    Editions {
        /// Only those that hold this text: in a note or an author
        #[arg(long = "match", value_name = "TEXT")]
        matching: Option<String>,
        /// At most so many
        #[arg(long, default_value_t = 20, value_parser = clap::value_parser!(i64).range(1..=500))]
        limit: i64,
    },
    /// The next edition while it is written, kept by the service
    #[command(subcommand)]
    Draft(Draft),
}

#[derive(Debug, Subcommand)]
pub enum Draft {
    /// Print the draft; its version is told on standard error
    Show,
    /// Begin the draft from a file, or change the version that was read
    Put {
        file: PathBuf,
        /// The version that was read; without it a draft is begun
        #[arg(long, value_name = "VERSION")]
        over: Option<i64>,
        /// The edition it is begun on; the live one unless said
        #[arg(long, value_name = "NUMBER")]
        based_on: Option<i32>,
    },
    /// Discard the version that was read
    Discard {
        #[arg(long, value_name = "VERSION")]
        over: i64,
    },
}

#[derive(Debug, Subcommand)]
pub enum Rehearse {
    /// Who of the last days would be refused, who would come in, whose values would differ
    Past {
        #[command(flatten)]
        source: SourceArgs,
        /// How many days back
        #[arg(long, default_value_t = 7, value_parser = clap::value_parser!(u16).range(1..=90))]
        days: u16,
        /// Only this gate; "console" for the console
        #[arg(long)]
        gate: Option<String>,
    },
    /// How one person fares at each gate, now and then
    Person(Box<RehearsePerson>),
}

#[derive(Debug, Subcommand)]
pub enum RouteCommand {
    /// The routes of the live edition, in order
    List,
    /// Which route decides for somebody, and why those before it do not
    Try {
        #[command(flatten)]
        source: SourceArgs,
        /// Where they go: a gate, console or quay
        #[arg(long)]
        gate: String,
        /// The address they come from
        #[arg(long)]
        address: Option<String>,
        /// What their browser calls itself (User-Agent)
        #[arg(long)]
        agent: Option<String>,
        /// The name they type, where they are asked for one; it is looked up as it would be then
        #[arg(long)]
        name: Option<String>,
    },
}

#[derive(Debug, Subcommand)]
pub enum ReachCommand {
    /// Every reach of the live edition, where it leads, and what opens it
    List,
    /// Whether somebody may reach something: by which rule, or what comes nearest and what to write
    Try(Box<ReachTry>),
}

#[derive(Debug, Subcommand)]
pub enum ProfileCommand {
    /// Which machines have a profile of their person's own
    List {
        /// Only those that hold this text: in a name, a subject or a machine's name
        #[arg(long = "match", value_name = "TEXT")]
        text: Option<String>,
        /// Only of this gate
        #[arg(long)]
        gate: Option<String>,
    },
    /// Make a profile for somebody's machine: a client's configuration with a key of its own, which never leaves this file. Its person signs in
    /// at every connection all the same
    Make {
        gate: String,
        /// Whose it is: a name, subject or other value that one person alone has who was here before
        #[arg(long)]
        person: String,
        /// What the machine is called
        #[arg(long)]
        device: String,
        /// The entrance that the machine connects to
        #[arg(long)]
        entrance: String,
        /// Where to write the configuration; an existing file is left alone
        #[arg(long, value_name = "FILE")]
        into: PathBuf,
    },
    /// Revoke profiles; tunnels that came by them are ended
    Revoke {
        #[arg(required = true, value_name = "PROFILE")]
        ids: Vec<uuid::Uuid>,
    },
    /// Print the certificate of a gate's own authority: the ca of its VPN servers
    Authority { gate: String },
    /// Certify the key of a gate's VPN server, and print the certificate
    Server {
        gate: String,
        /// The host name by which clients reach the server
        #[arg(long)]
        host: String,
        /// The public key in PEM, on P-256: openssl pkey -in server.key -pubout
        #[arg(long, value_name = "FILE")]
        public_key: PathBuf,
    },
}

#[derive(Debug, Subcommand)]
pub enum PresentCommand {
    /// Machines that are on, with their person, what is open to them and how much passed
    List {
        /// Only those that hold this text: in a name, a subject, a way in, a zone, a hardware address or an address
        #[arg(long = "match", value_name = "TEXT")]
        text: Option<String>,
        /// Only at this gate
        #[arg(long)]
        gate: Option<String>,
        /// Those that were on as well, with why they are no more
        #[arg(long)]
        all: bool,
    },
    /// Take machines off, with the sessions that they are of; running flows are cut when this returns
    #[command(group = clap::ArgGroup::new("which").required(true).multiple(true).args(["ids", "text", "gate"]))]
    End {
        /// Their ids, as `list --output json` has them
        ids: Vec<uuid::Uuid>,
        /// Everybody that holds this text
        #[arg(long = "match", value_name = "TEXT", conflicts_with = "ids")]
        text: Option<String>,
        /// Everybody at this gate
        #[arg(long, conflicts_with = "ids")]
        gate: Option<String>,
    },
    /// Who had an address, to the second; the last day unless said
    Who {
        address: String,
        /// From this moment, as 2026-12-01T08:00:00Z
        #[arg(long)]
        from: Option<chrono::DateTime<chrono::Utc>>,
        /// Until this moment
        #[arg(long)]
        until: Option<chrono::DateTime<chrono::Utc>>,
    },
    /// The last day in quarters of an hour: people and machines that were on, and what passed
    Day {
        /// Only at this gate
        #[arg(long)]
        gate: Option<String>,
    },
    /// Who accepted terms of use, which version, and when
    Terms {
        /// Only at this gate
        #[arg(long)]
        gate: Option<String>,
    },
}

#[derive(Debug, Subcommand)]
pub enum ZoneCommand {
    /// What people in a zone must reach before they have signed in; what of it is closed, and the lines that would open it
    Propose {
        /// The zone's name in the live edition
        name: String,
        /// Also what the machine at this address asked for in the last half hour, while nobody was signed in on it: go through a sign-in there
        #[arg(long, value_name = "ADDRESS")]
        seen_from: Option<std::net::IpAddr>,
    },
}

/// Who wants to reach what.
#[derive(Debug, Args)]
pub struct ReachTry {
    /// Where to: HOST:PORT, HOST:PORT/udp or "HOST icmp"
    pub to: String,
    /// A machine on which nobody is signed in
    #[arg(long, conflicts_with_all = ["provider", "subject", "claim", "group", "attribute", "amr", "acr", "fresh", "at", "address"])]
    pub nobody: bool,
    /// Whoever is on with this hardware address; --address alone asks for whoever is on with that address
    #[arg(long, value_name = "HARDWARE", conflicts_with_all = ["nobody", "provider", "subject", "claim", "group", "attribute", "amr", "acr", "fresh", "address"])]
    pub device: Option<String>,
    #[command(flatten)]
    pub person: PersonArgs,
    /// Tell every step
    #[arg(long)]
    pub story: bool,
}

/// Whom to rehearse, and what for.
#[derive(Debug, Args)]
pub struct RehearsePerson {
    #[command(flatten)]
    pub person: PersonArgs,
    /// With this method; GET unless said
    #[arg(long)]
    pub method: Option<String>,
    /// For this path; the first page unless said
    #[arg(long)]
    pub path: Option<String>,
    /// Tell every step
    #[arg(long)]
    pub story: bool,
}

/// Somebody who came before, or somebody described by hand.
#[derive(Debug, Args)]
pub struct PersonArgs {
    #[command(flatten)]
    pub source: SourceArgs,
    /// The provider's name in the site
    #[arg(long)]
    pub provider: Option<String>,
    /// Somebody who came before, by the provider's identifier
    #[arg(long, conflicts_with_all = ["claim", "group", "attribute", "amr", "acr"])]
    pub subject: Option<String>,
    /// Ask the directories anew instead of believing what they said then
    #[arg(long, requires = "subject")]
    pub fresh: bool,
    /// Described by hand: a claim, NAME=VALUE
    #[arg(long, value_name = "NAME=VALUE", value_parser = pair)]
    pub claim: Vec<(String, String)>,
    /// Described by hand: a group, instead of asking a directory
    #[arg(long)]
    pub group: Vec<String>,
    /// Described by hand: an attribute of the directory entry, NAME=VALUE
    #[arg(long, value_name = "NAME=VALUE", value_parser = pair)]
    pub attribute: Vec<(String, String)>,
    /// Described by hand: an authentication method
    #[arg(long)]
    pub amr: Vec<String>,
    /// Described by hand: the authentication context
    #[arg(long)]
    pub acr: Option<String>,
    /// On a device that passes this check and no other that is not named; `none` for one that passes none
    #[arg(long, value_name = "NAME")]
    pub device_check: Vec<String>,
    /// Only this gate
    #[arg(long)]
    pub gate: Option<String>,
    /// The request they would come with: from this address
    #[arg(long)]
    pub address: Option<String>,
    /// At this moment (RFC 3339); now unless said
    #[arg(long)]
    pub at: Option<chrono::DateTime<chrono::Utc>>,
    /// By a tunnel, at this entrance
    #[arg(long, value_name = "NAME")]
    pub entrance: Option<String>,
    /// From a client that says it runs on this: linux, win, mac, ios or android
    #[arg(long, requires = "entrance")]
    pub platform: Option<String>,
    /// From a client that says it is of this version
    #[arg(long, requires = "entrance")]
    pub client_version: Option<String>,
    /// From a client with the person's own certificate
    #[arg(long, requires = "entrance")]
    pub profile: bool,
}

fn pair(text: &str) -> Result<(String, String), String> {
    match text.split_once('=') {
        Some((name, value)) if !name.is_empty() => Ok((name.to_owned(), value.to_owned())),
        _ => Err("write NAME=VALUE".to_owned()),
    }
}

#[derive(Debug, Args)]
pub struct Acts {
    #[command(subcommand)]
    pub what: Option<ActsCommand>,
    /// Only what was done so, such as publish or "end sessions"
    #[arg(long = "what", value_name = "WHAT")]
    pub what_done: Option<String>,
    /// Part of the name of whoever did it, or whom it concerned
    #[arg(long)]
    pub person: Option<String>,
    /// Not older than this: 24h, 7d, a date, or a moment (RFC 3339)
    #[arg(long)]
    pub since: Option<String>,
    /// Older than this, in the same words
    #[arg(long)]
    pub until: Option<String>,
    /// At most so many
    #[arg(long, default_value_t = 50, value_parser = clap::value_parser!(i64).range(1..=500))]
    pub limit: i64,
    /// All of them, page after page
    #[arg(long, conflicts_with = "limit")]
    pub all: bool,
}

#[derive(Debug, Subcommand)]
pub enum ActsCommand {
    /// Walk the whole record and name the first act that does not hold
    Check {
        /// A count from the log, to compare on the way
        #[arg(long, requires = "head")]
        number: Option<i64>,
        /// The head that the log shows with that count
        #[arg(long, requires = "number")]
        head: Option<String>,
    },
    /// Erase somebody's name from every act; the record still holds
    Erase { person: String },
}
