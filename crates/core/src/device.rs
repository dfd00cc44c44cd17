//! The device that somebody signs in on: what it says of itself, and what its certificate proves. Kept with the evidence of a sign-in; a
//! check of the site judges it (`condition::device`).
//!
//! A system and a version are claims: anybody can have a browser say anything. A certificate is proven in the handshake, and whether its authority
//! still stands by it is asked when it is shown. Here nothing is verified: the engine does, and keeps what it found ([`Judged`]) under a digest of
//! what it was asked to verify, so that what was found for other authorities counts for nothing.

use serde::{Deserialize, Serialize};

use crate::Moment;
use crate::route::device::{Device as Seen, Platform};
use crate::text::shorten;

/// The longest that is kept of anything that a device says.
const SAYS_MAX: usize = 60;
/// How long what an authority said of a certificate counts, in minutes, before it is asked again.
pub const ASKED_MINUTES: i64 = 15;

/// A device, as it was seen.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Device {
    pub at: Moment,
    /// The system that it says it runs on.
    pub platform: Platform,
    /// The system's version, where it says one that means anything.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub platform_version: Option<String>,
    /// The program that it says it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub program: Option<Program>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub program_version: Option<String>,
    /// The certificate that it proved to have.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub certificate: Option<Shown>,
    /// The checks that it passes, where somebody described it by hand.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub passes: Option<Vec<String>>,
}

/// A certificate that a device proved to have.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Shown {
    /// Whom it names.
    pub subject: String,
    /// Its serial number, in hexadecimal.
    pub serial: String,
    /// SHA-256 of the certificate, in hexadecimal.
    pub fingerprint: String,
    /// Its last moment; none where another server saw to that.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<Moment>,
    /// The chain as it was shown, its own first, in base64 (RFC 4648 section 4); empty where another server saw it, and told of it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub chain: Vec<String>,
    /// SHA-256 of the certificate of its authority, in hexadecimal, where another server verified that.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub issuer: Option<String>,
    /// What was found, for each kind of certificate that a check asks for.
    pub judged: Vec<Judged>,
}

/// What was found of a certificate.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Judged {
    /// What it was held against: [`crate::site::DeviceCertificate::digest`].
    pub of: String,
    pub at: Moment,
    #[serde(flatten)]
    pub standing: Standing,
}

/// How a certificate stands with its authority.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "standing", rename_all = "kebab-case")]
pub enum Standing {
    Good,
    /// It leads to none of the authorities, or is not good for what it is shown for.
    Bad {
        why: String,
    },
    /// Its authority took it back.
    Revoked,
    /// Its authority could not be asked.
    Unsure {
        why: String,
    },
}

impl Shown {
    /// What was found when it was held against what this is the digest of; none where it was not.
    pub fn held_against(&self, digest: &str) -> Option<&Judged> {
        self.judged.iter().find(|j| j.of == digest)
    }
}

impl Device {
    /// One of which nothing is known yet.
    fn at(at: Moment) -> Device {
        Device {
            at,
            platform: Platform::Other,
            platform_version: None,
            program: None,
            program_version: None,
            certificate: None,
            passes: None,
        }
    }

    /// What a browser says of itself (RFC 9110 10.1.5), and by client hints (UA Client Hints 3), which not every browser sends.
    pub fn of_browser(at: Moment, agent: &str, hint: impl Fn(&str) -> Option<String>) -> Device {
        let hinted = hint("sec-ch-ua-platform");
        let platform = Seen::of(agent, hinted.as_deref(), None).platform;
        let said = hint("sec-ch-ua-platform-version").map(|v| v.trim().trim_matches('"').to_owned()).filter(|v| !v.is_empty());
        let platform_version = match said {
            Some(version) => hinted_version(platform, &version),
            None => version_in(platform, agent),
        };
        let (program, program_version) = program_of(agent);
        Device { platform, platform_version, program, program_version, ..Device::at(at) }
    }

    /// What a tunnel's client says of itself.
    pub fn of_client(at: Moment, platform: Option<&str>, platform_version: Option<&str>, version: Option<&str>) -> Device {
        let platform = match platform {
            Some("win") => Platform::Windows,
            Some("mac") => Platform::MacOs,
            Some("linux") => Platform::Linux,
            Some("android") => Platform::Android,
            Some("ios") => Platform::Ios,
            _ => Platform::Other,
        };
        let platform_version = platform_version.and_then(leading_version).filter(|_| platform != Platform::Linux);
        let program_version = version.and_then(leading_version);
        Device { platform, platform_version, program: Some(Program::Client), program_version, ..Device::at(at) }
    }

