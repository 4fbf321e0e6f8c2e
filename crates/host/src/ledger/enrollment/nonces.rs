//! Nonces that were used.

use super::super::{Durability, Store, StoreExt as _, values};
use super::Nonces;
use crate::error::Result;
use tamga_core::vocabulary::timestamp::Timestamp;

impl<S: Store> Nonces for S {
    fn take_nonce(&self, id: &[u8], now: Timestamp) -> Result<bool> {
        let sql = "INSERT INTO enrollment_nonce (id, at) VALUES (?1, ?2) ON CONFLICT DO NOTHING";
        // Not made durable at once: half of all requests would wait for the disk for nothing.
        self.write_as(Durability::Process, |db| Ok(db.execute(sql, values![id, now.unix()])? == 1))
    }
}
