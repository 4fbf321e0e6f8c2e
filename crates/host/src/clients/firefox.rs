//! Firefox, headless, through its Marionette protocol: the code on its error page is the very one that a person sees.

#![allow(clippy::disallowed_macros, reason = "the protocol's messages; there is no path in them")]

mod page;

use super::{Observed, Visit, failed};
use crate::places::Machine;
use crate::scratch::{self, Started};
use serde_json::{Value, json};
use std::io::{Read, Write};
use std::net::{Ipv4Addr, SocketAddr, TcpStream, ToSocketAddrs};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use tamga_core::check::client::{Client, Outcome};
use tamga_core::check::page::Page;
use tamga_core::check::verify::firefox::is_overridable;
use tamga_core::stores::trust::firefox::usual_profile;

/// Starting takes five to seven seconds here; a loaded machine takes many more.
const LIMIT: Duration = Duration::from_secs(90);
/// The file in which Firefox says on which port it listens.
const PORT: &str = "MarionetteActivePort";

/// So long is waited for what fails late.
const LATE: Duration = Duration::from_millis(600);
/// What Firefox' console has about mixed content, and whether the page is a secure context. A page of Firefox' own is none.
const SEEN: &str = "const shown = gBrowser.currentURI; if (shown.scheme !== 'https') return {}; \
    const wanted = /^Mixed Content|^Insecure Password/; \
    return { secure: gBrowser.securityUI.isSecureContext, messages: Services.console.getMessageArray() \
      .filter(m => m instanceof Ci.nsIScriptError && wanted.test(m.category)).slice(0, 2000).map(m => m.errorMessage) }";

/// Makes all visits with one browser on a throw-away profile that holds a copy of the usual profile's database.
pub fn visits(program: &Path, machine: &Machine, visits: &[Visit]) -> Vec<Observed> {
    let all_failed = |why: String| visits.iter().map(|_| failed(why.clone())).collect();
    let home = match crate::scratch::directory("tamga-browser-") {
        Ok(home) => home,
        Err(e) => return all_failed(format!("no temporary directory: {e}")),
    };
    let from = usual_profile(machine).unwrap_or_default();
    match Browser::start(program, &from, home.path(), visits) {
        Ok(mut browser) => visits.iter().map(|v| browser.visit(v)).collect(),
        Err(why) => all_failed(why),
    }
}

struct Browser {
    _started: Started,
    child: Child,
    socket: TcpStream,
    asked: u64,
}

