//! `krb5.conf` with all that it includes, as MIT Kerberos reads it: every line that counts with the place it stands at, and every
//! line that does not with why.
//!
//! Files are not opened here: whoever reads hands over each text, and is asked for what it includes.

use std::collections::BTreeMap;

use super::enctype;
pub use crate::Place;

/// The longest file that is read, in bytes; the most files, and how deep they may include each other.
pub const FILE_MAX: usize = 1 << 20;
const FILES_MAX: usize = 200;
const DEPTH_MAX: usize = 10;
const LINES_MAX: usize = 50_000;
const NESTED_MAX: usize = 8;

/// One setting.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Setting {
    /// Section, sub-sections and name: `libdefaults default_realm`, `realms HAVRELUNE.EXAMPLE kdc`.
    pub path: Vec<String>,
    pub value: String,
    pub place: Place,
}

impl Setting {
    fn is_at(&self, path: &[&str]) -> bool {
        self.path.len() == path.len() && self.path.iter().zip(path).all(|(a, b)| a == b)
    }
}

/// A line that is not as it should be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Trouble {
    pub place: Place,
    pub what: Wrong,
}

/// What is wrong with a line.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Wrong {
    #[error("it stands before the first [section]")]
    NoSection,
    #[error("it is neither a setting (name = value) nor a [section]")]
    NotUnderstood,
    #[error("a value in quotes does not end")]
    Quotes,
    #[error("a {{ has no }}")]
    Open,
    #[error("a }} has no {{")]
    Closed,
    #[error("{0} cannot be read: {1}")]
    Include(String, String),
    #[error("files include each other without an end")]
    Endless,
    #[error("there is more than can be read")]
    TooMuch,
}

/// What a line asks for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Include<'a> {
    File(&'a str),
    /// Every file of it whose name is letters, digits, hyphens and underscores alone, or ends with `.conf`; in order of names.
    Folder(&'a str),
}

/// Whether a file of an included folder is read.
pub fn is_included(name: &str) -> bool {
    let plain = |c: char| c.is_ascii_alphanumeric() || c == '-' || c == '_';
    !name.starts_with('.') && (name.ends_with(".conf") || (!name.is_empty() && name.chars().all(plain)))
}

/// A configuration as a whole.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Config {
    /// In the order in which they are found: the first counts where one value is wanted.
    pub settings: Vec<Setting>,
    pub troubles: Vec<Trouble>,
    /// Names of the files that were read, in order.
    pub files: Vec<String>,
}

/// Opens what a line includes: files, each with its name and text.
pub type Open<'o> = dyn FnMut(Include<'_>) -> Result<Vec<(String, String)>, String> + 'o;

struct Reading<'r, 'o> {
    out: Config,
    open: &'r mut Open<'o>,
    lines: usize,
    /// Paths that no later file may add to, and the file that said so.
    last: BTreeMap<Vec<String>, String>,
}

impl Config {
    /// Reads files in the order in which they count, and what they include.
    pub fn read(files: Vec<(String, String)>, open: &mut Open<'_>) -> Config {
        let mut reading = Reading { out: Config::default(), open, lines: 0, last: BTreeMap::new() };
        for (name, text) in files {
            reading.file(&name, &text, 0);
        }
        reading.out
    }

    /// Settings of one path, in order.
    pub fn all(&self, path: &[&str]) -> Vec<&Setting> {
        self.settings.iter().filter(|s| s.is_at(path)).collect()
    }

    /// The one that counts.
    pub fn one(&self, path: &[&str]) -> Option<&Setting> {
        self.settings.iter().find(|s| s.is_at(path))
    }

    /// A setting of `[libdefaults]`.
    pub fn of_defaults(&self, name: &str) -> Option<&Setting> {
        self.one(&["libdefaults", name])
    }

    /// The same as yes or no; what is neither is as if it were not there.
    pub fn flag(&self, name: &str, unless: bool) -> bool {
        self.of_defaults(name).and_then(|s| boolean(&s.value)).unwrap_or(unless)
    }

