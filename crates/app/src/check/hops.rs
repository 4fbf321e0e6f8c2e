//! Redirects from plain HTTP to HTTPS, hop by hop.

use super::around::Around;
use super::checked::Checked;
use crate::report::Outcome as Ending;
use std::net::IpAddr;
use std::str::FromStr;
use tamga_core::check::redirect::{self, Address, Hop, Next};
use tamga_core::finding::Severity;
use tamga_core::vocabulary::name::Name;
use tamga_host::dial::{self, Missed, plain};

/// What stands on port 80 beside a site on 443; nothing there is no fault.
pub(super) fn beside(around: &Around<'_>, checked: &mut Checked, host: &Name, met: IpAddr) {
    let start = Address { secure: false, host: host.to_string(), port: 80, path: "/".into() };
    let (hops, _) = followed(&start, |a| {
        // The very server that was met, whatever its name resolves to besides.
        if a.host == start.host && a.port == 80 {
            return plain::ask((met, 80).into(), &a.host_header(), &a.path);
        }
        asked(around, a)
    });
    report_hops(checked, &start, hops);
}

pub(super) fn report_hops(checked: &mut Checked, start: &Address, hops: Vec<Hop>) {
    for f in redirect::judge(start, &hops) {
        if f.severity > Severity::Note {
            checked.ending = checked.ending.worst(Ending::Bad);
        }
        checked.findings.push(f);
    }
    checked.hops = hops;
}

pub(super) type Asked = Result<plain::Answered, Missed>;

pub(super) fn followed(start: &Address, ask: impl Fn(&Address) -> Asked) -> (Vec<Hop>, Result<Next, Missed>) {
    let mut hops: Vec<Hop> = Vec::new();
    loop {
        let at = match redirect::next(start, &hops) {
            Next::Ask(at) => at,
            end => return (hops, Ok(end)),
        };
        match ask(&at) {
            Ok(a) => {
                let to = a.location.filter(|_| (300..400).contains(&a.status)).and_then(|l| at.joined(l.as_received()));
                hops.push(Hop { from: at, status: a.status, to });
            }
            Err(missed) => return (hops, Err(missed)),
        }
    }
}

pub(super) fn asked(around: &Around<'_>, a: &Address) -> Asked {
    let host =
        Name::from_str(&a.host).map_err(|_| Missed::new(tamga_core::finding::Code::UnresolvedName, a.host.clone()))?;
    let mut last = None;
    for address in dial::resolve(&host, a.port, &around.resolve)? {
        match plain::ask(address, &a.host_header(), &a.path) {
            Ok(answer) => return Ok(answer),
            Err(missed) => last = Some(missed),
        }
    }
    Err(last.unwrap_or(Missed::new(tamga_core::finding::Code::UnresolvedName, a.host.clone())))
}
