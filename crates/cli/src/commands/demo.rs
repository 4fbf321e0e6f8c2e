//! `tamga demo`: the whole job on the sample lab, in a throw-away directory with sandboxed stores.
//!
//! It types the commands that a person would type and reads their JSON: every verdict comes from something that ran.

use super::check;
use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::words::human;
use schemars::JsonSchema;
use serde::Serialize;
use serde_json::Value;
use std::path::PathBuf;
use std::process::Command;
use std::time::Duration;
use tamga_app::interact::Task;
use tamga_core::ca::authority::{CERTIFICATE_FILE, KEY_FILE, read_key};
use tamga_core::check::client::{Client, Outcome};
use tamga_core::error::{Kind, Stated};
use tamga_core::pki::format::pem;
use tamga_core::pki::key::{KeyAlgorithm, PrivateKey};
use tamga_core::vocabulary::text::Shown;
use tamga_host::serve::{Running, Site};
use tamga_host::{clients, fs, process};

#[derive(clap::Args)]
pub(crate) struct DemoArgs {}

const HOST: &str = "charts.saltmarsh.test";
/// The store that JVMs are led to; without it they read their own.
const JAVA_STORE: &str = "roots.p12";
/// Set by build machines and shells; the sandbox has its own.
const CLEARED: [&str; 10] = [
    "JDK_JAVA_OPTIONS",
    "XDG_DATA_HOME",
    "XDG_CONFIG_HOME",
    "SSL_CERT_FILE",
    "SSL_CERT_DIR",
    "CURL_HOME",
    "TAMGA_ROOT",
    "SUDO_UID",
    "DOAS_USER",
    "PKEXEC_UID",
];

struct Demo<'a> {
    session: &'a Session,
    work: PathBuf,
    verdicts: Vec<Value>,
}

/// What each client said at each stage.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Verdicts {
    verdicts: Vec<Value>,
}

pub(crate) fn run(session: &Session, _: &DemoArgs) -> Result<Done> {
    let folder = tamga_host::scratch::directory("tamga-demo-")
        .map_err(tamga_host::error::Error::file("making a directory in", &std::env::temp_dir()))?;
    let mut demo = Demo { session, work: folder.path().to_path_buf(), verdicts: Vec::new() };
    let story = demo.story();
    let verdicts = std::mem::take(&mut demo.verdicts);
    let path = folder.path().to_path_buf();
    let gone = folder.close().map_err(tamga_host::error::Error::file("removing", &path));
    story?;
    gone?;
    demo.say(&format!("\n{} {} is gone; nothing on this machine changed.\n", human::good("cleaned up:"), path.shown()));
    Ok(Done::report(String::new(), &Verdicts { verdicts }))
}

