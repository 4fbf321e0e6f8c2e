//! `tamga issue NAME… --from URL`: a certificate from an enrollment service.

use crate::exit::{Done, Result};
use crate::session::Session;
use crate::values;
use crate::words::human;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;
use tamga_app::enroll::{self, Request};
use tamga_app::report::Answer;
use tamga_core::deploy::lab::service::{directory, mailbox, name_server};
use tamga_core::enrollment::challenge::ChallengeType;
use tamga_core::vocabulary::text::Shown;
use tamga_host::ledger::Origin;

/// Which service, and how control of the names is proved.
#[derive(clap::Args, Clone, Default)]
pub(crate) struct FromArgs {
    /// Get it from the enrollment service with this directory
    #[arg(long, value_name = "URL", value_parser = directory, help_heading = "From a service", conflicts_with_all = ["list", "issuer", "self_signed", "single_use_root", "like", "server", "key_file", "valid_for", "not_before", "not_after", "purpose", "crl_url", "issuer_url", "accept", "common_name", "organization", "unit", "country", "state", "locality"])]
    pub(crate) from: Option<String>,
    /// http-01, tls-alpn-01, dns-01 [default: the first that can be answered]
    #[arg(long, value_name = "ID", requires = "from", value_parser = values::word::<ChallengeType>(), hide_possible_values = true, help_heading = "From a service")]
    challenge: Option<ChallengeType>,
    /// Answer http-01 in this directory of the running web server
    #[arg(
        long,
        value_name = "DIR",
        requires = "from",
        conflicts_with = "challenge_listen",
        help_heading = "From a service"
    )]
    challenge_dir: Option<PathBuf>,
    /// Listen here for the service: ADDRESS, ADDRESS:PORT or :PORT [default: port 80 or 443]
    #[arg(long, value_name = "ADDRESS", requires = "from", help_heading = "From a service")]
    challenge_listen: Option<String>,
    /// Answer dns-01 by updates to this name server
    #[arg(long, value_name = "ADDRESS", requires_all = ["from", "dns_key_file"], value_parser = name_server, help_heading = "From a service")]
    dns_update: Option<SocketAddr>,
    /// The key for these updates, as name servers write it
    #[arg(long, value_name = "FILE", requires = "dns_update", help_heading = "From a service")]
    dns_key_file: Option<PathBuf>,
    /// The file with an invitation
    #[arg(long, value_name = "FILE", requires = "from", help_heading = "From a service")]
    invitation: Option<PathBuf>,
    /// How the service reaches you
    #[arg(long, value_name = "MAILBOX", requires = "from", value_parser = mailbox, help_heading = "From a service")]
    contact: Option<String>,
    /// Agree to the service's terms
    #[arg(long, requires = "from", help_heading = "From a service")]
    agree_to_terms: bool,
    /// A profile of the service
    #[arg(long, value_name = "NAME", requires = "from", help_heading = "From a service")]
    profile: Option<String>,
    /// The root of the service, and of what it issues [default: the ledger's roots and the system's]
    #[arg(long, value_name = "FILE", requires = "from", help_heading = "From a service")]
    anchor: Option<PathBuf>,
    /// Where the service is; repeatable
    #[arg(long, value_name = "NAME=ADDRESS", requires = "from", value_parser = values::name_and_address, help_heading = "From a service")]
    resolve: Vec<(String, IpAddr)>,
}

impl FromArgs {
    /// What the ledger keeps of it; None if no service was named.
    fn origin(&self) -> Option<Origin> {
        use tamga_host::ledger::stored_path::StoredPath;
        Some(Origin {
            from: self.from.clone()?,
            challenge: self.challenge.map(|c| c.word().to_owned()),
            challenge_dir: self.challenge_dir.clone().map(StoredPath),
            challenge_listen: self.challenge_listen.clone(),
            dns_update: self.dns_update,
            dns_key_file: self.dns_key_file.clone().map(StoredPath),
            anchor: self.anchor.clone().map(StoredPath),
            contact: self.contact.clone(),
            agreed: self.agree_to_terms,
            profile: self.profile.clone(),
            order: None,
            waiting: None,
            resolve: self.resolve.clone(),
        })
    }
}

/// Gets it, if a service was named; None if none was. `request` has what is not of the service.
pub(super) fn run(
    session: &Session,
    args: &FromArgs,
    request: impl FnOnce() -> Result<Request>,
) -> Result<Option<Done>> {
    let Some(origin) = args.origin() else { return Ok(None) };
    let request = Request { origin, invitation: args.invitation.clone(), ..request()? };
    let report = enroll::issue(session, &request)?;
    let text = match &report {
        Answer::Done(done) => render(done),
        Answer::Planned(plan) => {
            let names: Vec<String> = plan.names.iter().map(ToString::to_string).collect();
            format!(
                "would get {} for {} from {} into {}\n",
                plan.label,
                names.join(", "),
                plan.from,
                plan.directory.shown()
            )
        }
    };
    Ok(Some(Done::report(text, &report)))
}

fn render(done: &enroll::Done) -> String {
    let [certificate] = &done.certificates;
    let issued = &certificate.issued;
    let c = &issued.certificate;
    let mut text = format!(
        "{} {} for {}, from {}, until {}\n",
        human::good("issued"),
        human::strong(&issued.label),
        c.name_words().join(", "),
        tamga_core::vocabulary::text::harmless(&done.from),
        c.not_after.date()
    );
    text.push_str(&format!(
        "in     {}: certificate.pem, private-key.pem (readable by you alone)\n",
        issued.folder.shown()
    ));
    text.push_str("next   tamga schedule systemd --install: it is then renewed from there when it is time\n");
    text.push_str(&human::findings(&done.findings));
    text
}
