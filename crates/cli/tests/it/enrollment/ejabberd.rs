//! The ejabberd messaging server: it polls orders, not authorizations, and never looks whom it talks to.

use super::{Running, Service, root, until};
use crate::lab;
use std::process::{Command, Stdio};
use tamga_testkit::sandbox::has;
use tamga_testkit::server::{free_port, is_root};

#[test]
fn it_gets_a_certificate_and_shows_it() {
    if !has(&["ejabberdctl"]) || !is_root() {
        return;
    }
    let s = lab();
    let service = Service::start(&s, &[]);
    let directory = s.lab("ejabberd");
    std::fs::create_dir_all(directory.join("spool")).unwrap();
    let (at, clients) = (directory.display(), free_port());
    std::fs::copy("/etc/ejabberd/inetrc", directory.join("inetrc")).unwrap();
    std::fs::copy(root(&s), directory.join("root.pem")).unwrap();
    std::fs::write(directory.join("ejabberdctl.cfg"), "").unwrap();
    let settings = format!(
        "loglevel: info\nhosts: [archive.saltmarsh.test]\nca_file: {at}/root.pem\nlisten:\n\
         \x20 - {{port: {}, ip: \"127.0.0.1\", module: ejabberd_http, request_handlers: {{\"/.well-known/acme-challenge\": ejabberd_acme}}}}\n\
         \x20 - {{port: {clients}, ip: \"127.0.0.1\", module: ejabberd_c2s, starttls: true}}\n\
         acme: {{ca_url: \"{}\", contact: \"mailto:lab-operator@saltmarsh.test\", auto: true, cert_type: ec}}\n\
         auth_method: anonymous\nmodules: {{}}\n",
        service.http, service.directory
    );
    let configuration = directory.join("ejabberd.yml");
    std::fs::write(&configuration, settings).unwrap();
    s.open_to_others();
    Command::new("chown").args(["-R", "ejabberd"]).arg(&directory).status().unwrap();
    let log = directory.join("out");
    let out = std::fs::File::create(&log).unwrap();
    let mut command = Command::new("ejabberdctl");
    command.args(["-n", &format!("tamga{clients}@localhost")]).arg("--config-dir").arg(&directory);
    command.arg("--config").arg(&configuration).arg("--ctl-config").arg(directory.join("ejabberdctl.cfg"));
    command.arg("--logs").arg(directory.join("spool")).arg("--spool").arg(directory.join("spool"));
    // It asks for its own unit otherwise.
    command.arg("foreground").stdout(out).stderr(Stdio::null()).env("ERL_EPMD_PORT", free_port().to_string());
    let _running = Running::start(&mut command);
    let said = || std::fs::read_to_string(&log).unwrap_or_default();
    until("its certificate", || said().contains("has been received, stored and loaded successfully"), said);
    let check = s.json(&[
        "check",
        &format!("xmpp://archive.saltmarsh.test:{clients}"),
        "--resolve",
        "archive.saltmarsh.test=127.0.0.1",
        "--clients",
        "standard",
        "--anchor",
        root(&s).to_str().unwrap(),
    ]);
    assert_eq!(check.code, 0, "{}", check.out);
}
