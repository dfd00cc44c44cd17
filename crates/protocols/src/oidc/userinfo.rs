//! The userinfo answer (OpenID Connect Core 5.3).

use serde_json::{Map, Value};

use super::ValidIdToken;

/// Userinfo that may not be used.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BadUserInfo {
    #[error("status {0}")]
    Status(u16),
    #[error("the answer is not a JSON object")]
    NotJson,
    #[error("it is about {0}, another subject than the id_token's (OpenID Connect Core 5.3.2)")]
    OtherSubject(String),
}

/// Reads userinfo for the subject of a validated id_token; with any other `sub` nothing of it is used.
pub fn validate_userinfo(status: u16, body: &[u8], id_token: &ValidIdToken) -> Result<Map<String, Value>, BadUserInfo> {
    if status != 200 {
        return Err(BadUserInfo::Status(status));
    }
    let Ok(Value::Object(mut claims)) = serde_json::from_slice(body) else { return Err(BadUserInfo::NotJson) };
    if claims.get("sub").and_then(Value::as_str) != Some(id_token.subject()) {
        return Err(BadUserInfo::OtherSubject(
            claims.get("sub").map_or_else(|| "nobody".to_owned(), |s| s.as_str().map_or_else(|| s.to_string(), str::to_owned)),
        ));
    }
    claims.remove("sub");
    Ok(claims)
}
