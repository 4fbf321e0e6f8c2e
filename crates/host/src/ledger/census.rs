//! What a ledger holds, machine by machine.

use super::{Database, SqlResult, values};
use std::collections::BTreeMap;
use std::str::FromStr;
use tamga_core::vocabulary::timestamp::Timestamp;

/// What a ledger holds.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Census {
    /// Authorities.
    pub authorities: u64,
    /// Certificates in force, those that clients enrolled among them.
    pub certificates: u64,
    /// The machines that share it, by name; the one whose own it is has an empty name.
    pub hosts: Vec<HostCount>,
}

/// What a machine has.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct HostCount {
    /// Its name.
    pub name: String,
    /// Its certificates in force.
    pub certificates: u64,
    /// The end of the one that ends first.
    pub ends_first: Option<Timestamp>,
    /// When it did something last.
    pub latest: Option<Timestamp>,
    /// Work that it began and did not finish.
    pub unfinished: u64,
}

pub(super) fn taken(db: &dyn Database) -> SqlResult<Census> {
    let number = |n: i64| u64::try_from(n).unwrap_or(0);
    let one = |sql: &str| db.single(sql, values![], |r| r.get(0).map(number));
    let authorities = one("SELECT count(*) FROM authority")?;
    let certificates = one("SELECT count(*) FROM certificate WHERE state = 'live'")?;
    let mut hosts: BTreeMap<String, HostCount> = BTreeMap::new();
    let files = "SELECT host, count(*), min(ends) FROM certificate WHERE state = 'live' AND folder <> '' GROUP BY host";
    db.each(files, values![], &mut |r| {
        let host = hosts.entry(r.get(0)?).or_default();
        (host.certificates, host.ends_first) = (number(r.get(1)?), r.get::<Option<i64>>(2)?.map(Timestamp::from_unix));
        Ok(())
    })?;
    db.each("SELECT host, max(at) FROM event GROUP BY host", values![], &mut |r| {
        let latest: Option<&str> = r.get(1)?;
        hosts.entry(r.get(0)?).or_default().latest = latest.and_then(|at| Timestamp::from_str(at).ok());
        Ok(())
    })?;
    db.each("SELECT host, count(*) FROM journal GROUP BY host", values![], &mut |r| {
        hosts.entry(r.get(0)?).or_default().unfinished = number(r.get(1)?);
        Ok(())
    })?;
    let named = |(name, count): (String, HostCount)| HostCount { name, ..count };
    Ok(Census { authorities, certificates, hosts: hosts.into_iter().map(named).collect() })
}