impl Demo<'_> {
    fn say(&self, text: &str) {
        let c = &self.session.common;
        if !c.quiet && c.format == crate::args::Format::Text {
            human::out(text);
        }
    }

    fn chapter(&self, title: &str) {
        self.say(&format!("\n{}\n", human::strong(title)));
    }

    fn story(&mut self) -> Result<()> {
        // Its server speaks HTTPS alone.
        let meets = |c: &Client| !c.is_of_one_protocol() && clients::is_installed(*c, &self.session.machine);
        let mut installed: Vec<Client> = Client::ALL.into_iter().filter(meets).collect();
        let has_chromium = installed.contains(&Client::Chromium);
        installed.retain(|c| *c != Client::Chromium || tamga_host::nss::can_load());
        self.say(&format!(
            "{} in {}: its own data directory, home, browser store and bundle of roots.\n",
            human::strong("The Saltmarsh tide-gauge lab (made up)"),
            self.work.shown()
        ));
        if installed.is_empty() {
            self.say(&format!("{} neither curl nor Chromium is installed: Tamga judges alone.\n", human::care("note")));
        }
        if has_chromium && !installed.contains(&Client::Chromium) {
            let why =
                "Chromium is left out: this build is linked statically, and cannot load the library of its store.";
            self.say(&format!("{} {why}\n", human::care("note")));
        }
        for sub in ["home", "lab"] {
            tamga_host::fs::make_directory(&self.work.join(sub), 0o700)?;
        }
        // The bundle that the lab has already: another root of its own, which must survive.
        let bundle = self.work.join("roots.pem");
        let before = self.foreign_root()?;
        tamga_host::fs::write_whole(&bundle, &before, 0o644)?;
        let settings = format!("ca_certificate = {}\n", bundle.shown());
        tamga_host::fs::write_whole(&self.work.join("wgetrc"), settings.as_bytes(), 0o644)?;

        self.chapter("1. A root, and certificates for the lab's hosts");
        self.tamga(&["authority", "create", "saltmarsh"], &[0])?;
        for names in [
            &[HOST, "localhost", "127.0.0.1", "::1"][..],
            &["archive.saltmarsh.test"],
            &["*.buoys.saltmarsh.test"],
            &["gauge-7.saltmarsh.test", "192.168.7.7"],
        ] {
            let args: Vec<&str> = std::iter::once("issue").chain(names.iter().copied()).collect();
            self.tamga(&args, &[0])?;
        }

        let charts = self.site(HOST)?;
        self.chapter("2. Before the root is trusted: everybody refuses");
        self.visit(&charts, &installed, false, "before trust")?;

        self.chapter(
            "3. The root goes into the browser's store, and into the bundle that curl, wget, Node.js, Python and Go are led to",
        );
        let bundle = bundle.shown();
        let stores = if installed.contains(&Client::Chromium) { "chromium,bundle" } else { "bundle" };
        let trust = |goal: &'static str| vec!["trust", goal, "saltmarsh", "--stores", stores, "--bundle", &bundle];
        let (added, _) = self.tamga(&trust("add"), &[0])?;
        for row in added["stores"].as_array().into_iter().flatten() {
            self.say(&format!("  {} {} {}\n", human::good("added"), text(row, "store"), text(row, "place")));
        }

        if installed.contains(&Client::Java) {
            let store = self.work.join(JAVA_STORE).shown();
            self.tamga(&["export", "saltmarsh", "--as", "pkcs12", "--output", &store], &[0])?;
        }

        self.chapter("4. After: nobody warns");
        self.visit(&charts, &installed, true, "after trust")?;

        self.chapter("5. The server was given the wrong files");
        let wrong = self.site("archive.saltmarsh.test")?;
        let checked = self.visit(&wrong, &installed, false, "wrong certificate")?;
        let named =
            checked["findings"].as_array().into_iter().flatten().find(|f| f["code"] == "not-the-issued-certificate");
        let finding = named.ok_or_else(|| {
            self.broken("a wrong certificate must be reported", "the finding not-the-issued-certificate is missing")
        })?;
        self.say(&format!("  {}\n  {}  {}\n", text(finding, "summary"), human::dim("do:"), text(finding, "remedy")));
        if !text(finding, "remedy").contains(HOST) {
            return Err(self.broken("a wrong certificate must be reported", "the right one is not named").into());
        }
        drop(wrong);

        self.chapter("6. The root is taken out again: everybody refuses");
        self.tamga(&trust("remove"), &[0])?;
        let _ = fs::remove(&self.work.join(JAVA_STORE));
        self.visit(&charts, &installed, false, "after removal")?;
        if *fs::read_regular(&self.work.join("roots.pem")).unwrap_or_default() != *before {
            return Err(self.broken("the bundle must be byte for byte as before", "it is not").into());
        }
        self.say(&format!("  {} the bundle of roots is byte for byte as before\n", human::good("same")));
        Ok(())
    }

    /// A step of the demonstration did not end as it must.
    fn broken(&self, step: &str, why: &str) -> Stated {
        Stated {
            kind: Kind::Fault,
            code: "demo-failed",
            what: format!("the demonstration failed: {step}"),
            why: why.to_owned(),
            remedy: "please report it; nothing on this machine was changed".into(),
        }
    }

    /// Runs a command of our own in the sandbox, as a person would type it; gives its JSON and exit code.
    fn tamga(&self, args: &[&str], good: &[u8]) -> Result<(Value, u8)> {
        let quoted = |a: &str| if a.contains('*') { format!("'{a}'") } else { a.to_owned() };
        let shown: Vec<String> = args.iter().map(|a| quoted(&a.replace(&*self.work.to_string_lossy(), "…"))).collect();
        self.say(&format!("{} tamga {}\n", human::dim("$"), shown.join(" ")));
        let typed = args.join(" ");
        let program = std::env::current_exe().map_err(|e| self.broken(&typed, &e.to_string()))?;
        let mut command = Command::new(program);
        command.args(args).args(["--format", "json"]).current_dir(self.work.join("lab"));
        command.env("HOME", self.work.join("home")).env("TAMGA_DATA_DIR", self.work.join("data"));
        for name in CLEARED {
            command.env_remove(name);
        }
        // The bundle stands for what these clients read on a person's machine.
        for name in ["CURL_CA_BUNDLE", "NODE_EXTRA_CA_CERTS", "SSL_CERT_FILE", "GIT_SSL_CAINFO"] {
            command.env(name, self.work.join("roots.pem"));
        }
        command.env("WGETRC", self.work.join("wgetrc"));
        let store = self.work.join(JAVA_STORE);
        command.env("JAVA_TOOL_OPTIONS", format!("-Djavax.net.ssl.trustStore={}", store.shown()));
        let doing = if args.contains(&"--observe") { "asking the clients installed here" } else { "working" };
        let shown = self.session.caller.progress(Task::One(doing));
        let ended = process::run(command, b"", Duration::from_secs(120));
        drop(shown);
        let ended = ended.map_err(|e| self.broken(&typed, &e.to_string()))?;
        let code = ended.code.and_then(|c| u8::try_from(c).ok()).unwrap_or(70);
        let value: Value = serde_json::from_slice(&ended.output).unwrap_or(Value::Null);
        if !good.contains(&code) || value.is_null() {
            let said = value["error"]["what"].as_str().map_or_else(|| ended.errors.to_string(), str::to_owned);
            return Err(self.broken(&format!("tamga {typed} ended with {code}"), &said).into());
        }
        Ok((value, code))
    }

    /// A root that has nothing to do with the lab's.
    fn foreign_root(&self) -> Result<Vec<u8>> {
        use tamga_core::ca::authority::create::{Request, root};
        let request = Request::plain("harbour".parse()?);
        let entropy = tamga_host::entropy::System;
        let key = PrivateKey::generate(KeyAlgorithm::P256, &entropy)?;
        let made = root(&request, &key, self.work.clone(), self.session.now, &entropy)?;
        Ok(pem::write(pem::CERTIFICATE, made.authority.certificate.der()).as_bytes().to_vec())
    }

    /// A server on loopback with the files of a label.
    fn site(&self, label: &str) -> Result<Running> {
        let folder = self.work.join("lab").join(label);
        let read = |name: &str| {
            let path = folder.join(name);
            fs::read_named(&path).map(|b| b.to_vec())
        };
        let chain = pem::certificates(&read(CERTIFICATE_FILE)?);
        let key = read_key(&zeroize::Zeroizing::new(read(KEY_FILE)?), label)?;
        Ok(tamga_host::serve::start(Site::new(&chain, &key, format!("{label} is served by Tamga\n"))?)?)
    }

    /// Checks and observes, prints what each client said, and fails if one says otherwise than it must.
    fn visit(&mut self, site: &Running, installed: &[Client], fine: bool, stage: &str) -> Result<Value> {
        let url = format!("https://{HOST}:{}", site.port);
        let resolve = format!("{HOST}=127.0.0.1");
        let mut args = vec!["check", &url, "--resolve", &resolve];
        if !installed.is_empty() {
            args.push("--observe");
        }
        let (value, _) = self.tamga(&args, &[exit::GOOD, exit::BAD])?;
        let checked = value["targets"][0].clone();
        let rows: Vec<&Value> = checked["clients"].as_array().into_iter().flatten().collect();
        let mut table = Vec::new();
        for client in installed {
            let seen = rows
                .iter()
                .find(|r| r["client"] == client.word() && r["basis"] == "observed")
                .ok_or_else(|| self.broken(stage, &format!("{} was not run", client.word())))?;
            self.must(seen, fine, stage)?;
            table.push(self.row(seen));
        }
        // The judgement by Tamga's own rules: alone where nobody else is installed, and the same as theirs in any case.
        for row in rows.iter().filter(|r| r["basis"] == "predicted") {
            self.must(row, fine, stage)?;
            if installed.is_empty() {
                table.push(self.row(row));
            }
        }
        if let Some(f) =
            checked["findings"].as_array().into_iter().flatten().find(|f| f["code"] == "prediction-differs")
        {
            self.say(&format!("  {} {}\n", human::care("note"), text(f, "summary")));
        }
        for row in rows {
            if row["basis"] == "observed" || installed.is_empty() {
                let mut row = row.clone();
                row["stage"] = Value::from(stage);
                self.verdicts.push(row);
            }
        }
        self.say(&human::table(&table));
        Ok(checked)
    }

    fn must(&self, row: &Value, fine: bool, stage: &str) -> std::result::Result<(), Stated> {
        let accepts = row["verdict"] == "accepts";
        if accepts == fine && row["verdict"] != "unknown" {
            return Ok(());
        }
        let why = format!(
            "{} ({}) says {} {}",
            text(row, "client"),
            text(row, "basis"),
            text(row, "verdict"),
            text(row, "code")
        );
        Err(self.broken(
            &format!("{stage}: {}", if fine { "nobody may warn" } else { "everybody must refuse" }),
            why.trim_end(),
        ))
    }

    fn row(&self, row: &Value) -> Vec<String> {
        let outcome = [Outcome::Accepts, Outcome::Warns, Outcome::Refuses, Outcome::Unknown]
            .into_iter()
            .find(|o| row["verdict"] == o.word())
            .unwrap_or(Outcome::Unknown);
        vec![human::strong(&text(row, "client")), check::outcome(outcome), text(row, "basis"), text(row, "code")]
    }
}

fn text(row: &Value, member: &str) -> String {
    row[member].as_str().unwrap_or_default().to_owned()
}
