//! What comes back from the provider by way of the browser (OpenID Connect Core 3.1.2.5 and 3.1.2.6, RFC 9207).

use url::form_urlencoded;

/// The longest query of an answer that is read.
const QUERY_MAX: usize = 16 * 1024;

/// The provider's answer, before any check of state.
#[derive(Clone, PartialEq, Eq)]
pub enum Answer {
    /// A code to exchange.
    Code { code: String, state: String, iss: Option<String> },
    /// The provider's refusal, in its own words (RFC 6749 4.1.2.1).
    Refused { error: String, description: String, state: Option<String>, iss: Option<String> },
}

impl std::fmt::Debug for Answer {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Answer::Code { code: _, state: _, iss } => write!(f, "Code(iss {iss:?})"),
            Answer::Refused { error, description, state: _, iss } => {
                write!(f, "Refused({error:?}, {description:?}, iss {iss:?})")
            }
        }
    }
}

/// An answer that follows no standard.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BadAnswer {
    #[error("the parameter {0} stands twice")]
    Twice(&'static str),
    #[error("there is neither code nor error")]
    Neither,
    #[error("there are both code and error")]
    Both,
    #[error("there is no state")]
    NoState,
    #[error("it is too long")]
    TooLong,
}

const NAMES: [&str; 5] = ["code", "state", "iss", "error", "error_description"];

/// Reads the query of the redirect back. A parameter that stands twice is refused (RFC 6749 3.1).
pub fn parse_answer(query: &str) -> Result<Answer, BadAnswer> {
    if query.len() > QUERY_MAX {
        return Err(BadAnswer::TooLong);
    }
    let mut found: [Option<String>; 5] = Default::default();
    for (name, value) in form_urlencoded::parse(query.as_bytes()) {
        if let Some(i) = NAMES.iter().position(|n| *n == name)
            && found[i].replace(value.into_owned()).is_some()
        {
            return Err(BadAnswer::Twice(NAMES[i]));
        }
    }
    let [code, state, iss, error, description] = found.map(|v| v.filter(|v| !v.is_empty()));
    match (code, error) {
        (Some(code), None) => Ok(Answer::Code { code, state: state.ok_or(BadAnswer::NoState)?, iss }),
        (None, Some(error)) => Ok(Answer::Refused { error, description: description.unwrap_or_default(), state, iss }),
        (Some(_), Some(_)) => Err(BadAnswer::Both),
        (None, None) => Err(BadAnswer::Neither),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn answers_are_read_and_anything_odd_is_refused() {
        let code = Answer::Code { code: "c".into(), state: "s".into(), iss: None };
        let refused = Answer::Refused {
            error: "access_denied".into(),
            description: "not you".into(),
            state: Some("s".into()),
            iss: Some("https://p".into()),
        };
        for (query, want) in [
            ("code=c&state=s", Ok(code.clone())),
            ("code=c&state=s&session_state=x&session_state=y", Ok(code)),
            ("error=access_denied&error_description=not+you&state=s&iss=https%3A%2F%2Fp", Ok(refused)),
            ("code=c&code=d&state=s", Err(BadAnswer::Twice("code"))),
            ("code=c&state=s&state=s", Err(BadAnswer::Twice("state"))),
            ("code=c", Err(BadAnswer::NoState)),
            ("code=&state=s", Err(BadAnswer::Neither)),
            ("", Err(BadAnswer::Neither)),
            ("code=c&error=e&state=s", Err(BadAnswer::Both)),
        ] {
            assert_eq!(parse_answer(query), want, "{query}");
        }
        assert_eq!(parse_answer(&"a".repeat(QUERY_MAX + 1)), Err(BadAnswer::TooLong));
    }
}
