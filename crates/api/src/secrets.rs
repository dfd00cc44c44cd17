//! Secrets: told about, never told.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A secret's metadata; its value is never told.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Secret {
    pub name: String,
    /// 0 when it is named by the site and not stored yet.
    pub version: i32,
    pub changed_at: Option<DateTime<Utc>>,
    pub changed_by: Option<String>,
    /// What needs it.
    pub needed_by: Vec<String>,
}

/// A secret to store.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct SecretValue {
    pub value: String,
}

impl std::fmt::Debug for SecretValue {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let SecretValue { value: _ } = self;
        f.write_str("SecretValue(…)")
    }
}
