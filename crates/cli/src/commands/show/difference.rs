//! `tamga show WHAT OTHER`: how two things differ, field by field.

use super::object::Object;
use crate::exit::{Done, Result};
use crate::words::{human, json};
use serde_json::Value;
use tamga_core::difference::{Thing, compare};
use tamga_core::error::Error;

pub(super) fn run(first: (&str, &[Object]), second: (&str, &[Object])) -> Result<Done> {
    let (a, b) = (thing(first)?, thing(second)?);
    let found = compare(&a, &b);
    let same_key = !found.iter().any(|d| d.field == "public key");
    let verdict = match (same_key, found.is_empty()) {
        (_, true) => human::good("no difference"),
        (true, false) => format!("{}; the key is the same", human::care("they differ")),
        (false, false) => format!("{}; the keys are not the same", human::care("they differ")),
    };
    let mut text = format!("{verdict}\n");
    if !found.is_empty() {
        let mut rows = vec![vec![human::dim("field"), human::dim(first.0), human::dim(second.0)]];
        let or_nothing = |s: &str| if s.is_empty() { human::dim("nothing") } else { briefly(s) };
        rows.extend(found.iter().map(|d| vec![human::strong(d.field), or_nothing(&d.first), or_nothing(&d.second)]));
        text.push_str(&human::table(&rows));
    }
    let rows: Vec<Value> =
        found.iter().map(|d| json!({"field": d.field, "first": d.first, "second": d.second})).collect();
    Ok(Done::good(text, json!({"objects": [], "differences": rows, "same_key": same_key})))
}

/// Fingerprints cut so that both columns fit a terminal; enough of them stays to tell them apart.
fn briefly(text: &str) -> String {
    const MOST: usize = 16;
    let word = |w: &str| match w.len() > 2 * MOST && w.bytes().all(|b| b.is_ascii_hexdigit()) {
        true => format!("{}…", &w[..MOST]),
        false => w.to_owned(),
    };
    text.split(' ').map(word).collect::<Vec<_>>().join(" ")
}

/// What stands for a file, folder or label: its certificate, else its request, else its key.
fn thing<'a>((typed, found): (&str, &'a [Object])) -> Result<Thing<'a>> {
    let certificate = found.iter().find_map(|o| match o {
        Object::Certificate(c) => Some(Thing::Certificate(c)),
        Object::Issued(i) => Some(Thing::Certificate(&i.certificate)),
        Object::Authority(a) => Some(Thing::Certificate(&a.certificate)),
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
