//! Names in the hosts file: a marked block of ours; every other byte stays.
//!
//! A line is an address and the names that it is reached by (hosts(5)); `#` begins a remark. Of several addresses of one
//! family the first counts.

use crate::error::{Error, Result};
use crate::vocabulary::name::Name;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::str::FromStr;

const BEGIN: &str = "# tamga: begin";
const END: &str = "# tamga: end";
const WORDS: &str = " (names for tests; tamga hosts remove takes them out)";

/// A name and the addresses that it is to have.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Wanted {
    /// The host, as A-labels.
    pub name: String,
    /// Its addresses.
    pub addresses: Vec<IpAddr>,
    /// True where the addresses were typed.
    pub typed: bool,
}

/// How one name and address stand, and what became of them.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Row {
    /// The host.
    pub name: String,
    /// The address; None for a name that needs none.
    pub address: Option<IpAddr>,
    /// How it stands after the change.
    pub state: State,
    /// What was done: `added`, `removed`, `none`.
    pub change: &'static str,
    /// Why, where that is not plain.
    pub why: Option<String>,
}

crate::words! {
    /// How a name stands.
    pub enum State: "state" {
        /// In our block, or in a line that was there.
        Present = "present",
        /// In no line.
        Absent = "absent",
        /// Another address comes first.
        Elsewhere = "elsewhere",
        /// It means this machine without any line.
        NotNeeded = "not-needed",
    }
}

/// The file as it is to be, and the rows about it.
#[derive(Debug)]
pub struct Plan {
    /// The new contents.
    pub text: Vec<u8>,
    /// One row a name and address.
    pub rows: Vec<Row>,
    /// True if our block is in it then.
    pub has_block: bool,
}

impl Wanted {
    /// Reads `NAME` or `NAME=ADDRESS`.
    ///
    /// Errors: what is no host name; a wildcard, which no hosts file knows; an address that is none.
    ///
    /// ```
    /// use tamga_core::deploy::hosts::Wanted;
    ///
    /// assert!(Wanted::parse("charts.saltmarsh.test=10.0.0.7").is_ok());
    /// assert!(Wanted::parse("*.saltmarsh.test").is_err(), "a hosts file knows no wildcards");
    /// # Ok::<(), tamga_core::error::Error>(())
    /// ```
    pub fn parse(typed: &str) -> Result<Wanted> {
        let (name, address) = match typed.split_once('=') {
            Some((name, address)) => (name, Some(address)),
            None => (typed, None),
        };
        let refuse =
            |why: &str, instead: String| Err(Error::Name { typed: typed.to_owned(), why: why.to_owned(), instead });
        let name = match Name::from_str(name)? {
            Name::Dns(d) => match d.strip_prefix("*.") {
                Some(rest) => {
                    let instead = format!("name each host: tamga hosts add www.{rest}");
                    return refuse("a hosts file knows no wildcards", instead);
                }
                None => d,
            },
            Name::Ip(_) => return refuse("an address needs no line in the hosts file", "leave it away".into()),
            _ => return refuse("it is no host", "type a name such as charts.saltmarsh.test".into()),
        };
        let addresses = match address {
            None => vec![Ipv4Addr::LOCALHOST.into(), Ipv6Addr::LOCALHOST.into()],
            Some(a) => match a.trim_matches(['[', ']']).parse() {
                Ok(a) => vec![a],
                Err(_) => return refuse("what follows the = is no address", format!("type {name}=192.168.7.7")),
            },
        };
        Ok(Wanted { name, addresses, typed: address.is_some() })
    }

    fn needs_none(&self) -> bool {
        !self.typed && (self.name == "localhost" || self.name.ends_with(".localhost"))
    }
}

/// The file taken apart: what is not ours, byte by byte, and the pairs of our block.
struct Parted<'a> {
    before: Vec<&'a [u8]>,
    after: Vec<&'a [u8]>,
    ours: Vec<(String, IpAddr)>,
    line_end: &'static str,
}