    /// The realm of whoever does not say one.
    pub fn default_realm(&self) -> Option<&str> {
        self.of_defaults("default_realm").map(|s| s.value.as_str())
    }

    /// Realms that `[realms]` names, in order.
    pub fn realms(&self) -> Vec<&str> {
        let mut out: Vec<&str> = vec![];
        for s in self.settings.iter().filter(|s| s.path.len() >= 3 && s.path[0] == "realms") {
            if !out.contains(&s.path[1].as_str()) {
                out.push(&s.path[1]);
            }
        }
        out
    }

    /// KDCs of a realm, as they are written.
    pub fn kdcs(&self, realm: &str) -> Vec<&str> {
        self.all(&["realms", realm, "kdc"]).into_iter().map(|s| s.value.as_str()).collect()
    }

    /// The realm of a host by `[domain_realm]`: the host itself, then each domain above it. None where the section does not say,
    /// which leaves it to the KDC, to DNS, or to the host's own domain.
    pub fn realm_of(&self, host: &str) -> Option<&Setting> {
        let host = host.to_ascii_lowercase();
        let mut rest = Some(host.as_str());
        while let Some(name) = rest.filter(|n| !n.is_empty()) {
            if let Some(found) = self.one(&["domain_realm", name]) {
                return Some(found);
            }
            rest = name.strip_prefix('.').or_else(|| name.find('.').map(|at| &name[at..]));
        }
        None
    }

    /// Encryption types of a list, as `permitted_enctypes` writes them: numbers where they are known, names where they are not.
    pub fn enctypes(&self, name: &str) -> Option<(Vec<i32>, Vec<String>)> {
        let list = self.of_defaults(name)?;
        let (mut known, mut unknown) = (vec![], vec![]);
        for word in list.value.split([' ', '\t', ',']).filter(|w| !w.is_empty()) {
            match enctype::number(word) {
                Some(n) => known.push(n),
                // Families, and words that add to the usual or take from it.
                None if enctype::is_family(word) => known.extend(enctype::family(word)),
                None => unknown.push(word.to_owned()),
            }
        }
        Some((known, unknown))
    }

    /// Lines that never count: another of the same name stands before them, and only one value is wanted.
    pub fn dead(&self) -> Vec<(&Setting, &Setting)> {
        let several =
            ["kdc", "admin_server", "kpasswd_server", "primary_kdc", "master_kdc", "auth_to_local", "plugins", "module"];
        let single = |s: &&Setting| {
            let named = |n: &String| !several.contains(&n.as_str()) && !n.starts_with("pkinit_");
            s.path.last().is_some_and(named) && s.path[0] != "plugins" && s.path[0] != "capaths"
        };
        let mut firsts: BTreeMap<&[String], &Setting> = BTreeMap::new();
        let mut out = vec![];
        for s in self.settings.iter().filter(single) {
            let first = *firsts.entry(&s.path).or_insert(s);
            if first.place != s.place {
                out.push((s, first));
            }
        }
        out
    }

    /// Settings of `[libdefaults]` that the library does not know, with the one that was most likely meant.
    pub fn unknown(&self) -> Vec<(&Setting, Option<&'static str>)> {
        let here = self.settings.iter().filter(|s| s.path.len() == 2 && s.path[0] == "libdefaults");
        here.filter(|s| !DEFAULTS.contains(&s.path[1].as_str())).map(|s| (s, nearest(&s.path[1]))).collect()
    }
}

/// What is odd about a configuration.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Oddity {
    /// A line cannot be read.
    Wrong,
    /// A line never counts.
    Repeated,
    /// There is no such setting.
    Unknown,
}

impl Config {
    /// Everything that is odd, with its place and words.
    pub fn oddities(&self) -> Vec<(Oddity, &Place, String)> {
        let wrong = self.troubles.iter().map(|t| (Oddity::Wrong, &t.place, t.what.to_string()));
        let repeated = self.dead().into_iter().map(|(line, first)| {
            (Oddity::Repeated, &line.place, format!("{} is set before, at {}", line.path.join(" "), first.place))
        });
        let unknown = self.unknown().into_iter().map(|(line, meant)| {
            let meant = meant.map(|m| format!("; {m} may be meant")).unwrap_or_default();
            (Oddity::Unknown, &line.place, format!("there is no setting {}{meant}", line.path[1]))
        });
        wrong.chain(repeated).chain(unknown).collect()
    }
}

