//! Cipher suites of TLS 1.2 that not every client offers any more (measured with the versions in `docs/agreement.md`).

use crate::check::client::case::Input;
use crate::check::client::descriptor;
use crate::check::client::judge::Judgement;
use crate::check::client::{Client, Outcome, Verdict};
use crate::check::suite_kind::Kind;
use crate::check::verify::Trail;
use crate::finding::Code;

/// True if a client offers suites of this kind.
pub fn offers(client: Client, kind: Kind) -> bool {
    kind == Kind::Usual || (descriptor::of(client).offers)(kind)
}

/// What a client says to a server whose suite it does not offer; None where it offers it, or nothing is known of the suite.
pub fn refused(client: Client, input: &Input<'_>) -> Option<Verdict> {
    let group = input.spoken.is_p521.then_some(Kind::P521);
    let kind = input.spoken.suite.map(Kind::of).into_iter().chain(group).find(|k| !offers(client, *k))?;
    let code = descriptor::of(client).no_suite;
    let mut trail = Trail::new(None);
    trail.path = input.served.first().cloned().into_iter().collect();
    trail.object("suite", Code::NoCommonCipher, 0, kind.words());
    let judgement = Judgement { path: trail.path.clone(), faults: trail.faults() };
    Some(Verdict { client, outcome: Outcome::Refuses, code: Some(code.into()), judgement, documented: false })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn kinds_are_found_by_number() {
        assert_eq!(Kind::of(0x002f), Kind::RsaExchange);
        assert_eq!(Kind::of(0x009f), Kind::FiniteField);
        assert_eq!((Kind::of(0xc013), Kind::of(0xc009)), (Kind::CbcSha1, Kind::CbcSha1Ecdsa));
        assert_eq!(Kind::of(0xc027), Kind::CbcSha2);
        for usual in [0xc02b, 0xc02f, 0xcca8, 0x1301] {
            assert_eq!(Kind::of(usual), Kind::Usual);
            assert!(Client::ALL.into_iter().all(|c| offers(c, Kind::of(usual))));
        }
    }
}