fn part(text: &[u8]) -> Result<Parted<'_>> {
    // A lone carriage return at the end becomes half of a line end as soon as our block follows it.
    let line_end = if text.ends_with(b"\r") || text.windows(2).any(|w| w == b"\r\n") { "\r\n" } else { "\n" };
    let mut parted = Parted { before: Vec::new(), after: Vec::new(), ours: Vec::new(), line_end };
    let (mut inside, mut seen) = (false, false);
    for line in text.split_inclusive(|b| *b == b'\n') {
        let words = String::from_utf8_lossy(line);
        let words = words.trim();
        match (inside, words) {
            (false, w) if w.starts_with(BEGIN) => (inside, seen) = (true, true),
            (true, w) if w.starts_with(END) => inside = false,
            (true, w) => parted.ours.extend(pairs(w)),
            (false, _) if seen => parted.after.push(line),
            (false, _) => parted.before.push(line),
        }
    }
    if inside {
        return Err(Error::Malformed {
            what: "the hosts file".into(),
            why: format!("the block that begins with {BEGIN:?} has no end"),
        });
    }
    Ok(parted)
}

/// The names of a line, each with its address.
fn pairs(line: &str) -> Vec<(String, IpAddr)> {
    let bare = line.split('#').next().unwrap_or_default();
    let mut words = bare.split_whitespace();
    // A zone behind the address does not matter here.
    let address = words.next().and_then(|a| a.split('%').next()?.parse().ok());
    // The root alone, a dot, names no host.
    let names = words.map(|n| n.trim_end_matches('.').to_lowercase()).filter(|n| !n.is_empty());
    address.map_or_else(Vec::new, |a| names.map(|n| (n, a)).collect())
}

impl Parted<'_> {
    /// The lines of others that name this host: line number and address.
    fn others(&self, name: &str) -> Vec<(usize, IpAddr)> {
        let block = if self.ours.is_empty() { 0 } else { self.ours.len() + 2 };
        let numbered = self.before.iter().enumerate().map(|(i, l)| (i + 1, l));
        let rest = self.after.iter().enumerate().map(|(i, l)| (self.before.len() + block + i + 1, l));
        numbered
            .chain(rest)
            .flat_map(|(n, l)| pairs(&String::from_utf8_lossy(l)).into_iter().map(move |(name, a)| (n, name, a)))
            .filter(|(_, n, _)| n == name)
            .map(|(n, _, a)| (n, a))
            .collect()
    }

    /// The row of one name and address as things are.
    fn row(&self, name: &str, address: IpAddr) -> Row {
        let row = |state, why| Row { name: name.to_owned(), address: Some(address), state, change: "none", why };
        let others = self.others(name);
        if let Some((line, _)) = others.iter().find(|(_, a)| *a == address) {
            return row(State::Present, Some(format!("line {line} says so")));
        }
        if let Some((line, other)) = others.iter().find(|(_, a)| a.is_ipv4() == address.is_ipv4()) {
            let why = format!("line {line} gives it {other}: change or remove that line");
            return row(State::Elsewhere, Some(why));
        }
        match self.ours.iter().any(|(n, a)| n == name && *a == address) {
            true => row(State::Present, None),
            false => row(State::Absent, None),
        }
    }

    fn plan(&self, rows: Vec<Row>) -> Plan {
        let mut text: Vec<u8> = self.before.concat();
        if !self.ours.is_empty() {
            if text.last().is_some_and(|b| *b != b'\n') {
                text.extend(self.line_end.bytes());
            }
            let mut lines = vec![format!("{BEGIN}{WORDS}")];
            lines.extend(self.ours.iter().map(|(n, a)| format!("{a} {n}")));
            lines.push(END.into());
            text.extend(lines.iter().flat_map(|l| format!("{l}{}", self.line_end).into_bytes()));
        }
        text.extend(self.after.concat());
        Plan { text, rows, has_block: !self.ours.is_empty() }
    }
}

