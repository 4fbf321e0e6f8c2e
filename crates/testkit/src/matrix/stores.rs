//! The stores of the matrix' machine: every client's holds the same roots.

use super::chain::Kind;
use std::fmt::Write as _;
use std::path::Path;
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::format::contents::Named;
use tamga_core::pki::format::{jks, pem};
use tamga_core::plan::nss::{Library, NssAction, NssChange};
use tamga_core::stores::trust::{chromium, firefox};
use tamga_core::vocabulary::secret::Passphrase;
use tamga_host::entropy::now;
use tamga_host::nss;
use tamga_host::places::Machine;

/// Where Node.js looks.
pub const EXTRA: &str = "extra-roots.pem";

/// Fills them. `home` and `root` are those of the machine.
pub fn fill(machine: &Machine, home: &Path, root: &Path, kinds: &[Kind], ports: &[u16]) {
    let roots: Vec<&Vec<u8>> = kinds.iter().flat_map(|k| &k.anchors).collect();
    let bundle: String = roots.iter().map(|der| pem::write("CERTIFICATE", der).to_string()).collect();
    let certificates = root.join("etc/ssl/certs");
    std::fs::create_dir_all(&certificates).unwrap();
    std::fs::write(certificates.join("ca-certificates.crt"), &bundle).unwrap();
    std::fs::write(home.join(EXTRA), &bundle).unwrap();
    std::fs::create_dir(home.join(".postgresql")).unwrap();
    std::fs::write(home.join(".postgresql/root.crt"), &bundle).unwrap();
    let jvm = root.join("usr/lib/jvm/lab/lib/security");
    std::fs::create_dir_all(&jvm).unwrap();
    let named: Vec<Named<Vec<u8>>> = roots
        .iter()
        .enumerate()
        .map(|(i, der)| Named { alias: Some(format!("root-{i}")), thing: der.to_vec() })
        .collect();
    let store = jks::write_trust(&named, &Passphrase::new(b"changeit".to_vec().into()), now()).unwrap();
    std::fs::write(jvm.join("cacerts"), &*store).unwrap();
    let profile = home.join(".mozilla/firefox/lab");
    std::fs::create_dir_all(&profile).unwrap();
    std::fs::write(
        home.join(".mozilla/firefox/profiles.ini"),
        "[Profile0]\nIsRelative=1\nPath=lab\n[Install0]\nDefault=lab\n",
    )
    .unwrap();
    let mut exceptions = String::from("# PSM Certificate Override Settings file\n");
    for (kind, port) in kinds.iter().zip(ports).filter(|(k, _)| k.exception) {
        let print = Certificate::read(&kind.chain[0], "").unwrap().sha256().to_uppercase();
        let pairs: Vec<String> = print.as_bytes().chunks(2).map(|p| String::from_utf8_lossy(p).into_owned()).collect();
        writeln!(exceptions, "{}:{port}:\tOID.2.16.840.1.101.3.4.2.1\t{}\t", kind.host, pairs.join(":")).unwrap();
    }
    std::fs::write(profile.join("cert_override.txt"), exceptions).unwrap();
    let distrusted: Vec<&[u8]> = kinds.iter().filter(|k| k.distrusted).map(|k| k.anchors[0].as_slice()).collect();
    crate::chromium::keep(home, &distrusted, 2);
    let own = chromium::folder(machine);
    std::fs::create_dir_all(&own).unwrap();
    for (folder, library) in [(own, Library::System), (profile, firefox::library(machine))] {
        for (i, der) in roots.iter().enumerate() {
            let action = NssAction::Add { der: der.to_vec(), nickname: format!("root-{i}") };
            let change = NssChange { folder: folder.clone(), library: library.clone(), action };
            // NSS knows no Ed25519: such a root is then in no browser's store, which the prediction reads.
            let _ = nss::change(machine, &change);
        }
    }
}
