//! From plain HTTP to HTTPS, hop by hop.

use super::hops::{asked, followed, report_hops};
use super::live::{Meeting, hsts, live};
use super::{Around, Checked};
use crate::env::Env;
use crate::failure::Result;
use crate::report::Outcome as Ending;
use std::str::FromStr;
use tamga_core::check::redirect::{Address, Next};
use tamga_core::finding::{Code, Finding, Severity};
use tamga_core::vocabulary::name::Name;
use tamga_host::dial::Prelude;

/// A site as someone who types `http://` finds it: the way to HTTPS, then what is served there.
pub(super) fn from(env: &Env, around: &Around<'_>, typed: &str, start: &Address) -> Result<Checked> {
    let (hops, end) = followed(start, |a| asked(around, a));
    let mut checked = match &end {
        Ok(Next::Secure(to)) => match Name::from_str(&to.host) {
            Ok(host) => {
                let meeting = Meeting { host, port: to.port, prelude: Prelude::None, path: to.path.clone() };
                let mut checked = live(env, around, typed, &meeting)?;
                checked.first_line = format!("{start}, and {to}, to which it leads");
                checked
            }
            Err(_) => Checked::new(typed, "live", format!("{start}, a live server")),
        },
        _ => Checked::new(typed, "live", format!("{start}, a live server")),
    };
    if let Err(missed) = end {
        checked.ending = Ending::Blocked;
        let mut f = Finding::new(missed.code, start.to_string());
        f.summary = format!("{} ({})", f.summary, missed.detail);
        checked.findings.push(f);
    }
    report_hops(&mut checked, start, hops);
    // Who types http:// never gets there.
    checked.findings.retain(|f| f.code != Code::HstsRemembered || f.about != start.host);
    for mut f in hsts(env, around, &start.host) {
        f.summary.push_str(&format!(": it asks https://{}:{} instead of {start}", start.host, start.port));
        f.severity = Severity::Warning;
        checked.findings.push(f);
        checked.ending = checked.ending.worst(Ending::Bad);
    }
    Ok(checked)
}
