//! dns-01 (RFC 8555 section 8.4), and who may certify a name (CAA, RFC 8659).

use super::{Task, problem, resolve};
use crate::settings::Look;
use tamga_core::enrollment::challenge;
use tamga_core::enrollment::dns::RecordType;
use tamga_core::enrollment::dns::answer::Record;
use tamga_core::enrollment::identifier::Identifier;
use tamga_core::enrollment::object::Outcome;
use tamga_core::enrollment::problem::ProblemType;

pub(super) async fn look(look: &Look, task: &Task) -> Outcome {
    let Identifier::Dns(name) = &task.identifier else {
        return Err(problem(ProblemType::Malformed, "an address is not proved by DNS (RFC 8738 section 7)"));
    };
    let owner = challenge::dns_name(name);
    let wanted = challenge::dns_value(&task.authorization);
    let Some(server) = resolve::server(look).await else {
        return Err(problem(
            ProblemType::Dns,
            "this service knows no name server: its administrator gives one with --dns-server",
        ));
    };
    let failed = |why: String| problem(ProblemType::Dns, format!("the TXT record {owner} was not found: {why}"));
    let answer = resolve::ask(server, &owner, RecordType::Txt).await.map_err(&failed)?;
    resolve::refused(&answer).map_err(&failed)?;
    let texts: Vec<Vec<u8>> = answer
        .records
        .into_iter()
        .filter_map(|r| match r {
            Record::Text(text) => Some(text),
            _ => None,
        })
        .collect();
    if texts.iter().any(|t| t == wanted.as_bytes()) {
        return Ok(());
    }
    Err(match texts.len() {
        0 => failed("there is none".into()),
        n => problem(
            ProblemType::IncorrectResponse,
            format!("the TXT record {owner} has {n} value{}, and none is {wanted}", if n == 1 { "" } else { "s" }),
        ),
    })
}

/// Whether CAA records allow this service; they are looked at only where a name server was named.
pub(super) async fn caa(look: &Look, host: &str, identifier: &Identifier) -> Outcome {
    let (Some(server), Identifier::Dns(name)) = (look.dns, identifier) else { return Ok(()) };
    let base = name.strip_prefix("*.").unwrap_or(name);
    let mut at = base;
    loop {
        let failed = |why: String| problem(ProblemType::Dns, format!("the CAA records of {at} were not found: {why}"));
        let answer = resolve::ask(server, at, RecordType::Caa).await.map_err(&failed)?;
        // A server that is not asked to answer for a parent domain refuses it: there the climb ends (it has no say in the lab's names).
        if at != base && answer.code == 5 {
            return Ok(());
        }
        resolve::refused(&answer).map_err(&failed)?;
        let records: Vec<(bool, String, Vec<u8>)> = answer
            .records
            .into_iter()
            .filter_map(|r| match r {
                Record::Caa { critical, tag, value } => Some((critical, tag, value)),
                _ => None,
            })
            .collect();
        if !records.is_empty() {
            return judge(host, at, name.starts_with("*."), &records);
        }
        match at.split_once('.') {
            Some((_, parent)) if parent.contains('.') => at = parent,
            _ => return Ok(()),
        }
    }
}

/// RFC 8659 section 4: the first name with records decides.
fn judge(host: &str, at: &str, is_wildcard: bool, records: &[(bool, String, Vec<u8>)]) -> Outcome {
    let refused = |why: String| Err(problem(ProblemType::Caa, why));
    if let Some((_, tag, _)) =
        records.iter().find(|(critical, tag, _)| *critical && !["issue", "issuewild", "iodef"].contains(&tag.as_str()))
    {
        return refused(format!("the CAA records of {at} have the critical tag {tag}, which is not known here"));
    }
    let of = |wanted: &str| records.iter().filter(|(_, tag, _)| tag == wanted).map(|(_, _, v)| v).collect::<Vec<_>>();
    let wild = of("issuewild");
    let counted = if is_wildcard && !wild.is_empty() { wild } else { of("issue") };
    if counted.is_empty() {
        return Ok(());
    }
    let is_us = |value: &&Vec<u8>| {
        let text = String::from_utf8_lossy(value);
        text.split(';').next().unwrap_or_default().trim().eq_ignore_ascii_case(host)
    };
    match counted.iter().any(is_us) {
        true => Ok(()),
        false => {
            refused(format!("the CAA records of {at} allow other authorities, and not {host}: add 'issue \"{host}\"'"))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_records_of_a_name_decide() {
        let record = |critical, tag: &str, value: &str| (critical, tag.to_owned(), value.as_bytes().to_vec());
        let judged = |wild, records: &[(bool, String, Vec<u8>)]| {
            judge("enroll.saltmarsh.test", "saltmarsh.test", wild, records).is_ok()
        };
        assert!(judged(false, &[record(false, "issue", "Enroll.saltmarsh.test; x=1")]));
        assert!(!judged(false, &[record(false, "issue", "other.test")]));
        assert!(!judged(false, &[record(false, "issue", ";")]));
        assert!(judged(false, &[record(false, "iodef", "mailto:x@y.test")]));
        assert!(judged(false, &[record(false, "issuewild", ";")]));
        assert!(!judged(true, &[record(false, "issue", "enroll.saltmarsh.test"), record(false, "issuewild", ";")]));
        assert!(judged(true, &[record(false, "issue", "enroll.saltmarsh.test")]));
        assert!(!judged(false, &[record(true, "future", "x"), record(false, "issue", "enroll.saltmarsh.test")]));
    }
}
