//! As Firefox's profiles remember it: the file is `SiteSecurityServiceState.bin`, a table of slots of 286 octets, written within seconds of
//! the visit (measured with Firefox 153). A slot is a checksum (all its 16-bit words together are zero under exclusive or), a score, the day
//! of its last use, a key of 256 octets and a value of 24, both filled up with zeros. An empty slot is all zeros.
//!
//! The key is `host^partitionKey=%28https%2Csite%29`: the memory belongs to the site of the page in which the header came, and here to
//! the page itself. The value is `milliseconds since 1970,state,subdomains`, with 1 for a host that is remembered.

use super::Remembered;
use crate::plan::ports::Look;
use crate::stores::trust::firefox::profiles;
use crate::vocabulary::client_id::Client;
use crate::vocabulary::timestamp::Timestamp;

const FILE: &str = "SiteSecurityServiceState.bin";
/// Octets of a slot, and where its parts begin.
const SLOT: usize = 286;
const KEY: usize = 6;
const VALUE: usize = 262;

/// What the profiles remember of a host name.
pub(super) fn remembered(look: &dyn Look, host: &str) -> Vec<Remembered> {
    let mut out = Vec::new();
    for profile in profiles(look) {
        let file = profile.join(FILE);
        let Some(bytes) = look.read(&file) else { continue };
        let found = covering(&bytes, host, look.now());
        out.extend(found.map(|(domain, until)| Remembered { client: Client::Firefox, file, domain, until }));
    }
    out
}

/// The entry of one file that covers a host at a time: its own, or the nearest above it with subdomains.
fn covering(bytes: &[u8], host: &str, now: Timestamp) -> Option<(String, Timestamp)> {
    let host = host.trim_end_matches('.').to_ascii_lowercase();
    let entries = bytes.chunks_exact(SLOT).filter_map(Entry::read);
    let covers = |e: &Entry<'_>| {
        let is_above = e.below && host.strip_suffix(e.host).is_some_and(|rest| rest.ends_with('.'));
        let is_of_its_page =
            e.site.is_none_or(|site| host == site || host.strip_suffix(site).is_some_and(|rest| rest.ends_with('.')));
        e.until > now && (host == e.host || is_above) && is_of_its_page
    };
    entries.filter(covers).max_by_key(|e| e.host.len()).map(|e| (e.host.to_owned(), e.until))
}

struct Entry<'a> {
    host: &'a str,
    /// The domain of the page's site.
    site: Option<&'a str>,
    until: Timestamp,
    below: bool,
}

impl Entry<'_> {
    /// Reads a slot; None if it is empty, spoiled, or forgets a host.
    fn read(slot: &[u8]) -> Option<Entry<'_>> {
        let words = slot.chunks_exact(2).map(|w| u16::from_be_bytes([w[0], w[1]]));
        if words.fold(0, |sum, w| sum ^ w) != 0 {
            return None;
        }
        let (key, value) = (text(slot.get(KEY..VALUE)?)?, text(slot.get(VALUE..)?)?);
        let (host, attributes) = key.split_once('^').unwrap_or((key, ""));
        let partition = attributes.split('&').find_map(|a| a.strip_prefix("partitionKey="));
        let site = match partition {
            None => None,
            Some(p) => Some(site(p)?),
        };
        let mut parts = value.split(',');
        let milliseconds = parts.next()?.parse::<i64>().ok()?;
        let is_set = parts.next()? == "1";
        let below = parts.next()? == "1";
        (is_set && !host.is_empty()).then_some(())?;
        Some(Entry { host, site, until: Timestamp::from_unix(milliseconds / 1_000), below })
    }
}

/// What stands before the zeros.
fn text(part: &[u8]) -> Option<&str> {
    let end = part.iter().position(|b| *b == 0).unwrap_or(part.len());
    std::str::from_utf8(&part[..end]).ok()
}

/// The domain in `(scheme,domain)` or `(scheme,domain,port)`, with its signs escaped as in a URL.
fn site(partition: &str) -> Option<&str> {
    let inner = partition.strip_prefix("%28")?.strip_suffix("%29")?;
    inner.split("%2C").nth(1)
}