/// Adds names. An address that another line contradicts is not added.
///
/// Errors: our block is damaged.
///
/// ```
/// use tamga_core::deploy::hosts::{self, Wanted};
///
/// let before = b"127.0.0.1 localhost\n";
/// let wanted = [Wanted::parse("charts.saltmarsh.test=127.0.0.1")?];
/// let with = hosts::add(before, &wanted)?.text;
/// assert!(String::from_utf8_lossy(&with).contains("127.0.0.1 charts.saltmarsh.test\n"));
/// assert_eq!(hosts::add(&with, &wanted)?.text, with, "once is enough");
/// assert_eq!(hosts::remove(&with, &wanted)?.text, before, "nothing of it stays");
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub fn add(text: &[u8], wanted: &[Wanted]) -> Result<Plan> {
    let mut parted = part(text)?;
    let mut rows = Vec::new();
    for w in wanted {
        if w.needs_none() {
            rows.push(not_needed(&w.name));
            continue;
        }
        // Typed addresses take the place of those that our block had.
        if w.typed {
            let family = w.addresses[0].is_ipv4();
            parted.ours.retain(|(n, a)| *n != w.name || a.is_ipv4() != family || w.addresses.contains(a));
        }
        for address in &w.addresses {
            let mut row = parted.row(&w.name, *address);
            if row.state == State::Absent {
                parted.ours.push((w.name.clone(), *address));
                row = Row { state: State::Present, change: "added", ..row };
            }
            rows.push(row);
        }
    }
    Ok(parted.plan(rows))
}

/// Takes names out of our block, all of them where none is named. Lines of others stay and are reported.
///
/// Errors: our block is damaged.
pub fn remove(text: &[u8], wanted: &[Wanted]) -> Result<Plan> {
    let mut parted = part(text)?;
    let meant = |name: &str, address: IpAddr| {
        let of = |w: &&Wanted| w.name == name && (!w.typed || w.addresses.contains(&address));
        wanted.is_empty() || wanted.iter().find(of).is_some()
    };
    let (gone, stay): (Vec<_>, Vec<_>) = parted.ours.drain(..).partition(|(n, a)| meant(n, *a));
    parted.ours = stay;
    let mut rows: Vec<Row> = gone
        .iter()
        .map(|(name, address)| {
            let after = parted.row(name, *address);
            Row { change: "removed", ..after }
        })
        .collect();
    for w in wanted.iter().filter(|w| !gone.iter().any(|(n, _)| *n == w.name)) {
        rows.extend(w.addresses.iter().map(|a| parted.row(&w.name, *a)));
    }
    Ok(parted.plan(rows))
}

/// How names stand; those of our block where none is named.
///
/// Errors: our block is damaged.
pub fn status(text: &[u8], wanted: &[Wanted]) -> Result<Vec<Row>> {
    let parted = part(text)?;
    if wanted.is_empty() {
        return Ok(parted.ours.iter().map(|(n, a)| parted.row(n, *a)).collect());
    }
    let of = |w: &Wanted| match w.needs_none() {
        true => vec![not_needed(&w.name)],
        false => w.addresses.iter().map(|a| parted.row(&w.name, *a)).collect(),
    };
    Ok(wanted.iter().flat_map(of).collect())
}

fn not_needed(name: &str) -> Row {
    let why = Some("browsers and curl take it for this machine without a line".into());
    Row { name: name.to_owned(), address: None, state: State::NotNeeded, change: "none", why }
}

#[cfg(test)]
mod tests {
    use super::*;

    const FILE: &[u8] = b"127.0.0.1\tlocalhost\n10.0.0.7 archive.saltmarsh.test archive # r\xe9d\n";

    fn wanted(typed: &[&str]) -> Vec<Wanted> {
        typed.iter().map(|t| Wanted::parse(t).unwrap()).collect()
    }

    #[test]
    fn what_somebody_wrote_into_the_block_is_settled_by_the_first_run() {
        let wanted = [Wanted::parse("charts.saltmarsh.test").unwrap()];
        for line in ["254.0.0.2 for .", "254.0.0.2 .", "254.0.0.2", "nonsense", "254.0.0.2 A. a .. a"] {
            let text = format!("{BEGIN}\n{line}\n{END}\n");
            let once = add(text.as_bytes(), &wanted).unwrap().text;
            assert_eq!(add(&once, &wanted).unwrap().text, once, "{line}");
        }
    }

