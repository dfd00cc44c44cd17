//! What was read of a host, as data.

/// A line of a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Line {
    pub file: String,
    /// From 1; 0 where there is no line yet.
    pub line: usize,
    /// As it is written, without its end.
    pub text: String,
}

impl std::fmt::Display for Line {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}:{}", self.file, self.line)
    }
}

/// A value, and the line that set it; none where nothing does, and it is what the program takes by itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Set<T> {
    pub value: T,
    pub at: Option<Line>,
}

impl<T> Set<T> {
    /// What the program takes by itself.
    pub fn unless_set(value: T) -> Set<T> {
        Set { value, at: None }
    }
}

/// Everything.
#[derive(Clone, Debug)]
pub struct Facts {
    /// Who is to come in: a principal.
    pub person: String,
    pub names: Names,
    pub config: Result<Config, NoConfig>,
    pub keytab: Keytab,
    pub sshd: Sshd,
    pub account: Account,
    pub pam: Vec<PamTrouble>,
    pub onward: Onward,
}

/// What the host is called.
#[derive(Clone, Debug, Default)]
pub struct Names {
    /// `/etc/hostname`.
    pub own: String,
    /// What the server takes itself for: what that is by `/etc/hosts` or by DNS; where krb5.conf has names left as they are, itself,
    /// with the domain that short names are completed by.
    pub canonical: String,
    /// Whether names are left as they are.
    pub left_as_it_is: bool,
    /// The line of `/etc/hosts` or `/etc/hostname` that says so.
    pub at: Option<Line>,
    /// Every name of it in `/etc/hosts`.
    pub all: Vec<String>,
}

/// There is no krb5.conf that could be read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NoConfig {
    pub path: String,
    /// It is a link, which leads to nothing: from where to where.
    pub dead_link: Option<(String, String)>,
    pub words: String,
}

/// krb5.conf with all that it includes.
#[derive(Clone, Debug, Default)]
pub struct Config {
    pub path: String,
    /// The line of an environment that names another file than the usual one: the line, that other, and the usual one.
    pub elsewhere: Option<(Line, String, String)>,
    /// Names of files that are the same file, or hold the same.
    pub twice: Option<(String, String)>,
    pub troubles: Vec<(Line, String)>,
    /// Lines that never count, each with its name and the one that does.
    pub dead: Vec<(Line, String, Line)>,
    pub default_realm: Option<Set<String>>,
    /// A line of `[libdefaults]` to stand before; none where there is no such section.
    pub defaults_at: Option<Line>,
    /// Whether somebody finds the KDC of the default realm.
    pub finds_kdc: bool,
    /// What `[domain_realm]` says of this host.
    pub realm_of_host: Option<Set<String>>,
    /// Encryption types that are allowed, where a line restricts them.
    pub permitted: Option<Set<Vec<i32>>>,
    pub forwardable: Option<Set<bool>>,
    /// Whether names are made canonical before a ticket is asked for.
    pub canonicalizes: bool,
    /// By what short names are completed, where a line says so; empty where they are not.
    pub qualifies: Option<String>,
}

/// The host's keys.
#[derive(Clone, Debug)]
pub struct Keytab {
    pub path: String,
    pub state: KeytabState,
}

/// Whether they can be used.
#[derive(Clone, Debug)]
pub enum KeytabState {
    Missing,
    Broken(String),
    Read {
        /// Bits of its mode.
        mode: u32,
        keys: Vec<HostKey>,
    },
}

/// One key.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HostKey {
    /// Whole.
    pub principal: String,
    pub enctype: i32,
    pub enctype_name: String,
    pub weak: bool,
}

impl HostKey {
    /// The host of `host/NAME@REALM`, and the realm.
    pub fn host(&self) -> Option<(&str, &str)> {
        let (name, realm) = self.principal.rsplit_once('@')?;
        Some((name.strip_prefix("host/")?, realm))
    }
}

/// The server, as it treats this person.
#[derive(Clone, Debug)]
pub struct Sshd {
    pub path: String,
    /// Whether there is a server at all: its configuration, or a program that tells of it.
    pub is_there: bool,
    pub gssapi: Set<bool>,
    /// The condition of the block that sets it, where one does.
    pub gssapi_block: Option<Line>,
    /// Whether tickets for its own name alone are taken.
    pub strict: Set<bool>,
    /// Lists of methods; none where any one will do.
    pub methods: Option<Set<Vec<String>>>,
    /// Why the account may not come in at all.
    pub refused: Option<(Line, String)>,
    /// Whether the account may come in with a ticket where it is root's.
    pub permits_root: Set<bool>,
    pub dead: Vec<(Line, String, Line)>,
    /// Files that were changed after the server began: the file, and since when it runs.
    pub older: Option<(String, String)>,
    pub troubles: Vec<(Line, String)>,
}

/// The account that the person is.
#[derive(Clone, Debug)]
pub struct Account {
    /// By the rules of krb5.conf, with the line; or why none.
    pub mapped: Result<(String, Option<Line>), String>,
    /// The account that is asked for: what the client offers, or what the rules say.
    pub user: String,
    /// Its shell; none where the machine has no such account.
    pub shell: Option<String>,
    pub k5login: Option<K5login>,
}

/// `.k5login` of an account.
#[derive(Clone, Debug)]
pub struct K5login {
    pub path: String,
    pub lists: bool,
    /// Its last line, after which another may stand.
    pub last: usize,
    /// Why it is not to be trusted, if it is not.
    pub unsafe_for: Option<String>,
}

/// What is wrong with the stack of PAM.
#[derive(Clone, Debug)]
pub enum PamTrouble {
    /// A line that cannot be followed.
    Broken(Line, String),
    /// A module that is not installed, where a refusal counts.
    NoModule(Line, String),
    /// Kerberos stands after a line at which everybody ends who has no local password.
    Late { kerberos: Line, ends: Line },
}

/// How the next host came to be looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Chosen {
    Named,
    /// One of the same domain, in the place of any.
    OfDomain,
    /// Neither was one named nor is a domain known.
    Anyhow,
}

/// Going on from here to another host.
#[derive(Clone, Debug)]
pub struct Onward {
    /// As it is typed.
    pub to: String,
    /// Which host that is was said; otherwise it stands for any of this host's domain, where that is known.
    pub chosen: Chosen,
    pub path: String,
    /// Whether there is a client at all: its configuration, or a program that tells of it.
    pub is_there: bool,
    /// Whether its configuration is a file that lines can be written into.
    pub has_file: bool,
    pub gssapi: Set<bool>,
    pub delegates: Set<bool>,
    pub preferred: Option<Set<String>>,
    /// The name that a ticket is asked for.
    pub name: Set<String>,
}
