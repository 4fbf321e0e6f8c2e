//! What the installed clients do with the targets of a check: each client is started once for many of them.

use super::Checked;
use crate::env::Env;
use tamga_core::check::client::Client;
use tamga_host::clients::Visit;

/// Lets every installed client of these visit the targets that it can speak to, and compares.
pub(super) fn compare(env: &Env, clients: &[Client], all: &mut [Checked]) {
    for run in runs(all) {
        let visits: Vec<Visit> = run.iter().filter_map(|i| all[*i].visit.clone()).collect();
        let mut pages = vec![Vec::new(); run.len()];
        for (client, seen) in crate::observe::observe(env, clients, &visits) {
            for ((i, pages), observed) in run.iter().zip(&mut pages).zip(seen) {
                pages.extend(observed.page.clone());
                all[*i].compare(client, Some(observed));
            }
        }
        for (i, pages) in run.iter().zip(pages) {
            all[*i].take_pages(pages);
        }
    }
}

/// Which targets can be visited by one and the same process. A process remembers: it leads a name to one address, and Firefox says of two
/// certificates with one issuer and serial number that the second is a forgery.
fn runs(all: &[Checked]) -> Vec<Vec<usize>> {
    let mut runs: Vec<Vec<usize>> = Vec::new();
    let beside = |a: &Checked, b: &Checked| match (&a.visit, &b.visit) {
        (Some(x), Some(y)) => {
            x.of_database == y.of_database
                && (x.host != y.host || x.address.ip() == y.address.ip())
                && !a.chain.iter().any(|c| clashes(c, &b.chain))
        }
        _ => true,
    };
    for (i, checked) in all.iter().enumerate().filter(|(_, c)| c.visit.is_some()) {
        match runs.iter_mut().find(|run| run.iter().all(|other| beside(checked, &all[*other]))) {
            Some(run) => run.push(i),
            None => runs.push(vec![i]),
        }
    }
    runs
}

/// True if another certificate in the chain has the same issuer and serial number.
fn clashes(c: &tamga_core::pki::cert::Certificate, chain: &[tamga_core::pki::cert::Certificate]) -> bool {
    chain.iter().any(|d| (&d.issuer, &d.serial) == (&c.issuer, &c.serial) && d != c)
}

#[cfg(test)]
mod tests {
    use super::*;
    use tamga_core::pki::cert::Certificate;
    use tamga_core::sample;

    fn target(host: &str, address: &str, chain: Vec<Certificate>) -> Checked {
        let mut checked = Checked::new(host, "live", host.to_owned());
        let (host, address) = (host.parse().unwrap(), address.parse().unwrap());
        checked.visit = Some(Visit { host, address, page: None, of_database: false });
        checked.chain = chain;
        checked
    }

    #[test]
    fn targets_share_a_run_unless_a_client_would_mix_them_up() {
        let (leaf, _) = sample::leaf(&["charts.saltmarsh.test"]).unwrap();
        let one = target("charts.saltmarsh.test", "127.0.0.1:1", vec![leaf.clone()]);
        let other_port = target("charts.saltmarsh.test", "127.0.0.1:2", vec![leaf.clone()]);
        let other_address = target("charts.saltmarsh.test", "127.0.0.2:1", vec![leaf.clone()]);
        let other_name = target("tide.saltmarsh.test", "127.0.0.3:1", vec![leaf]);
        let unmet = Checked::new("gone.saltmarsh.test", "live", "gone".into());
        assert_eq!(runs(&[one, other_port, other_address, unmet, other_name]), [vec![0, 1, 4], vec![2]]);
    }

    #[test]
    fn two_certificates_of_one_number_are_shown_to_two_runs() {
        // The sample's leaves have one serial number.
        let (a, _) = sample::leaf(&["charts.saltmarsh.test"]).unwrap();
        let (b, _) = sample::leaf(&["tide.saltmarsh.test"]).unwrap();
        assert_eq!(a.serial, b.serial);
        let all = [
            target("charts.saltmarsh.test", "127.0.0.1:1", vec![a]),
            target("tide.saltmarsh.test", "127.0.0.1:2", vec![b]),
        ];
        assert_eq!(runs(&all), [vec![0], vec![1]]);
    }
}