    #[test]
    fn a_block_comes_and_goes_and_the_rest_stays() {
        for file in [FILE, b"", b"127.0.0.1 localhost\r\n# end\r\n"] {
            let plan = add(file, &wanted(&["charts.saltmarsh.test", "gauge-7.saltmarsh.test=192.168.7.7"])).unwrap();
            assert!(plan.text.starts_with(file) && plan.has_block);
            let lines = plan.rows.iter().filter(|r| r.change == "added").count();
            assert_eq!((lines, plan.rows.len()), (3, 3));
            let crlf = file.contains(&b'\r');
            assert_eq!(plan.text.windows(2).filter(|w| *w == b"\r\n").count(), if crlf { 7 } else { 0 });
            let again = add(&plan.text, &wanted(&["charts.saltmarsh.test"])).unwrap();
            assert_eq!(again.text, plan.text);
            let less = remove(&plan.text, &wanted(&["charts.saltmarsh.test"])).unwrap();
            assert!(!String::from_utf8_lossy(&less.text).contains("charts") && less.has_block);
            let none = remove(&less.text, &[]).unwrap();
            assert_eq!((none.text.as_slice(), none.has_block), (file, false));
        }
    }

    #[test]
    fn what_comes_after_the_block_stays_after_it() {
        let plan = add(b"a", &wanted(&["x.test"])).unwrap();
        let edited = [&plan.text[..], b"10.0.0.1 later.test\n"].concat();
        let plan = add(&edited, &wanted(&["y.test=10.0.0.2", "later.test"])).unwrap();
        assert!(plan.text.ends_with(b"\n# tamga: end\n10.0.0.1 later.test\n"));
        assert_eq!(plan.rows[1].state, State::Elsewhere);
        assert!(plan.rows[1].why.as_ref().unwrap().contains("10.0.0.1"));
        assert_eq!(plan.rows[2].change, "added", "the other family is free");
    }

    #[test]
    fn others_lines_are_heeded() {
        let rows = status(FILE, &wanted(&["archive.saltmarsh.test", "localhost", "x.test"])).unwrap();
        assert_eq!(rows[0].state, State::Elsewhere);
        assert!(rows[0].why.as_ref().unwrap().contains("line 2"));
        assert_eq!((rows[2].state, rows[3].state), (State::NotNeeded, State::Absent));
        let same = add(FILE, &wanted(&["archive=10.0.0.7"])).unwrap();
        assert_eq!((same.text.as_slice(), same.rows[0].state), (FILE, State::Present));
        let moved = add(&add(b"", &wanted(&["x.test"])).unwrap().text, &wanted(&["x.test=10.0.0.9"])).unwrap();
        assert!(String::from_utf8_lossy(&moved.text).contains("10.0.0.9 x.test"));
        assert!(!String::from_utf8_lossy(&moved.text).contains("127.0.0.1"));
    }

    #[test]
    fn twice_changes_nothing_however_the_last_line_ends() {
        let wanted = [Wanted::parse("charts.saltmarsh.test").unwrap()];
        for text in [&b""[..], b"x", b"x\n", b"x\r\n", b"\xdd\r", b"\r", b"a\r\nb", b"a\nb\r"] {
            let once = add(text, &wanted).unwrap().text;
            assert_eq!(add(&once, &wanted).unwrap().text, once, "{text:?}");
        }
    }

    #[test]
    fn what_no_hosts_file_knows_is_refused() {
        for bad in ["*.buoys.test", "10.0.0.7", "a@b.test", "x.test=y", "x.test=", "https://x.test"] {
            assert!(Wanted::parse(bad).is_err(), "{bad}");
        }
        assert!(add(b"# tamga: begin\n127.0.0.1 x\n", &wanted(&["x.test"])).is_err());
    }
}