impl Browser {
    fn start(program: &Path, from: &Path, home: &Path, visits: &[Visit]) -> Result<Browser, String> {
        let failed_start = |e: std::io::Error| format!("firefox did not start: {e}");
        let profile = home.join("profile");
        crate::fs::make_directory(&profile, 0o700).map_err(|e| e.to_string())?;
        for name in ["cert9.db", "key4.db"] {
            if let Ok(bytes) = crate::fs::read_regular(&from.join(name)) {
                crate::fs::write_scratch(&profile.join(name), &bytes).map_err(failed_start)?;
            }
        }
        // It leads names to loopback alone; other names must resolve by themselves.
        let local: Vec<String> =
            visits.iter().filter(|v| v.address.ip().is_loopback()).map(|v| v.host.to_string()).collect();
        let settings = [
            ("marionette.port", json!(0)),
            ("network.dns.localDomains", json!(local.join(","))),
            ("network.proxy.type", json!(0)),
            ("app.update.disabledForTesting", json!(true)),
            ("datareporting.policy.dataSubmissionEnabled", json!(false)),
            ("network.captive-portal-service.enabled", json!(false)),
            ("network.connectivity-service.enabled", json!(false)),
            // What a person's browser prepares for later, which this one never needs: a third of its start.
            ("browser.newtabpage.enabled", json!(false)),
            ("browser.newtab.preload", json!(false)),
            ("browser.safebrowsing.malware.enabled", json!(false)),
            ("browser.safebrowsing.phishing.enabled", json!(false)),
            ("browser.startup.blankWindow", json!(false)),
            ("browser.startup.homepage_override.mstone", json!("ignore")),
            ("browser.startup.page", json!(0)),
            ("browser.tabs.remote.separatePrivilegedContentProcess", json!(false)),
            ("dom.ipc.processPrelaunch.enabled", json!(false)),
            ("extensions.enabledScopes", json!(0)),
            ("extensions.pocket.enabled", json!(false)),
            ("extensions.systemAddon.update.enabled", json!(false)),
            ("toolkit.telemetry.enabled", json!(false)),
            // Of an address in two families only the one that was asked for is tried.
            ("network.dns.disableIPv6", json!(visits.iter().all(|v| v.address.is_ipv4()))),
        ];
        let text: String = settings.iter().map(|(k, v)| format!("user_pref(\"{k}\", {v});\n")).collect();
        crate::fs::write_scratch(&profile.join("user.js"), text.as_bytes()).map_err(failed_start)?;
        let mut command = Command::new(program);
        command.args(["--headless", "--marionette", "--remote-allow-system-access", "--no-remote", "--profile"]);
        command.arg(&profile).env("HOME", home).env("TMPDIR", home).env("MOZ_CRASHREPORTER_DISABLE", "1");
        crate::platform::own_group(&mut command);
        for name in ["XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_CACHE_HOME", "DISPLAY", "SSLKEYLOGFILE"] {
            command.env_remove(name);
        }
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        let mut child = command.spawn().map_err(failed_start)?;
        let started = scratch::started(&child, true);
        let begun = Instant::now();
        let port = loop {
            let port = crate::fs::read_regular(&profile.join(PORT))
                .ok()
                .and_then(|t| std::str::from_utf8(&t).ok()?.trim().parse::<u16>().ok());
            match port {
                Some(port) => break port,
                None if begun.elapsed() > LIMIT || matches!(child.try_wait(), Ok(Some(_))) => {
                    end(&mut child);
                    return Err("firefox did not listen in time".into());
                }
                None => std::thread::sleep(Duration::from_millis(50)),
            }
        };
        let address = SocketAddr::from((Ipv4Addr::LOCALHOST, port));
        let socket = TcpStream::connect(address).and_then(|s| s.set_read_timeout(Some(LIMIT)).map(|()| s));
        let socket = match socket {
            Ok(socket) => socket,
            Err(e) => {
                end(&mut child);
                return Err(failed_start(e));
            }
        };
        let mut browser = Browser { _started: started, child, socket, asked: 0 };
        browser.hear()?;
        let wanted = json!({"capabilities": {"alwaysMatch": {"acceptInsecureCerts": false}}});
        browser.ask("WebDriver:NewSession", &wanted)?.map_err(|e| format!("firefox gave no session: {e}"))?;
        browser.ask("WebDriver:SetTimeouts", &json!({"pageLoad": 20_000}))?.map_err(|e| format!("firefox: {e}"))?;
        Ok(browser)
    }

    /// One message: its length in decimal, a colon, JSON.
    fn hear(&mut self) -> Result<Value, String> {
        let ended = |_| "firefox ended before it answered".to_owned();
        let mut length = String::new();
        loop {
            let mut byte = [0];
            self.socket.read_exact(&mut byte).map_err(ended)?;
            match byte[0] {
                b':' => break,
                b if b.is_ascii_digit() && length.len() < 9 => length.push(char::from(b)),
                _ => return Err("firefox answers in another protocol".into()),
            }
        }
        let mut text = vec![0; length.parse().unwrap_or(0)];
        self.socket.read_exact(&mut text).map_err(ended)?;
        serde_json::from_slice(&text).map_err(|e| format!("firefox's answer: {e}"))
    }

    /// The answer, or the error's word; outside: no answer at all.
    fn ask(&mut self, command: &str, arguments: &Value) -> Result<Result<Value, String>, String> {
        self.asked += 1;
        let text = json!([0, self.asked, command, arguments]).to_string();
        let sent = self.socket.write_all(format!("{}:{text}", text.len()).as_bytes());
        sent.map_err(|_| "firefox ended before it was asked".to_owned())?;
        let answer = self.hear()?;
        Ok(match &answer[2] {
            Value::Null => Ok(answer[3]["value"].clone()),
            error => Err(error["error"].as_str().unwrap_or_default().to_owned()),
        })
    }

