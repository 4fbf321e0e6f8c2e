//! What a client trusts on a machine: its own way of looking.

use super::reader::Reader;
use super::view::TrustView;
use super::{Client, descriptor};
use crate::plan::ports::Look;

/// What one client trusts.
pub fn by(client: Client, look: &dyn Look) -> TrustView {
    (descriptor::of(client).view)(&Reader::new(look))
}

/// What each of them trusts; what several read is read once.
pub fn by_each(clients: &[Client], look: &dyn Look) -> Vec<(Client, TrustView)> {
    let reader = Reader::new(look);
    clients.iter().map(|c| (*c, (descriptor::of(*c).view)(&reader))).collect()
}
