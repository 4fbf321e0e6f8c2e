//! From plain HTTP to HTTPS, hop by hop.

use super::live::{Meeting, live};
use super::{Around, Checked};
use crate::exit;
use crate::session::Session;
use std::net::IpAddr;
use tamga_core::finding::{Finding, Severity};
use tamga_core::name::Name;
use tamga_core::redirect::{self, Address, Hop, Next};
use tamga_host::dial::{self, Missed, Prelude, plain};

/// A site as whoever types `http://` meets it: the way to HTTPS, then what is served there.
pub(super) fn from(session: &Session, around: &Around, typed: &str, start: &Address, observe: bool) -> Checked {
    let (hops, end) = followed(start, |a| asked(around, a));
    let mut checked = match &end {
        Ok(Next::Secure(to)) => match Name::parse(&to.host) {
            Ok(host) => {
                let meeting = Meeting { host, port: to.port, prelude: Prelude::None, path: "/".into() };
                let mut checked = live(session, around, typed, &meeting, observe);
                checked.first_line = format!("{start}, and {to}, to which it leads");
                checked
            }
            Err(_) => Checked::new(typed, "live", format!("{start}, met now")),
        },
        _ => Checked::new(typed, "live", format!("{start}, met now")),
    };
    if let Err(missed) = end {
        checked.code = exit::SURROUNDINGS;
        let mut f = Finding::new(missed.code, start.to_string());
        f.summary = format!("{} ({})", f.summary, missed.detail);
        checked.findings.push(f);
    }
    told(&mut checked, start, hops);
    checked
}

/// What stands on port 80 beside a site on 443; nothing there is no fault.
pub(super) fn beside(around: &Around, checked: &mut Checked, host: &Name, met: IpAddr) {
    let start = Address { secure: false, host: host.to_string(), port: 80, path: "/".into() };
    let (hops, _) = followed(&start, |a| {
        // The very server that was met, whatever its name resolves to besides.
        if a.host == start.host && a.port == 80 {
            return plain::ask((met, 80).into(), &a.host_header(), &a.path);
        }
        asked(around, a)
    });
    told(checked, &start, hops);
}

fn told(checked: &mut Checked, start: &Address, hops: Vec<Hop>) {
    for f in redirect::judge(start, &hops) {
        if f.severity > Severity::Note {
            checked.code = exit::worst(checked.code, exit::BAD);
        }
        checked.findings.push(f);
    }
    checked.hops = hops;
}

type Asked = Result<plain::Answered, Missed>;

fn followed(start: &Address, ask: impl Fn(&Address) -> Asked) -> (Vec<Hop>, Result<Next, Missed>) {
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

fn asked(around: &Around, a: &Address) -> Asked {
    let host =
        Name::parse(&a.host).map_err(|_| Missed::new(tamga_core::finding::Code::UnresolvedName, a.host.clone()))?;
    let mut last = None;
    for address in dial::resolve(&host, a.port, &around.resolve)? {
        match plain::ask(address, &a.host_header(), &a.path) {
            Ok(answer) => return Ok(answer),
            Err(missed) => last = Some(missed),
        }
    }
    Err(last.unwrap_or(Missed::new(tamga_core::finding::Code::UnresolvedName, a.host.clone())))
}