    /// Runs a script in the browser's own window; None if it gave nothing.
    fn chrome(&mut self, script: &str) -> Result<Value, String> {
        let context = |to: &str| json!({"value": to});
        let _ = self.ask("Marionette:SetContext", &context("chrome"))?;
        let answer = self.ask("WebDriver:ExecuteScript", &json!({"script": script, "args": []}))?;
        let _ = self.ask("Marionette:SetContext", &context("content"))?;
        Ok(answer.unwrap_or(Value::Null))
    }

    /// What Firefox found in the page that it shows.
    fn page(&mut self, visit: &Visit) -> Result<Option<Page>, String> {
        // What was asked for over HTTPS instead of plain HTTP fails only after the page is loaded.
        std::thread::sleep(LATE);
        let seen = self.chrome(SEEN)?;
        let Some(secure_context) = seen["secure"].as_bool() else { return Ok(None) };
        let messages = seen["messages"].as_array().into_iter().flatten().filter_map(Value::as_str);
        Ok(Some(Page { client: Client::Firefox, url: visit.url(), secure_context, parts: page::parts(messages) }))
    }

    fn visit(&mut self, visit: &Visit) -> Observed {
        if visit.page.is_some() && self.chrome("Services.console.reset()").is_err() {
            return failed("firefox ended before it was asked");
        }
        let mut observed = self.navigate(visit);
        if visit.page.is_some() && observed.outcome == Outcome::Accepts {
            observed.page = self.page(visit).unwrap_or_default();
        }
        observed
    }

    fn navigate(&mut self, visit: &Visit) -> Observed {
        if !visit.address.ip().is_loopback() && !leads(visit) {
            return failed(format!("firefox cannot be led to {} by this name", visit.address.ip()));
        }
        let shown = match self.ask("WebDriver:Navigate", &json!({"url": visit.url()})) {
            Ok(shown) => shown,
            Err(why) => return failed(why),
        };
        let Err(word) = shown else {
            return Observed::accepts("the page was shown");
        };
        // The error page knows the code; on a page of another kind the functions do not exist.
        let script = "const of = f => { try { return document[f]().errorCodeString } catch { return '' } }; \
                      return of('getFailedCertSecurityInfo') || of('getNetErrorInfo') || ''";
        let code = match self.ask("WebDriver:ExecuteScript", &json!({"script": script, "args": []})) {
            Ok(Ok(Value::String(code))) if !code.is_empty() => tamga_core::vocabulary::text::harmless(&code),
            Ok(_) if word == "insecure certificate" => return failed("firefox warns, and tells no code"),
            // What follows the handshake says nothing against the certificate.
            Ok(_) => return Observed::accepts(word),
            Err(why) => return failed(why),
        };
        let outcome = if is_overridable(&code) { Outcome::Warns } else { Outcome::Refuses };
        Observed { outcome, ..Observed::refuses(code.clone(), format!("{word}: {code}")) }
    }
}

/// True if the name resolves to that address by itself.
fn leads(visit: &Visit) -> bool {
    let found = (visit.host.to_string(), visit.address.port()).to_socket_addrs();
    found.is_ok_and(|mut all| all.any(|a| a == visit.address))
}

fn end(child: &mut Child) {
    let _ = child.kill();
    let _ = crate::process::wait(child, Duration::from_secs(5));
    // What it started goes with it: they share a process group of their own.
    crate::platform::end_group(child);
}

impl Drop for Browser {
    fn drop(&mut self) {
        if self.ask("Marionette:Quit", &json!({"flags": ["eForceQuit"]})).is_ok() {
            let _ = crate::process::wait(&mut self.child, Duration::from_secs(10));
        }
        end(&mut self.child);
    }
}
