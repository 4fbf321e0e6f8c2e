//! Everything that the programs with OpenSSL or BoringSSL may say, and everything that these libraries may mind.

use super::ends::End;
use super::programs;
use super::words::{WORDS, Word};
use crate::check::client::Client;
use crate::check::verify::distinct;
use crate::finding::Code;

/// Its words for a fault, each as a client prints them.
pub fn words(client: Client, code: Code) -> Vec<String> {
    let own: &[&str] = match (client, code) {
        (_, Code::NameNotCovered) => programs::mismatches(client),
        (Client::Curl, Code::BadSignature) => &[
            "(35) error:06880006:asn1 encoding routines::EVP lib",
            "(35) error:0200008A:rsa routines::invalid padding",
            "(35) error:0200006A:rsa routines::block type is not 01",
        ],
        _ => &[],
    };
    if !own.is_empty() {
        return own.iter().map(ToString::to_string).collect();
    }
    let same = |own: Code| match code {
        Code::IssuerExpired => matches!(own, Code::Expired | Code::NotYetValid),
        code => own == code,
    };
    let boring = matches!(client, Client::Bun | Client::Grpc);
    let own = |w: &&Word| boring || !w.name.starts_with("BORING");
    let of_chain = WORDS.iter().filter(own).filter(|w| same(w.code)).map(|w| programs::printed(client, w));
    let of_before = |b: &super::boring::Before| b.2[usize::from(client == Client::Bun)];
    let before = super::boring::ALL.iter().filter(|b| boring && b.1 == code).flat_map(|b| of_before(b).split(" or "));
    let before = before.map(str::to_owned);
    let of_chain = of_chain.chain(before);
    let ends = End::ALL.into_iter().filter(|e| e.code() == code);
    let of_ends = ends.flat_map(|e| e.said(client).split(" or ")).filter(|t| !t.is_empty()).map(str::to_owned);
    distinct(of_chain.chain(of_ends))
}

/// Every error by which it refuses a chain: a test leaves out one after another.
pub fn all_words(client: Client) -> Vec<&'static str> {
    let boring = matches!(client, Client::Bun | Client::Grpc);
    let words = WORDS.iter().map(|w| w.name).filter(|w| boring || !w.starts_with("BORING"));
    let before = super::boring::ALL.iter().map(|b| b.0).filter(|_| boring);
    words.chain(End::ALL.map(End::word)).chain(before).collect()
}
