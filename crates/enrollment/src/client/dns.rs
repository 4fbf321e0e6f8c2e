//! The answer to dns-01: a TXT record put in with a signed update (RFC 2136, RFC 8945), and taken out again.

use crate::validate::resolve;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use tamga_app::enroller::Wanted;
use tamga_app::failure::Result;
use tamga_core::enrollment::challenge;
use tamga_core::enrollment::dns::answer;
use tamga_core::enrollment::dns::tsig::{Algorithm, Key};
use tamga_core::enrollment::dns::update::{Change, meaning, update};
use tamga_core::enrollment::dns::{RecordType, name};
use tamga_core::enrollment::failure::Failure;
use tamga_core::error::Error;
use tamga_core::plan::ports::Entropy as _;
use tamga_core::vocabulary::text::Shown;
use tamga_host::entropy;

/// A server gets so long.
const PATIENCE: Duration = Duration::from_secs(10);
/// Seconds for which others may keep the record.
const TTL: u32 = 1;

/// A record that was put in.
pub(super) struct Record {
    pub(super) owner: String,
    server: SocketAddr,
    zone: String,
    text: Vec<u8>,
    key: Arc<Key>,
}

/// Puts the record in.
pub(super) async fn add(wanted: &Wanted<'_>, domain: &str, authorization: &str) -> Result<Record> {
    let owner = challenge::dns_name(domain);
    let (Some(server), Some(key)) = (wanted.origin.dns_update, &wanted.means.dns_key) else {
        return Err(Failure::NoChallenge {
            name: domain.to_owned(),
            offered: vec!["dns-01".into()],
            why: "--dns-update and --dns-key-file are needed".into(),
        }
        .into());
    };
    let what = wanted.origin.dns_key_file.as_ref().map_or("the key".to_owned(), |f| f.0.shown());
    let key = Arc::new(read_key(key, &what)?);
    let zone = zone(server, &owner).await.map_err(|why| failed(server, why))?;
    let record = Record { owner, server, zone, text: challenge::dns_value(authorization).into_bytes(), key };
    let change = Change::AddText { owner: record.owner.clone(), text: record.text.clone(), ttl: TTL };
    send(&record, &change).await?;
    Ok(record)
}

/// Takes it out.
pub(super) async fn remove(record: &Record) -> std::result::Result<(), Failure> {
    send(record, &Change::RemoveText { owner: record.owner.clone(), text: record.text.clone() }).await
}

fn failed(server: SocketAddr, why: impl Into<String>) -> Failure {
    Failure::Update { server: server.to_string(), why: why.into() }
}

async fn send(record: &Record, change: &Change) -> std::result::Result<(), Failure> {
    let mut id = [0; 2];
    entropy::System.fill(&mut id);
    let id = u16::from_be_bytes(id);
    let none = || failed(record.server, "the record has a name that DNS cannot have");
    let message = update(id, &record.zone, std::slice::from_ref(change)).ok_or_else(none)?;
    let signed = record.key.sign(&message, entropy::now()).ok_or_else(none)?;
    let answered = tokio::time::timeout(PATIENCE, resolve::over_tcp(record.server, &signed)).await;
    let answered =
        answered.map_err(|_| failed(record.server, "it did not answer"))?.map_err(|e| failed(record.server, e))?;
    match answer::code(&answered, id) {
        Some(0) => Ok(()),
        Some(code) => Err(failed(record.server, meaning(code))),
        None => Err(failed(record.server, "it answered something else")),
    }
}

/// The zone that a name is in, by the start of authority that the server names.
async fn zone(server: SocketAddr, owner: &str) -> std::result::Result<String, String> {
    let answer = resolve::ask(server, owner, RecordType::Soa).await?;
    answer.zone.ok_or_else(|| format!("it has no zone for {owner}"))
}

/// A key as name servers' own tools write it: `key "NAME" { algorithm hmac-sha256; secret "BASE64"; };`, or `ALGORITHM:NAME:BASE64`.
fn read_key(text: &str, what: &str) -> Result<Key> {
    use base64ct::{Base64, Encoding};
    let malformed = |why: &str| Error::Malformed { what: what.to_owned(), why: why.to_owned() };
    let plain: String = text
        .lines()
        .map(|l| l.split("//").next().unwrap_or_default().split('#').next().unwrap_or_default())
        .collect::<Vec<_>>()
        .join(" ");
    let one: Vec<&str> = plain.trim().splitn(3, ':').collect();
    let (algorithm, key_name, secret) = match one.as_slice() {
        [algorithm, key_name, secret] if !plain.contains('{') => {
            (algorithm.trim().to_owned(), key_name.trim().to_owned(), secret.trim().to_owned())
        }
        _ => {
            let words: Vec<&str> =
                plain.split(|c: char| c.is_whitespace() || "{};\"".contains(c)).filter(|w| !w.is_empty()).collect();
            let after = |word: &str| {
                words.iter().position(|w| *w == word).and_then(|at| words.get(at + 1)).map(|w| (*w).to_owned())
            };
            let found = (after("algorithm"), after("key"), after("secret"));
            let (Some(a), Some(k), Some(s)) = found else {
                return Err(malformed("it has no key NAME { algorithm …; secret …; }").into());
            };
            (a, k, s)
        }
    };
    let algorithm: Algorithm = algorithm.to_ascii_lowercase().parse()?;
    let secret = Base64::decode_vec(&secret).map_err(|_| malformed("its secret is no base64"))?;
    if name::written(&key_name).is_none() {
        return Err(malformed("its name is none").into());
    }
    Ok(Key::new(&key_name, algorithm, secret).ok_or_else(|| malformed("its name is none"))?)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_are_read_as_name_servers_write_them() {
        for good in [
            "key \"lab\" {\n\talgorithm hmac-sha256;\n\tsecret \"c2VjcmV0c2VjcmV0\";\n};\n",
            "key lab { algorithm hmac-sha512; secret c2VjcmV0; }; // a comment",
            "hmac-sha256:lab:c2VjcmV0",
        ] {
            assert!(read_key(good, "it").is_ok(), "{good}");
        }
        for bad in [
            "",
            "key lab { algorithm hmac-md5; secret c2VjcmV0; };",
            "key lab { secret c2VjcmV0; };",
            "hmac-sha256:lab:*",
        ] {
            assert!(read_key(bad, "it").is_err(), "{bad}");
        }
    }
}