    /// One that passes these checks and no other, as an engineer describes it.
    pub fn described(at: Moment, passes: Vec<String>) -> Device {
        Device { passes: Some(passes), ..Device::at(at) }
    }

    /// Whether it is the same as far as decisions go.
    pub fn is_as(&self, other: &Device) -> bool {
        let [mut a, mut b] = [self.clone(), other.clone()];
        a.forget_moments();
        b.forget_moments();
        a == b
    }

    /// Leaves out when it was seen and judged, which no decision hangs on.
    pub(crate) fn forget_moments(&mut self) {
        self.at = Moment::UNIX_EPOCH;
        self.certificate.iter_mut().flat_map(|c| &mut c.judged).for_each(|j| j.at = Moment::UNIX_EPOCH);
    }

    /// What it says of itself, in one line that is the same in every language.
    pub fn words(&self) -> String {
        let one = |name: Option<&str>, version: &Option<String>| {
            name.map(|n| version.as_ref().map_or_else(|| n.to_owned(), |v| format!("{n} {v}")))
        };
        let said =
            [one(self.platform.title(), &self.platform_version), one(self.program.map(Program::title), &self.program_version)];
        said.into_iter().flatten().collect::<Vec<_>>().join(", ")
    }
}

fn plain(text: &str) -> String {
    shorten(&text.chars().filter(|c| c.is_ascii_graphic()).collect::<String>(), SAYS_MAX)
}

/// The digits and points at the beginning of a text.
fn leading_version(text: &str) -> Option<String> {
    let end = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
    let version = text.get(..end)?.trim_end_matches('.');
    (!version.is_empty()).then(|| plain(version))
}

/// The version after a mark, with underscores read as points.
fn after(agent: &str, mark: &str) -> Option<String> {
    let (_, rest) = agent.split_once(mark)?;
    leading_version(&rest.replacen('_', ".", 4))
}

/// The system's version in `User-Agent`. Browsers froze some of them: a frozen one says nothing of the system that it runs on.
fn version_in(platform: Platform, agent: &str) -> Option<String> {
    match platform {
        // Every Windows since the tenth says 10.0, and every macOS since the eleventh 10.15.7.
        Platform::Windows => after(agent, "Windows NT ").filter(|v| v != "10.0"),
        Platform::MacOs => after(agent, "Mac OS X ").filter(|v| v != "10.15.7" && v != "10.15"),
        Platform::Android => after(agent, "Android ").filter(|_| !agent.contains("Android 10; K)")),
        Platform::Ios => after(agent, "iPhone OS ").or_else(|| after(agent, "CPU OS ")),
        Platform::Linux | Platform::ChromeOs | Platform::Other => None,
    }
}

/// A hinted version as people write it: Windows counts there by its interfaces (UA Client Hints 3.6), of which 1 to 10 are the tenth.
fn hinted_version(platform: Platform, version: &str) -> Option<String> {
    let version = leading_version(version)?;
    if platform != Platform::Windows {
        return Some(version);
    }
    match version.split('.').next().and_then(|major| major.parse::<u32>().ok())? {
        0 => None,
        1..=12 => Some("10".to_owned()),
        _ => Some("11".to_owned()),
    }
}

/// The browser that an agent says it is: those that say they are several are the one named last in the list of marks that fits.
fn program_of(agent: &str) -> (Option<Program>, Option<String>) {
    const MARKS: [(&str, Program); 9] = [
        ("Edg/", Program::Edge),
        ("EdgA/", Program::Edge),
        ("EdgiOS/", Program::Edge),
        ("OPR/", Program::Other),
        ("SamsungBrowser/", Program::Other),
        ("FxiOS/", Program::Firefox),
        ("Firefox/", Program::Firefox),
        ("CriOS/", Program::Chrome),
        ("Chrome/", Program::Chrome),
    ];
    if let Some((mark, program)) = MARKS.into_iter().find(|(mark, _)| agent.contains(mark)) {
        return (Some(program), after(agent, mark));
    }
    match agent.contains("Safari/") {
        true => (Some(Program::Safari), after(agent, "Version/")),
        false => (None, None),
    }
}

