//! The certificate that the service itself shows.

use crate::secret_file::DIRECTORY;
use tamga_app::certificate::{issue, renew};
use tamga_app::env::Env;
use tamga_app::failure::Result;
use tamga_app::secret::Secret;
use tamga_core::ca::report::{Authority, Issued};
use tamga_core::error::Error;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::timestamp::Span;

/// It is valid so long, and renewed by itself.
const LIFE: Span = Span::days(90);

/// The certificate that the service itself shows: made, renewed where it is time, or as it is.
pub(crate) fn certificate(env: &Env, host: &Name, signer: &Authority, secret: &Secret) -> Result<Issued> {
    let (label, known) = ours(env, &format!("enrollment-{}", host.label()?))?;
    let directory = env.machine.data().join(DIRECTORY).join(label.as_str());
    match known {
        Some(own) if own.authority.as_ref() == Some(&signer.label) && own.revoked.is_none() => {
            renewed(env, &own, secret).map(|new| new.unwrap_or(own))
        }
        Some(own) => again(env, &own, Some(&signer.label), secret),
        None => {
            let wanted = issue::Request {
                names: vec![host.clone()],
                label: Some(label),
                into: Some(directory),
                terms: issue::Terms {
                    issuer: issue::Issuer::Named(signer.label.clone()),
                    valid_for: Some(LIFE),
                    ..issue::Terms::default()
                },
                secret: secret.clone(),
                ..issue::Request::default()
            };
            match issue::issue(env, &wanted)? {
                tamga_app::report::Answer::Done(done) => {
                    let [made] = done.certificates;
                    Ok(made.issued)
                }
                tamga_app::report::Answer::Planned(_) => Err(dry()),
            }
        }
    }
}

/// The label of the service's certificate on this machine, and the certificate: of several machines that share a ledger and the service's name
/// each has its own.
fn ours(env: &Env, stem: &str) -> Result<(Label, Option<Issued>)> {
    let ledger = env.open_to_look()?;
    let mut label = Label::from_text(stem)?;
    for n in 2.. {
        let known = match &ledger {
            Some(l) => l.current(&label)?,
            None => None,
        };
        if known.as_ref().is_none_or(|k| k.host.is_none()) {
            return Ok((label, known));
        }
        label = Label::from_text(&format!("{stem}-{n}"))?;
    }
    Ok((label, None))
}

fn dry() -> tamga_app::failure::Failure {
    Error::Contradiction {
        what: "a service is not started in a dry run".into(),
        why: "it would have to make its certificate first".into(),
        instead: "leave --dry-run away".into(),
    }
    .into()
}

/// The service's certificate, renewed if a third of its life or less is left.
pub(crate) fn renewed(env: &Env, own: &Issued, secret: &Secret) -> Result<Option<Issued>> {
    let c = &own.certificate;
    let left = c.not_after.unix() - env.now.unix();
    if left * 3 > c.not_after.unix() - c.not_before.unix() {
        return Ok(None);
    }
    again(env, own, None, secret).map(Some)
}

fn again(env: &Env, own: &Issued, issuer: Option<&Label>, secret: &Secret) -> Result<Issued> {
    let request = renew::Request {
        labels: vec![own.label.clone()],
        issuer: issuer.cloned(),
        secret: secret.clone(),
        ..renew::Request::default()
    };
    match renew::renew(env, &request)? {
        tamga_app::report::Answer::Done(mut done) => match (done.certificates.pop(), done.failed.pop()) {
            (Some(made), _) => Ok(made.issued),
            (None, Some(failed)) => Err(failed.failure),
            (None, None) => Err(dry()),
        },
        tamga_app::report::Answer::Planned(_) => Err(dry()),
    }
}
