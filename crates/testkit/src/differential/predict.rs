//! What the rules say of a case.

use super::observe::Said;
use super::situation::Case;
use std::str::FromStr;
use tamga_core::check::client::case::{Input, Spoken};
use tamga_core::check::client::view::{Around, TrustView};
use tamga_core::check::client::{Client, Outcome};
use tamga_core::check::predict::predict_without;
use tamga_core::pki::cert::Certificate;
use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::purpose::JudgedPurpose;
use tamga_core::vocabulary::timestamp::Timestamp;

/// The verdict on a case at a moment; `without` leaves one of the client's objections out. `refused` are the places of the roots that the browsers' library did not take.
pub fn predicted(client: Client, case: &Case, refused: &[usize], at: Timestamp, without: Option<&'static str>) -> Said {
    let unreadable = |what: &str| (Outcome::Unknown, Some(format!("unreadable: {what}")));
    let read = |der: &Vec<u8>| Certificate::read_any(der);
    let Ok(name) = Name::from_str(&case.host) else { return unreadable("host") };
    let browser = matches!(client, Client::Chromium | Client::Firefox);
    let held = case.anchors.iter().enumerate().filter(|(i, _)| !browser || !refused.contains(i));
    let anchors: Vec<Certificate> = held.filter_map(|(_, der)| read(der)).collect();
    let served: Vec<Certificate> = case.chain.iter().filter_map(read).collect();
    let junk = case.chain.iter().enumerate().filter(|(_, der)| read(der).is_none());
    let junk: Vec<(usize, Vec<u8>)> = junk.map(|(i, der)| (i, der.clone())).collect();
    // As a check does it: of all the roots only those that can have to do with the chain.
    let anchors = TrustView::given(anchors, Vec::new()).near(&Around::of(served.iter()));
    let input = Input {
        served: &served,
        extra: &[],
        anchors: &anchors,
        distrusted: &[],
        distrusted_keys: &[],
        name: Some(&name),
        purpose: Some(JudgedPurpose::Server),
        at,
        lists: &[],
        revocation: Default::default(),
        spoken: Spoken {
            junk: &junk,
            key_mismatch: !case.fits,
            demands_client: case.tls.demands_client,
            is_tls12: case.tls.only == Some(2),
            suite: None,
            is_p521: false,
            staple_refuses: case.tls.staple,
        },
    };
    let verdict = predict_without(client, &input, without);
    (verdict.outcome, verdict.code)
}
