//! Reading of conditions about the client of a tunnel.

use super::fields::Fields;
use crate::site::{Condition, Version};

/// What clients of tunnels call the platforms that they run on (`IV_PLAT`).
const PLATFORMS: [&str; 10] = ["android", "freebsd", "haiku", "ios", "linux", "mac", "netbsd", "openbsd", "solaris", "win"];

/// Reads a condition about a tunnel, of one of the kinds that only these have.
pub(crate) fn read_condition(f: &Fields<'_, '_>, kind: &str, entrances: &[String]) -> Option<Condition> {
    match kind {
        "entrance" => {
            let all = f.some_texts("entrance")?;
            for e in all.iter().filter(|e| !entrances.contains(e)) {
                let remedy = match entrances {
                    [] => "Add an [[entrance]] with that name.".to_owned(),
                    some => format!("There are: {}.", some.join(", ")),
                };
                f.error("entrance", format!("there is no entrance \"{e}\""), remedy);
            }
            Some(Condition::Entrance(all))
        }
        "platform" => {
            let all = f.some_texts("platform")?;
            for p in all.iter().filter(|p| !PLATFORMS.contains(&p.as_str())) {
                let remedy = format!("Write what clients say of themselves: {}.", PLATFORMS.join(", "));
                f.error("platform", format!("no client says that it runs on \"{p}\""), remedy);
            }
            Some(Condition::Platform(all))
        }
        "client-version" => {
            let text = f.need("client-version", "\"2.6\"")?;
            let read = Version::parse(&text);
            if read.is_none() {
                f.error("client-version", format!("\"{text}\" is no version"), "Write the oldest that will do, such as \"2.6\".");
            }
            read.map(Condition::ClientVersion)
        }
        _ => Some(Condition::Profile(f.flag("profile", true))),
    }
}