/// Yes or no, as the library reads it.
pub fn boolean(value: &str) -> Option<bool> {
    match value.to_ascii_lowercase().as_str() {
        "y" | "yes" | "true" | "t" | "1" | "on" => Some(true),
        "n" | "no" | "false" | "nil" | "0" | "off" => Some(false),
        _ => None,
    }
}

/// What `[libdefaults]` may hold (MIT Kerberos, `krb5.conf(5)`).
const DEFAULTS: &[&str] = &[
    "allow_des3",
    "allow_rc4",
    "allow_weak_crypto",
    "canonicalize",
    "ccache_type",
    "clockskew",
    "default_ccache_name",
    "default_client_keytab_name",
    "default_keytab_name",
    "default_rcache_name",
    "default_realm",
    "default_tgs_enctypes",
    "default_tkt_enctypes",
    "dns_canonicalize_hostname",
    "dns_lookup_kdc",
    "dns_lookup_realm",
    "dns_uri_lookup",
    "enforce_ok_as_delegate",
    "err_fmt",
    "extra_addresses",
    "forwardable",
    "ignore_acceptor_hostname",
    "k5login_authoritative",
    "k5login_directory",
    "kcm_mach_service",
    "kcm_socket",
    "kdc_default_options",
    "kdc_timesync",
    "noaddresses",
    "permitted_enctypes",
    "plugin_base_dir",
    "preferred_preauth_types",
    "proxiable",
    "qualify_shortname",
    "rdns",
    "realm_try_domains",
    "renew_lifetime",
    "request_timeout",
    "safe_checksum_type",
    "spake_preauth_groups",
    "ticket_lifetime",
    "udp_preference_limit",
    "verify_ap_req_nofail",
    "ap_req_checksum_type",
    "kdc_req_checksum_type",
];

/// A known name that differs by one letter left out, added or changed, or by the kind of hyphen.
fn nearest(name: &str) -> Option<&'static str> {
    let plain = name.to_ascii_lowercase().replace('-', "_");
    DEFAULTS.iter().copied().find(|known| *known == plain || one_apart(known.as_bytes(), plain.as_bytes()))
}

fn one_apart(a: &[u8], b: &[u8]) -> bool {
    let (long, short) = if a.len() >= b.len() { (a, b) } else { (b, a) };
    let same = long.iter().zip(short).take_while(|(x, y)| x == y).count();
    match long.len() - short.len() {
        0 => same < long.len() && long[same + 1..] == short[same + 1..],
        1 => long[same + 1..] == short[same..],
        _ => false,
    }
}

impl Reading<'_, '_> {
    fn trouble(&mut self, place: Place, what: Wrong) {
        if self.out.troubles.len() < LINES_MAX {
            self.out.troubles.push(Trouble { place, what });
        }
    }

    fn file(&mut self, name: &str, text: &str, depth: usize) {
        let at = |line: usize| Place { file: name.to_owned(), line };
        if self.out.files.len() >= FILES_MAX || text.len() > FILE_MAX {
            return self.trouble(at(1), Wrong::TooMuch);
        }
        self.out.files.push(name.to_owned());
        // Each file begins with a section of its own.
        let mut path: Vec<String> = vec![];
        let mut opened: Vec<usize> = vec![];
        for (i, line) in text.lines().enumerate() {
            self.lines += 1;
            if self.lines > LINES_MAX {
                return self.trouble(at(i + 1), Wrong::TooMuch);
            }
            let line = line.trim_start();
            if line.is_empty() || line.starts_with(['#', ';']) {
                continue;
            }
            if let Some(wanted) = asks_for(line) {
                self.include(wanted, at(i + 1), depth);
                continue;
            }
            if line.starts_with("module ") && path.is_empty() {
                continue;
            }
            let line = line.trim_end();
            if !line.starts_with('[') {
                self.line(line, at(i + 1), &mut path, &mut opened);
                continue;
            }
            let Some(section) = section(line) else {
                self.trouble(at(i + 1), Wrong::NotUnderstood);
                continue;
            };
            if let Some(open) = opened.first() {
                self.trouble(at(*open), Wrong::Open);
            }
            (path, opened) = (vec![section.to_owned()], vec![]);
            if line.ends_with('*') {
                self.finish(&path, name);
            }
        }
        if let Some(open) = opened.first() {
            self.trouble(at(*open), Wrong::Open);
        }
    }

