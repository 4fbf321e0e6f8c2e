//! Bodies of answers.

use http_body_util::combinators::BoxBody;
use http_body_util::{BodyExt, Full};
use hyper::body::Bytes;
use hyper::header::{CONTENT_LENGTH, CONTENT_TYPE, HeaderValue};
use hyper::{Response, StatusCode};

pub(super) type Body = BoxBody<Bytes, std::io::Error>;

pub(super) fn full(bytes: Bytes) -> Body {
    Full::new(bytes).map_err(|never| match never {}).boxed()
}

pub(super) fn whole(kind: &'static str, bytes: Bytes) -> Response<Body> {
    let length = bytes.len();
    let mut response = Response::new(full(bytes));
    response.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static(kind));
    response.headers_mut().insert(CONTENT_LENGTH, HeaderValue::from(length));
    response
}

/// Nothing.
pub(super) fn empty() -> Body {
    full(Bytes::new())
}

pub(super) fn with_status(status: StatusCode, text: &'static str) -> Response<Body> {
    with_status_and(status, text.to_owned())
}

/// A status with a sentence.
pub(super) fn with_status_and(status: StatusCode, text: String) -> Response<Body> {
    let mut response = whole("text/plain; charset=utf-8", text.into());
    *response.status_mut() = status;
    response
}
