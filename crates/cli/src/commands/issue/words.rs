//! What is said of a new certificate, and of one that would be made.

use super::{IssueArgs, Source, Terms};
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::{human, json};
use tamga_core::authority;
use tamga_core::finding::Finding;
use tamga_core::issue::{self, Request};
use tamga_core::purpose::Purpose;
use tamga_core::renew;
use tamga_core::report::Issued;
use tamga_core::text::Shown;

pub(super) fn dry(session: &Session, args: &IssueArgs, terms: &Terms, request: &Request) -> Result<Done> {
    let authorities = session.authorities()?;
    let by = if args.self_signed {
        "signed by itself".to_owned()
    } else if args.single_use_root {
        "under a root for it alone".to_owned()
    } else {
        let a = authority::choose(terms.issuer.as_deref(), &authorities, true)?;
        issue::names_within(&request.names, a)?;
        format!("under {}", a.label)
    };
    let names: Vec<String> = request.names.iter().map(ToString::to_string).collect();
    let text = format!("would issue {} for {} {by} into {}\n", request.label, names.join(", "), request.folder.shown());
    Ok(Done::good(text, json!({"certificates": [], "dry_run": true})))
}

/// Three lines: what, where, what next.
pub(super) fn made(issued: &Issued, source: &Source, findings: &[Finding], says_next: bool) -> String {
    let c = &issued.certificate;
    let by = issued.authority.as_ref().map_or("signed by itself".into(), |a| format!("under {a}"));
    let mut text = format!(
        "{} {} for {}, {by}, until {}\n",
        human::good("issued"),
        human::strong(&issued.label),
        c.name_words().join(", "),
        c.not_after.date()
    );
    text.push_str(&format!(
        "in     {}: certificate.pem, private-key.pem (readable by you alone), root.pem\n",
        issued.folder.shown()
    ));
    let next = match source {
        Source::Authority(..) | Source::SingleUse(..) if !renew::purposes_of(c).contains(&Purpose::Server) => {
            let (who, where_) = match renew::purposes_of(c).as_slice() {
                [Purpose::Client] => ("the client program", "the server that asks for it"),
                _ => ("the program that signs with them", "the programs that check its signatures"),
            };
            format!("give the first two files to {who}, and root.pem to {where_}")
        }
        Source::Authority(a, _) | Source::SingleUse(a, _) => format!(
            "tamga trust add {}, then give the first two files to the server, or: tamga serve {}",
            a.root_label, issued.label
        ),
        Source::Itself => "put root.pem into each client's store, and give the first two files to the server".into(),
    };
    if says_next {
        text.push_str(&format!("next   {next}\n"));
    }
    text.push_str(&human::findings(findings));
    text
}
