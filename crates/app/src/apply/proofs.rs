//! The server shows the new certificate, after a while at the most.

use std::net::IpAddr;
use std::time::{Duration, Instant};
use tamga_core::ca::report::Issued;
use tamga_core::deploy::lab::file::Endpoint;
use tamga_host::dial::{self, Ask, Prelude};

/// How long a server has to show the new certificate.
const PATIENCE: Duration = Duration::from_secs(8);

/// Connects until the server shows the certificate.
///
/// Errors: why it does not, in one line.
pub(super) fn shows(issued: &Issued, endpoint: &Endpoint) -> Result<(), String> {
    let Endpoint { host, port, at } = endpoint;
    let name = format!("{host}:{port}");
    let given: Vec<(String, IpAddr)> = at.iter().map(|a| (host.to_string(), *a)).collect();
    let begun = Instant::now();
    loop {
        let ask = Ask { host, prelude: Prelude::None, path: "/", shown: None };
        let why = match dial::resolve(host, *port, &given) {
            Ok(all) => match all.first().map(|a| dial::meet(&ask, *a)) {
                Some(Ok(met)) if met.chain.first().map(Vec::as_slice) == Some(issued.certificate.der()) => {
                    return Ok(());
                }
                Some(Ok(_)) => format!("{name} still shows another certificate"),
                Some(Err(missed)) => missed.detail,
                None => format!("{name} leads nowhere"),
            },
            Err(missed) => format!("{} does not resolve", missed.detail),
        };
        if begun.elapsed() > PATIENCE {
            return Err(why);
        }
        std::thread::sleep(Duration::from_millis(200));
    }
}
