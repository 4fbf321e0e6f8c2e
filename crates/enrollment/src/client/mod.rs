//! The other side: a client of any service of RFC 8555, this one's or a public one.

mod alpn;
mod dns;
mod http;
mod order;
mod prove;
mod session;

use session::{Offered, Session};
use std::net::{IpAddr, SocketAddr};
use tamga_app::enroller::{Enroller, Got, Wanted};
use tamga_app::failure::Result;
use tamga_core::enrollment::failure::Failure;
use tamga_core::enrollment::renewal;
use tamga_core::pki::cert::Certificate;
use tamga_core::vocabulary::timestamp::Timestamp;
use tamga_host::ledger::Origin;

/// Asks services over the network.
pub struct Client;

impl Enroller for Client {
    fn enroll(&self, wanted: &Wanted<'_>, ordered: &dyn Fn(&str) -> Result<()>) -> Result<Got> {
        runtime()?.block_on(async {
            let offered = Offered::open(wanted.origin, &wanted.means.roots).await?;
            let session = Session::of(offered, &wanted.means.account);
            let mut left = Vec::new();
            let chain = order::get(&session, wanted, ordered, &mut left).await?;
            Ok(Got { chain, left })
        })
    }

    fn suggested(
        &self,
        origin: &Origin,
        roots: &[Vec<u8>],
        certificate: &Certificate,
    ) -> Option<(Timestamp, Timestamp)> {
        let id = renewal::certificate_id(certificate)?;
        runtime().ok()?.block_on(async { Offered::open(origin, roots).await.ok()?.suggested(&id).await })
    }
}

fn runtime() -> Result<tokio::runtime::Runtime> {
    tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().map_err(|e| {
        Failure::Unreached { url: "the network".into(), why: format!("no thread could be started: {e}") }.into()
    })
}

/// The addresses of a host: as they were given, else by the system's resolver.
async fn addresses(origin: &Origin, host: &str, port: u16) -> Vec<SocketAddr> {
    let given = origin.resolve.iter().filter(|(name, _)| name == host).map(|(_, ip)| SocketAddr::new(*ip, port));
    let given: Vec<SocketAddr> = given.collect();
    if !given.is_empty() {
        return given;
    }
    match host.trim_matches(['[', ']']).parse::<IpAddr>() {
        Ok(ip) => vec![SocketAddr::new(ip, port)],
        Err(_) => tokio::net::lookup_host((host, port)).await.map(Iterator::collect).unwrap_or_default(),
    }
}
