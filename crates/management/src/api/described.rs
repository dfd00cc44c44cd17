//! The API's description of itself (OpenAPI 3.1), made whole: what every call has in common is said here once, so that no call can
//! leave it out. Each call says beside its handler what is its own.

use http::StatusCode;
use utoipa::openapi::path::Operation;
use utoipa::openapi::security::{ApiKey, ApiKeyValue, HttpAuthScheme, HttpBuilder, SecurityRequirement, SecurityScheme};
use utoipa::openapi::{ContentBuilder, OpenApi, Ref, RefOr, ResponseBuilder};

/// What any call may be answered by.
const ANY: [StatusCode; 4] =
    [StatusCode::UNAUTHORIZED, StatusCode::FORBIDDEN, StatusCode::INTERNAL_SERVER_ERROR, StatusCode::SERVICE_UNAVAILABLE];

/// What a call with a body may be answered by, whatever it asks for.
const WITH_BODY: [StatusCode; 5] = [
    StatusCode::BAD_REQUEST,
    StatusCode::NOT_FOUND,
    StatusCode::PAYLOAD_TOO_LARGE,
    StatusCode::UNSUPPORTED_MEDIA_TYPE,
    StatusCode::UNPROCESSABLE_ENTITY,
];

/// What a status means in this API.
fn words(status: StatusCode) -> &'static str {
    match status {
        StatusCode::OK => "What was asked for.",
        StatusCode::NO_CONTENT => "It is done; there is nothing to say of it.",
        StatusCode::BAD_REQUEST => "The request cannot mean anything; `detail` says what it should be.",
        StatusCode::UNAUTHORIZED => "Nobody is signed in, or the token is not known, has run out or was revoked.",
        StatusCode::FORBIDDEN => "The role or the token does not reach that far, or a page of another site sent this.",
        StatusCode::NOT_FOUND => "There is no such thing; `detail` says what was looked for.",
        StatusCode::CONFLICT => "Something stands against it; `detail` says what, and what to do.",
        StatusCode::PRECONDITION_FAILED => "It was changed since it was read.",
        StatusCode::PAYLOAD_TOO_LARGE => "The body is larger than any call's may be.",
        StatusCode::UNSUPPORTED_MEDIA_TYPE => "The body is not said to be JSON.",
        StatusCode::UNPROCESSABLE_ENTITY => "The body is JSON and not what is wanted; `findings` lists mistakes of a site file.",
        StatusCode::PRECONDITION_REQUIRED => "The request does not say which version was read.",
        StatusCode::TOO_MANY_REQUESTS => "Too many of these wait already.",
        StatusCode::INTERNAL_SERVER_ERROR => "The store refused a query; see the service's log.",
        StatusCode::BAD_GATEWAY => "A provider or directory did not answer as it must.",
        StatusCode::SERVICE_UNAVAILABLE => "The store does not answer, or too much is being worked out just now.",
        _ => "See `detail`.",
    }
}

/// The description with what every call has in common.
pub fn whole(mut document: OpenApi) -> OpenApi {
    for item in document.paths.paths.values_mut() {
        item.get.iter_mut().for_each(|reads| complete(reads, &[]));
        for changes in [&mut item.put, &mut item.post, &mut item.delete, &mut item.patch].into_iter().flatten() {
            // Two changes at the same moment: the store takes one of them.
            complete(changes, &[StatusCode::CONFLICT]);
        }
    }
    let components = document.components.get_or_insert_default();
    let mut bearer = HttpBuilder::new().scheme(HttpAuthScheme::Bearer);
    bearer = bearer.description(Some("An API token: `passeur token create`, or the console's page."));
    components.add_security_scheme("token", SecurityScheme::Http(bearer.build()));
    let cookie = "The console's session. Calls that change something must carry the sign-in host as their `Origin`.";
    let session = ApiKeyValue::with_description("__Host-passeur-session", cookie);
    components.add_security_scheme("session", SecurityScheme::ApiKey(ApiKey::Cookie(session)));
    let none: [&str; 0] = [];
    document.security = Some(vec![SecurityRequirement::new("token", none), SecurityRequirement::new("session", none)]);
    document
}

fn complete(operation: &mut Operation, besides: &[StatusCode]) {
    let mut common = ANY.to_vec();
    common.extend(besides);
    if operation.request_body.is_some() {
        common.extend(WITH_BODY);
    }
    if operation.parameters.as_ref().is_some_and(|p| !p.is_empty()) {
        common.push(StatusCode::BAD_REQUEST);
    }
    let responses = &mut operation.responses.responses;
    for status in common {
        responses.entry(status.as_str().to_owned()).or_insert_with(|| RefOr::T(ResponseBuilder::new().build()));
    }
    for (code, response) in responses {
        let (Ok(status), RefOr::T(response)) = (code.parse::<StatusCode>(), response) else { continue };
        if response.description.is_empty() {
            response.description = words(status).to_owned();
        }
        if status.is_client_error() || status.is_server_error() {
            let problem = ContentBuilder::new().schema(Some(Ref::from_schema_name("Problem"))).build();
            response.content.clear();
            response.content.insert(passeur_signin::problem::PROBLEM.to_owned(), RefOr::T(problem));
        }
    }
}
