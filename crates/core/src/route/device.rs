//! What a browser says it runs on. Anybody may say anything here, so it chooses a way in and never lets anybody in.

use serde::{Deserialize, Serialize};

/// An operating system.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Platform {
    Windows,
    MacOs,
    Linux,
    Android,
    Ios,
    ChromeOs,
    #[default]
    Other,
}

impl Platform {
    /// Words of the site file, each with what it stands for.
    const WORDS: [(&'static str, Platform); 7] = [
        ("windows", Platform::Windows),
        ("macos", Platform::MacOs),
        ("linux", Platform::Linux),
        ("android", Platform::Android),
        ("ios", Platform::Ios),
        ("chromeos", Platform::ChromeOs),
        ("other", Platform::Other),
    ];

    /// As people call it; none where it is none of these.
    pub fn title(self) -> Option<&'static str> {
        match self {
            Platform::Windows => Some("Windows"),
            Platform::MacOs => Some("macOS"),
            Platform::Linux => Some("Linux"),
            Platform::Android => Some("Android"),
            Platform::Ios => Some("iOS"),
            Platform::ChromeOs => Some("ChromeOS"),
            Platform::Other => None,
        }
    }

    /// Of a word of the site file.
    pub fn of_word(word: &str) -> Option<Platform> {
        Platform::WORDS.iter().find(|(w, _)| *w == word).map(|(_, p)| *p)
    }

    fn word(self) -> &'static str {
        Platform::WORDS.iter().find(|(_, p)| *p == self).map_or("other", |(w, _)| w)
    }
}

/// What a browser runs on.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Device {
    pub platform: Platform,
    /// Held in the hand, rather than on a desk.
    pub mobile: bool,
}

/// Every word that a route may ask for.
pub fn words() -> impl Iterator<Item = &'static str> {
    Platform::WORDS.iter().map(|(w, _)| *w).chain(["mobile", "desktop"])
}

impl Device {
    /// From `User-Agent`, and from the client hints where they are sent (`Sec-CH-UA-Platform`, `Sec-CH-UA-Mobile`; UA Client
    /// Hints 3.3 and 3.5), which say it in one word.
    pub fn of(agent: &str, platform: Option<&str>, mobile: Option<&str>) -> Device {
        let hinted = platform.and_then(|p| by_hint(p.trim().trim_matches('"')));
        let platform = hinted.unwrap_or_else(|| by_agent(agent));
        let mobile = match mobile.map(str::trim) {
            Some("?1") => true,
            Some("?0") => false,
            _ => agent.contains("Mobi") || agent.contains("iPad"),
        };
        Device { platform, mobile }
    }

    /// Whether a word of a route is true of it.
    pub fn is(&self, word: &str) -> bool {
        match word {
            "mobile" => self.mobile,
            "desktop" => !self.mobile,
            other => self.platform.word() == other,
        }
    }

    /// The words that are true of it.
    pub fn words(&self) -> Vec<String> {
        vec![self.platform.word().to_owned(), if self.mobile { "mobile" } else { "desktop" }.to_owned()]
    }
}

/// One word where the site file has one: `"Chrome OS"` is `chromeos`.
fn by_hint(text: &str) -> Option<Platform> {
    let word = text.replace(' ', "").to_ascii_lowercase();
    let word = if word == "chromiumos" { "chromeos" } else { &word };
    Platform::WORDS.iter().find(|(w, p)| *w == word && *p != Platform::Other).map(|(_, p)| *p)
}

/// The more telling word stands first: some telephones call themselves what they are made of, or like a desk computer.
fn by_agent(agent: &str) -> Platform {
    let marks = [
        ("Android", Platform::Android),
        ("iPhone", Platform::Ios),
        ("iPad", Platform::Ios),
        ("CrOS", Platform::ChromeOs),
        ("Windows NT", Platform::Windows),
        ("Macintosh", Platform::MacOs),
        ("Linux", Platform::Linux),
    ];
    marks.into_iter().find(|(mark, _)| agent.contains(mark)).map_or(Platform::Other, |(_, p)| p)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn devices_are_told_apart_by_hints_and_by_agents() {
        for (agent, platform, mobile, wanted) in [
            ("Mozilla/5.0 (Windows NT 10.0; Win64; x64)", None, None, ["windows", "desktop"]),
            ("Mozilla/5.0 (X11; Linux x86_64)", None, None, ["linux", "desktop"]),
            ("Mozilla/5.0 (Linux; Android 15) Mobile Safari/537.36", None, None, ["android", "mobile"]),
            ("Mozilla/5.0 (iPhone; CPU iPhone OS 19_0 like Mac OS X) Mobile/15E148", None, None, ["ios", "mobile"]),
            ("Mozilla/5.0 (Macintosh; Intel Mac OS X 10_15_7)", None, None, ["macos", "desktop"]),
            ("Mozilla/5.0 (X11; CrOS x86_64 14541.0.0)", None, None, ["chromeos", "desktop"]),
            ("curl/8.14", None, None, ["other", "desktop"]),
            ("Mozilla/5.0 (X11; Linux x86_64)", Some("\"Windows\""), Some("?0"), ["windows", "desktop"]),
            ("anything", Some("\"Android\""), Some("?1"), ["android", "mobile"]),
            ("anything", Some("\"Chrome OS\""), Some("?0"), ["chromeos", "desktop"]),
            ("anything", Some("\"Chromium OS\""), None, ["chromeos", "desktop"]),
            ("anything", Some("\"macOS\""), None, ["macos", "desktop"]),
            ("Windows NT", Some("\"other\""), None, ["windows", "desktop"]),
            ("Windows NT", Some("\"Made up\""), Some("perhaps"), ["windows", "desktop"]),
        ] {
            let device = Device::of(agent, platform, mobile);
            assert_eq!(device.words(), wanted, "{agent} {platform:?}");
            assert!(wanted.iter().all(|w| device.is(w)) && !device.is("nothing"));
        }
    }
}
