//! Nonces that were used.

use super::super::Sqlite;
use super::Nonces;
use crate::error::Result;
use rusqlite::params;
use tamga_core::vocabulary::timestamp::Timestamp;

impl Nonces for Sqlite {
    fn take_nonce(&self, id: &[u8], now: Timestamp) -> Result<bool> {
        let taken = || -> rusqlite::Result<bool> {
            // Not made durable at once: half of all requests would wait for the disk for nothing. With NORMAL the file stays whole, and
            // what was written outlives the process; the next durable commit makes it durable too.
            self.db.pragma_update(None, "synchronous", "NORMAL")?;
            let done = self
                .db
                .prepare_cached("INSERT OR IGNORE INTO enrollment_nonce (id, at) VALUES (?1, ?2)")?
                .execute(params![id, now.unix()]);
            self.db.pragma_update(None, "synchronous", "FULL")?;
            Ok(done? == 1)
        };
        taken().map_err(|e| self.failed(e))
    }
}