#[cfg(test)]
#[allow(clippy::unwrap_used, reason = "tests")]
mod tests {
    use super::*;

    fn slot(key: &str, value: &str) -> Vec<u8> {
        let mut slot = vec![0, 0, 0, 1, 0x51, 0x32];
        slot.extend(key.bytes().chain(std::iter::repeat(0)).take(256));
        slot.extend(value.bytes().chain(std::iter::repeat(0)).take(24));
        let sum = slot.chunks(2).fold(0, |sum, w| sum ^ u16::from_be_bytes([w[0], w[1]]));
        slot[..2].copy_from_slice(&sum.to_be_bytes());
        slot
    }

    fn found(file: &[u8], host: &str) -> Option<String> {
        covering(file, host, Timestamp::from_unix(1_000)).map(|(domain, _)| domain)
    }

    #[test]
    fn a_slot_is_read_as_firefox_wrote_it() {
        // The octets of Firefox 153, checksum 0a7a.
        let measured = slot("app.saltmarsh.test^partitionKey=%28https%2Csaltmarsh.test%29", "1804627758265,1,1");
        assert_eq!(measured[..6], [0x0a, 0x7a, 0, 1, 0x51, 0x32]);
        let (domain, until) = covering(&measured, "app.saltmarsh.test", Timestamp::from_unix(1_000)).unwrap();
        assert_eq!((domain.as_str(), until.unix()), ("app.saltmarsh.test", 1_804_627_758));
    }

    #[test]
    fn the_host_itself_and_what_is_above_it_count() {
        let of = |key: &str, value: &str, host: &str| found(&slot(key, value), host);
        assert!(of("charts.saltmarsh.test", "2000000,1,0", "Charts.Saltmarsh.test.").is_some(), "no partition is all");
        assert_eq!(of("charts.saltmarsh.test", "2000000,1,0", "a.charts.saltmarsh.test"), None);
        assert_eq!(of("saltmarsh.test", "2000000,1,1", "charts.saltmarsh.test").as_deref(), Some("saltmarsh.test"));
        assert_eq!(of("marsh.test", "2000000,1,1", "saltmarsh.test"), None, "only whole labels");
        assert_eq!(of("saltmarsh.test", "999000,1,1", "saltmarsh.test"), None, "it has passed");
        assert_eq!(of("saltmarsh.test", "2000000,0,1", "saltmarsh.test"), None, "it was forgotten");
        let of_another = "charts.saltmarsh.test^partitionKey=%28https%2Cother.test%29";
        assert_eq!(of(of_another, "2000000,1,1", "charts.saltmarsh.test"), None, "inside another site's page");
        let with_port = "app.test^userContextId=1&partitionKey=%28https%2Capp.test%2C8443%29";
        assert!(of(with_port, "2000000,1,0", "app.test").is_some());
        let both = [slot("saltmarsh.test", "2000000,1,1"), slot("charts.saltmarsh.test", "3000000,1,0")].concat();
        assert_eq!(found(&both, "charts.saltmarsh.test").as_deref(), Some("charts.saltmarsh.test"), "the nearest");
    }

    #[test]
    fn what_is_spoiled_is_nothing() {
        let whole = slot("saltmarsh.test", "2000000,1,1");
        for at in 0..whole.len() {
            let mut file = whole.clone();
            file[at] ^= 4;
            assert_eq!(found(&file, "saltmarsh.test"), None, "{at}");
        }
        for length in 0..SLOT {
            assert_eq!(found(&whole[..length], "saltmarsh.test"), None);
        }
        for value in ["", "x,1,1", "2000000", "2000000,1", ",,", "99999999999999999999,1,1"] {
            assert_eq!(found(&slot("saltmarsh.test", value), "saltmarsh.test"), None, "{value}");
        }
        for key in ["", "^partitionKey=", "saltmarsh.test^partitionKey=https", "saltmarsh.test^partitionKey=%28%29"] {
            assert_eq!(found(&slot(key, "2000000,1,1"), "saltmarsh.test"), None, "{key}");
        }
        assert_eq!(found(&vec![0; 3 * SLOT], "saltmarsh.test"), None, "empty slots");
    }
}