/// A browser, or the client of a tunnel.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Program {
    Chrome,
    Edge,
    Firefox,
    Safari,
    /// A browser that is none of these.
    Other,
    /// The client of a tunnel.
    Client,
}

impl Program {
    /// With the words of a site file; the tunnel's client has a key of its own.
    pub const WORDS: [(&'static str, Program); 5] = [
        ("chrome", Program::Chrome),
        ("edge", Program::Edge),
        ("firefox", Program::Firefox),
        ("safari", Program::Safari),
        ("other", Program::Other),
    ];

    /// As people call it.
    pub fn title(self) -> &'static str {
        match self {
            Program::Chrome => "Chrome",
            Program::Edge => "Edge",
            Program::Firefox => "Firefox",
            Program::Safari => "Safari",
            Program::Other => "another browser",
            Program::Client => "tunnel client",
        }
    }

    /// Whether a check of this one concerns a device that says it is another: a browser is not asked about tunnel clients.
    pub fn is_of(self, other: Option<Program>) -> bool {
        (self == Program::Client) == (other == Some(Program::Client))
    }
}

/// What one part of a check says of a device; kept in steps.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "part", rename_all = "kebab-case")]
pub enum Says {
    /// Nothing is known of the device.
    Unknown,
    /// Described by hand, as one that passes the check or does not.
    Described {
        passes: bool,
    },
    NoCertificate,
    /// The certificate is one of these authorities, and good.
    Certificate {
        subject: String,
    },
    CertificateOver {
        subject: String,
        until: String,
    },
    CertificateBad {
        subject: String,
        why: String,
    },
    CertificateRevoked {
        subject: String,
    },
    CertificateUnsure {
        subject: String,
        why: String,
    },
    /// It was judged by another edition, for other authorities.
    CertificateNotJudged {
        subject: String,
    },
    /// What it says it runs on, or is; and what would do.
    Claims {
        says: String,
        wanted: String,
    },
    /// It does not say what it runs on, or of which version.
    Untold {
        says: String,
        wanted: String,
    },
}

impl Says {
    /// In a few words; `say` takes the language's.
    pub fn words(&self, say: impl Fn(&str, &str) -> String) -> String {
        match self {
            Says::Unknown => say("nothing is known of the device", "rien n'est connu de l'appareil"),
            Says::Described { passes: true } => say("described as one that passes", "décrit comme conforme"),
            Says::Described { passes: false } => say("described as one that does not pass", "décrit comme non conforme"),
            Says::NoCertificate => say("the device showed no certificate", "l'appareil n'a présenté aucun certificat"),
            Says::Certificate { subject } => format!("{} {subject}", say("a good certificate of", "un certificat valable de")),
            Says::CertificateOver { subject, until } => {
                format!(
                    "{} {subject} {} {until}",
                    say("the certificate of", "le certificat de"),
                    say("ran out on", "a expiré le")
                )
            }
            Says::CertificateBad { subject, why } => {
                format!(
                    "{} {subject} {}: {why}",
                    say("the certificate of", "le certificat de"),
                    say("does not count", "ne vaut pas")
                )
            }
            Says::CertificateRevoked { subject } => format!(
                "{} {subject} {}",
                say("the certificate of", "le certificat de"),
                say("was revoked by its authority", "a été révoqué par son autorité")
            ),
            Says::CertificateUnsure { subject, why } => format!(
                "{} {subject} {}: {why}",
                say("whether the certificate of", "on ne sait si le certificat de"),
                say("was revoked is not known", "a été révoqué")
            ),
            Says::CertificateNotJudged { subject } => format!(
                "{} {subject} {}",
                say("the certificate of", "le certificat de"),
                say(
                    "was not held against this check: it is at the next sign-in",
                    "n'a pas été soumis à ce contrôle : il le sera à la prochaine connexion"
                )
            ),
            Says::Claims { says, wanted } => {
                format!("{} {says} ({} {wanted})", say("it says it is", "il se dit"), say("wanted:", "voulu :"))
            }
            Says::Untold { says, wanted } if says.is_empty() => {
                format!(
                    "{} ({} {wanted})",
                    say("it does not say what it is", "il ne dit pas ce qu'il est"),
                    say("wanted:", "voulu :")
                )
            }
            Says::Untold { says, wanted } => format!(
                "{} {says}, {} ({} {wanted})",
                say("it says it is", "il se dit"),
                say("and not of which version", "sans dire de quelle version"),
                say("wanted:", "voulu :")
            ),
        }
    }
}