    /// What is final is not added to by files that come after.
    fn finish(&mut self, path: &[String], file: &str) {
        self.last.entry(path.to_vec()).or_insert_with(|| file.to_owned());
    }

    fn line(&mut self, line: &str, place: Place, path: &mut Vec<String>, opened: &mut Vec<usize>) {
        if path.is_empty() {
            return self.trouble(place, Wrong::NoSection);
        }
        if line.starts_with('}') {
            if opened.pop().is_none() {
                return self.trouble(place, Wrong::Closed);
            }
            if line.ends_with('*') {
                self.finish(path, &place.file);
            }
            path.pop();
            return;
        }
        let Some((name, value)) = line.split_once('=') else { return self.trouble(place, Wrong::NotUnderstood) };
        let name = name.trim();
        let (name, is_last) = name.strip_suffix('*').map_or((name, false), |n| (n.trim_end(), true));
        if name.is_empty() || name.contains([' ', '\t']) {
            return self.trouble(place, Wrong::NotUnderstood);
        }
        let value = value.trim();
        let whole: Vec<String> = path.iter().cloned().chain([name.to_owned()]).collect();
        if value == "{" {
            if path.len() >= NESTED_MAX {
                return self.trouble(place, Wrong::TooMuch);
            }
            opened.push(place.line);
            *path = whole;
            return;
        }
        let value = match unquoted(value) {
            Some(value) => value,
            None => return self.trouble(place, Wrong::Quotes),
        };
        let file = place.file.clone();
        let ended = (1..=whole.len()).any(|n| self.last.get(&whole[..n]).is_some_and(|f| *f != file));
        if !ended {
            self.out.settings.push(Setting { path: whole.clone(), value, place });
        }
        if is_last {
            self.finish(&whole, &file);
        }
    }

    fn include(&mut self, wanted: Include<'_>, place: Place, depth: usize) {
        if depth >= DEPTH_MAX {
            return self.trouble(place, Wrong::Endless);
        }
        let (Include::File(name) | Include::Folder(name)) = wanted;
        match (self.open)(wanted) {
            Ok(files) => files.iter().for_each(|(name, text)| self.file(name, text, depth + 1)),
            Err(why) => self.trouble(place, Wrong::Include(name.to_owned(), why)),
        }
    }
}

/// The name of `[section]`, which may be followed by a star.
fn section(line: &str) -> Option<&str> {
    line.strip_prefix('[')?.trim_end_matches('*').strip_suffix(']').filter(|name| !name.is_empty())
}

fn asks_for(line: &str) -> Option<Include<'_>> {
    let of = |word: &str| line.strip_prefix(word).filter(|r| r.starts_with([' ', '\t'])).map(str::trim).filter(|r| !r.is_empty());
    of("includedir").map(Include::Folder).or_else(|| of("include").map(Include::File))
}

/// A value without its quotes, where it has some.
fn unquoted(value: &str) -> Option<String> {
    let Some(inside) = value.strip_prefix('"') else { return Some(value.to_owned()) };
    let mut out = String::new();
    let mut chars = inside.chars();
    loop {
        match chars.next()? {
            '"' => return Some(out),
            '\\' => match chars.next()? {
                'n' => out.push('\n'),
                't' => out.push('\t'),
                'b' => out.push('\u{8}'),
                c => out.push(c),
            },
            c => out.push(c),
        }
    }
}
