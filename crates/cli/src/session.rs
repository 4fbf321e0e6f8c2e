//! One run of the command line: the surroundings of the use cases, and what the person asked of the output.

use crate::args::{Common, StoreArgs};
use crate::ask::Terminal;
use crate::exit::Result;
use crate::words::human;
use std::ops::Deref;
use std::sync::Arc;
use tamga_app::env::Env;
use tamga_host::entropy;
use tamga_host::places::Machine;

/// One run.
#[derive(Clone)]
pub(crate) struct Session {
    pub(crate) env: Env,
    pub(crate) common: Common,
}

impl Deref for Session {
    type Target = Env;
    fn deref(&self) -> &Env {
        &self.env
    }
}

impl Session {
    pub(crate) fn new(common: Common) -> Result<Session> {
        let machine = Machine::from_environment(common.data_dir.clone(), common.ledger.clone())?;
        if let Some(p) = &machine.person {
            human::aside(
                &common,
                &format!("acting for {}: their data directory and stores, with their rights", p.name),
            );
        }
        let caller = Arc::new(Terminal::new(&common));
        let enroller = Arc::new(tamga_enrollment::client::Client);
        let env = Env::new(machine, entropy::now(), common.dry_run, caller).asking(enroller);
        Ok(Session { env, common })
    }

    /// Steps on the machine's own paths go through sudo, doas or pkexec from now on, where that is asked for and needed.
    pub(crate) fn elevate(&self, args: &StoreArgs) -> Result<()> {
        if args.elevate { self.env.elevate() } else { Ok(()) }
    }
}
