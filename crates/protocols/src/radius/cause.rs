//! Causes that clients give by numbers, by their names in the standards.

/// Why a session ended, as its client says (Acct-Terminate-Cause, RFC 2866 section 5.10).
pub fn terminate_cause(number: u32) -> Option<&'static str> {
    Some(match number {
        1 => "User-Request",
        2 => "Lost-Carrier",
        3 => "Lost-Service",
        4 => "Idle-Timeout",
        5 => "Session-Timeout",
        6 => "Admin-Reset",
        7 => "Admin-Reboot",
        8 => "Port-Error",
        9 => "NAS-Error",
        10 => "NAS-Request",
        11 => "NAS-Reboot",
        12 => "Port-Unneeded",
        13 => "Port-Preempted",
        14 => "Port-Suspended",
        15 => "Service-Unavailable",
        16 => "Callback",
        17 => "User-Error",
        18 => "Host-Request",
        _ => return None,
    })
}

/// Why an order was not carried out (Error-Cause, RFC 5176 section 3.5).
pub fn error_cause(number: u32) -> Option<&'static str> {
    Some(match number {
        201 => "Residual-Session-Context-Removed",
        202 => "Invalid-EAP-Packet",
        401 => "Unsupported-Attribute",
        402 => "Missing-Attribute",
        403 => "NAS-Identification-Mismatch",
        404 => "Invalid-Request",
        405 => "Unsupported-Service",
        406 => "Unsupported-Extension",
        407 => "Invalid-Attribute-Value",
        501 => "Administratively-Prohibited",
        502 => "Request-Not-Routable",
        503 => "Session-Context-Not-Found",
        504 => "Session-Context-Not-Removable",
        505 => "Other-Proxy-Processing-Error",
        506 => "Resources-Unavailable",
        507 => "Request-Initiated",
        508 => "Multiple-Session-Selection-Unsupported",
        _ => return None,
    })
}

/// The cause of a session that a client does not know, or knows no more.
pub const SESSION_NOT_FOUND: u32 = 503;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn causes_have_the_names_of_the_standards_and_others_none() {
        assert_eq!((terminate_cause(1), terminate_cause(18)), (Some("User-Request"), Some("Host-Request")));
        assert_eq!((terminate_cause(0), terminate_cause(19)), (None, None));
        assert_eq!(
            (error_cause(SESSION_NOT_FOUND), error_cause(505)),
            (Some("Session-Context-Not-Found"), Some("Other-Proxy-Processing-Error"))
        );
        assert_eq!(error_cause(0), None);
    }
}
