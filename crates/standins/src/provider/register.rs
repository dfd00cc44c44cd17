//! Who may sign in, and which clients there are.

use serde::Deserialize;

/// The register, read from TOML.
#[derive(Clone, Debug, Deserialize)]
pub struct Register {
    #[serde(rename = "client")]
    pub clients: Vec<Client>,
    #[serde(rename = "person")]
    pub people: Vec<Person>,
}

/// A relying party.
#[derive(Clone, Debug, Deserialize)]
pub struct Client {
    pub id: String,
    pub secret: String,
    pub redirect_uris: Vec<String>,
    #[serde(default)]
    pub after_sign_out: Vec<String>,
    /// Where it hears of ended sessions: itself, and through the browser.
    #[serde(default)]
    pub back_channel: Option<String>,
    #[serde(default)]
    pub front_channel: Option<String>,
}

/// Somebody who may sign in.
#[derive(Clone, Debug, Deserialize)]
pub struct Person {
    pub user: String,
    pub password: String,
    /// The second factor: a fixed code, so that the demo can be tried by hand.
    pub code: String,
    pub sub: String,
    #[serde(default)]
    pub name: Option<String>,
    #[serde(default)]
    pub email: Option<String>,
    /// Identifiers of groups, released where there are any.
    #[serde(default)]
    pub groups: Vec<String>,
    /// Duties, released where there are any.
    #[serde(default)]
    pub duties: Vec<String>,
    /// Whether the user name is released as preferred_username.
    #[serde(default = "yes")]
    pub release_user: bool,
}

fn yes() -> bool {
    true
}

impl Register {
    /// Reads the register.
    ///
    /// # Errors
    /// What the TOML reader says.
    pub fn parse(text: &str) -> Result<Register, String> {
        toml::from_str(text).map_err(|e| e.to_string())
    }

    pub(super) fn client(&self, id: &str) -> Option<&Client> {
        self.clients.iter().find(|c| c.id == id)
    }

    pub(super) fn person(&self, user: &str) -> Option<&Person> {
        self.people.iter().find(|p| p.user == user)
    }
}
