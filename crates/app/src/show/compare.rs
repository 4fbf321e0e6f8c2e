//! How two things differ, field by field.

use super::find::{Object, find};
use crate::env::Env;
use crate::failure::Result;
use crate::secret::Secret;
use schemars::JsonSchema;
use serde::{Serialize, Serializer};
use tamga_core::error::Error;
use tamga_core::pki::difference::{self, Difference, Thing};

/// How two things differ, field by field.
#[derive(Serialize, JsonSchema)]
pub struct Differences {
    objects: [(); 0],
    /// Each difference.
    #[serde(serialize_with = "differences")]
    #[schemars(with = "Vec<DifferenceView<'static>>")]
    pub differences: Vec<Difference>,
    /// True if both are of the same key.
    pub same_key: bool,
}

#[derive(Serialize, JsonSchema)]
struct DifferenceView<'a> {
    field: &'a str,
    first: &'a str,
    second: &'a str,
}

fn differences<S: Serializer>(all: &[Difference], s: S) -> std::result::Result<S::Ok, S::Error> {
    s.collect_seq(all.iter().map(|d| DifferenceView { field: d.field, first: &d.first, second: &d.second }))
}

/// Compares two things.
///
/// Errors: nothing of that name; a thing that cannot be compared.
pub fn compare(env: &Env, first: &str, second: &str, secret: &Secret) -> Result<Differences> {
    let (a, b) = (find(env, first, secret)?, find(env, second, secret)?);
    let differences = difference::compare(&thing((first, &a))?, &thing((second, &b))?);
    let same_key = !differences.iter().any(|d| d.field == "public key");
    Ok(Differences { objects: [], differences, same_key })
}

/// What stands for a file, directory or label: its certificate, else its request, else its key.
fn thing<'a>((typed, found): (&str, &'a [Object])) -> Result<Thing<'a>> {
    let certificate = found.iter().find_map(|o| match o {
        Object::Certificate(c) => Some(Thing::Certificate(c)),
        Object::Issued(i) => Some(Thing::Certificate(&i.certificate)),
        Object::Authority(a, _) => Some(Thing::Certificate(&a.certificate)),
        _ => None,
    });
    let other = || {
        found.iter().find_map(|o| match o {
            Object::Request(r) => Some(Thing::Request(r)),
            Object::Waiting(w) => Some(Thing::Request(&w.csr)),
            Object::Key(k) => Some(Thing::Key(k)),
            _ => None,
        })
    };
    certificate.or_else(other).ok_or_else(|| {
        Error::Contradiction {
            what: format!("{typed} cannot be compared"),
            why: "only certificates, requests and open keys can".into(),
            instead: "for an encrypted key: tamga match PATH… --passphrase-file PATH".into(),
        }
        .into()
    })
}
