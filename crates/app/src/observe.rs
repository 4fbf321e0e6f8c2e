//! Clients that are run for real, while the caller sees which of them have answered.

use crate::env::Env;
use crate::interact::Task;
use tamga_core::check::client::{Client, Outcome};
use tamga_host::clients::{self, Observed, Visit};

/// Makes the visits with every client of these that is installed and speaks their protocol, side by side. The order stays.
pub(crate) fn observe(env: &Env, all: &[Client], visits: &[Visit]) -> Vec<(Client, Vec<Observed>)> {
    let speaks = |c: &Client| visits.iter().all(|v| v.is_for(*c));
    let all: Vec<Client> =
        all.iter().copied().filter(|c| speaks(c) && clients::is_installed(*c, &env.machine)).collect();
    let names: Vec<&'static str> = all.iter().map(|c| c.word()).collect();
    let shown = env.caller.progress(Task::Together("asking the clients installed here", &names));
    clients::observe_all(&all, &env.machine, visits, |client, seen| {
        // The first answer that is not good stands for all.
        let worst = seen.iter().map(|o| o.outcome).find(|o| *o != Outcome::Accepts).unwrap_or(Outcome::Accepts);
        shown.answered(client.word(), worst.word());
    })
}
