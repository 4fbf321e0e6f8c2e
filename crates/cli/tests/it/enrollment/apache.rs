//! Apache httpd with its own module: it gets, renews and serves by itself.

use super::{Running, Service, curl, root, until};
use crate::lab;
use nix::sys::signal::Signal;
use std::path::{Path, PathBuf};
use tamga_testkit::sandbox::{Sandbox, has};
use tamga_testkit::server::is_root;

const MODULES: &str = "/usr/lib/apache2/modules";

/// True if Apache and its module are here; else the test says that it is skipped.
pub(super) fn is_here() -> bool {
    let module = Path::new(MODULES).join("mod_md.so");
    // Its workers give root's rights away, and without them it starts none.
    has(&["apache2", "curl"]) && is_root() && module.is_file()
}

/// A running Apache that manages names.
pub(super) struct Apache {
    pub(super) running: Running,
    directory: PathBuf,
}

impl Apache {
    pub(super) fn start(s: &Sandbox, service: &Service, names: &[&str], more: &str) -> Apache {
        let directory = s.lab("apache");
        std::fs::create_dir_all(directory.join("md")).unwrap();
        std::fs::copy(root(s), directory.join("root.pem")).unwrap();
        let (at, http, tls, url) = (directory.display(), service.http, service.tls, &service.directory);
        let (first, all) = (names[0], names.join(" "));
        let load = |all: &[&str]| -> String {
            all.iter().map(|m| format!("LoadModule {m}_module {MODULES}/mod_{m}.so\n")).collect()
        };
        let modules = load(&["mpm_event", "authz_core", "socache_shmcb", "ssl", "md"]);
        let aliases: String = names[1..].iter().map(|n| format!("ServerAlias {n}\n")).collect();
        let text = format!(
            "ServerRoot {at}\nPidFile {at}/pid\nDefaultRuntimeDir {at}\nMutex file:{at} default\n{modules}User nobody\nGroup nogroup\n\
             Listen 127.0.0.1:{http}\nListen 127.0.0.1:{tls}\nErrorLog {at}/error\nLogLevel warn md:info\nServerName {first}\n\
             Protocols http/1.1 acme-tls/1\nMDCertificateAuthority {url}\nMDCertificateAgreement accepted\n\
             MDCACertificateFile {at}/root.pem\nMDPortMap 80:{http} 443:{tls}\nMDContactEmail lab-operator@saltmarsh.test\n\
             MDPrivateKeys secp256r1\nMDStoreDir {at}/md\nMDRetryDelay 1s\nMDCheckInterval 1s\n{more}\nMDomain {all}\n\
             <VirtualHost *:{http}>\nServerName {first}\n{aliases}</VirtualHost>\n\
             <VirtualHost *:{tls}>\nServerName {first}\n{aliases}SSLEngine on\n</VirtualHost>\n"
        );
        let configuration = directory.join("httpd.conf");
        std::fs::write(&configuration, text).unwrap();
        s.open_to_others();
        std::process::Command::new("chown").args(["-R", "nobody:nogroup"]).arg(&directory).status().unwrap();
        let mut command = s.around("apache2");
        command.arg("-D").arg("FOREGROUND").arg("-f").arg(&configuration);
        Apache { running: Running::start(&mut command), directory }
    }

    pub(super) fn log(&self) -> String {
        std::fs::read_to_string(self.directory.join("error")).unwrap_or_default()
    }

    /// Waits until it has a new certificate so often, and has it served.
    pub(super) fn serves_what_it_got(&self, times: usize) {
        until("Apache's certificate", || self.log().matches("AH10059").count() >= times, || self.log());
        let before = self.log().matches("resuming normal operations").count();
        self.running.signal(Signal::SIGUSR1);
        until("Apache's restart", || self.log().matches("resuming normal operations").count() > before, || self.log());
    }
}

#[test]
fn it_gets_a_certificate_for_two_names_over_http() {
    if !is_here() {
        return;
    }
    let s = lab();
    let service = Service::start(&s, &[]);
    let names = ["charts.saltmarsh.test", "archive.saltmarsh.test"];
    let apache = Apache::start(&s, &service, &names, "MDCAChallenges http-01");
    apache.serves_what_it_got(1);
    for name in names {
        until("what it serves", || curl(&s, name, service.tls).ends_with("404"), || apache.log());
    }
    assert_eq!((service.said("issued").len(), service.said("proved").len()), (1, 2));
}

#[test]
fn it_gets_one_in_a_handshake_and_renews_it() {
    if !is_here() {
        return;
    }
    let s = lab();
    // Valid since an hour ago and for two more: a third of its life is over at once, and Apache renews after a fifth.
    let service = Service::start(&s, &["--valid-for", "2h"]);
    let settings = "MDCAChallenges tls-alpn-01\nMDRenewWindow 80%";
    let apache = Apache::start(&s, &service, &["charts.saltmarsh.test"], settings);
    apache.serves_what_it_got(1);
    until("what it serves", || curl(&s, "charts.saltmarsh.test", service.tls).ends_with("404"), || apache.log());
    service.waits_for("issued", 2);
    let issued = service.said("issued");
    assert_ne!(issued[0]["detail"], issued[1]["detail"]);
    // The same label, and the earlier one superseded.
    let listed = s.json(&["list", "charts.saltmarsh.test"]).expect(0).json();
    let states: Vec<&str> =
        listed["certificates"].as_array().unwrap().iter().map(|c| c["state"].as_str().unwrap()).collect();
    assert!(states.contains(&"superseded") && states.contains(&"valid"), "{listed}");
}
