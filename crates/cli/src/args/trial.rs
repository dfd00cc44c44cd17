//! What a trial takes: `passeur trial`.

use std::path::PathBuf;

use clap::{Args, Subcommand};
use passeur_api::ProviderKind;

#[derive(Debug, Subcommand)]
pub enum Trial {
    /// Sign in through a provider with nothing switched, and see all that came back: prints an address to open, and waits
    SignIn {
        provider: String,
        /// With the draft instead of the live edition
        #[arg(long)]
        draft: bool,
        /// With a site file instead of the live edition
        #[arg(long, conflicts_with = "draft")]
        file: Option<PathBuf>,
        /// Show a trial that was begun before, by its id
        #[arg(long, conflicts_with_all = ["draft", "file"])]
        id: Option<String>,
        /// Also print the whole story at each gate
        #[arg(long)]
        full: bool,
    },
    /// Address, TLS, clock, issuer, keys, client and redirect address of a provider; of a SAML provider its metadata,
    /// certificates and consumer address
    Provider {
        name: String,
        #[command(flatten)]
        of: TrialOf,
        /// Of a provider that is in no document: oidc or saml
        #[arg(long, value_parser = super::provider_kind)]
        kind: Option<ProviderKind>,
        /// Where a SAML provider's metadata is
        #[arg(long)]
        metadata: Option<String>,
        #[arg(long)]
        issuer: Option<String>,
        #[arg(long)]
        client: Option<String>,
        /// A file that holds a client secret not stored yet
        #[arg(long, conflicts_with = "secret_version")]
        secret_file: Option<PathBuf>,
        /// A stored version of the secret, instead of the one in use
        #[arg(long, value_name = "VERSION")]
        secret_version: Option<i32>,
        #[arg(long)]
        ca_file: Option<String>,
    },
    /// Connect by an entrance of tunnels with nothing opened, and see all of it: says where, waits for the client, tells what came of it, and ends
    Entrance(TrialEntrance),
    /// Address, TLS, account, bases and a sample person of a directory
    Directory {
        name: String,
        #[command(flatten)]
        of: TrialOf,
        #[arg(long)]
        directory_url: Option<String>,
        #[arg(long)]
        start_tls: bool,
        #[arg(long)]
        account: Option<String>,
        /// A file that holds the account's password
        #[arg(long, conflicts_with = "secret_version")]
        password_file: Option<PathBuf>,
        /// A stored version of the password, instead of the one in use
        #[arg(long, value_name = "VERSION")]
        secret_version: Option<i32>,
        #[arg(long)]
        base: Option<String>,
        #[arg(long)]
        key: Option<String>,
        #[arg(long)]
        group_base: Option<String>,
        /// The key's value of somebody who should be found
        #[arg(long)]
        sample: Option<String>,
        #[arg(long)]
        ca_file: Option<String>,
    },
}

/// Where the values come from that are not given.
#[derive(Debug, Args)]
pub struct TrialOf {
    /// The draft's values instead of the live edition's; a stored secret goes where the live edition sends it, or for whoever stored it
    #[arg(long)]
    pub draft: bool,
    /// A site file's values instead of the live edition's
    #[arg(long, conflicts_with = "draft", value_name = "FILE")]
    pub file: Option<PathBuf>,
}

/// `passeur trial entrance`.
#[derive(Debug, Args)]
pub struct TrialEntrance {
    /// The entrance, as the site file names it
    #[arg(required_unless_present_any = ["id", "list"])]
    pub entrance: Option<String>,
    /// The address or network that the client connects from, as the VPN server sees it
    #[arg(long, value_name = "ADDRESS", conflicts_with_all = ["id", "list"])]
    pub from: Option<String>,
    /// Subject or name of the person who will sign in
    #[arg(long, value_name = "PERSON", conflicts_with_all = ["id", "list"])]
    pub person: Option<String>,
    /// Go on after the first connection; it ends half an hour after it was begun, or with --end
    #[arg(long, conflicts_with = "list")]
    pub keep: bool,
    /// Follow one that was begun before
    #[arg(long, conflicts_with_all = ["entrance", "list"])]
    pub id: Option<uuid::Uuid>,
    /// End the one of --id, and tunnels that came by it
    #[arg(long, requires = "id", conflicts_with = "keep")]
    pub end: bool,
    /// Those that go on
    #[arg(long, conflicts_with = "entrance")]
    pub list: bool,
}
