//! Chromium, headless, through its DevTools protocol over a pipe: its `errorText` is the very code a person sees.

#![allow(clippy::disallowed_macros, reason = "the protocol's messages; there is no path in them")]

mod page;

use super::{Observed, Visit, failed};
use crate::fs;
use crate::places::Machine;
use crate::scratch::{self, Started};
use command_fds::{CommandFdExt, FdMapping};
use serde_json::{Value, json};
use std::io::{BufRead, BufReader, Write};
use std::os::fd::OwnedFd;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::mpsc;
use std::time::{Duration, Instant};
use tamga_core::check::client::{Client, Outcome};
use tamga_core::check::page::Page;
use tamga_core::plan::ports::Environment;
use tamga_core::stores::trust::chromium::folder;
use tamga_core::vocabulary::text::Shown;

/// Starting takes one second here; a cold or loaded machine takes many.
const LIMIT: Duration = Duration::from_secs(45);

/// So long a page may take to load its parts; what it still loads then is not waited for.
const LOAD: Duration = Duration::from_secs(8);
/// A part that was asked for over HTTPS instead of plain HTTP fails only after the page is loaded.
const LATE: Duration = Duration::from_millis(600);
/// A page can make endlessly many requests.
const MOST_EVENTS: usize = 20_000;

/// So many pages are asked for at once: before it shows an error it waits a second or more, in case the network has a login page.
const TABS: usize = 12;

/// Makes all visits with one browser in a throw-away home that holds a copy of the person's NSS database.
pub fn visits(program: &Path, machine: &Machine, visits: &[Visit]) -> Vec<Observed> {
    let all_failed = |why: String| visits.iter().map(|_| failed(why.clone())).collect();
    let home = match crate::scratch::directory("tamga-browser-") {
        Ok(home) => home,
        Err(e) => return all_failed(format!("no temporary directory: {e}")),
    };
    if let Err(e) = copy_database(&folder(machine), home.path()) {
        return all_failed(format!("the NSS database could not be copied: {e}"));
    }
    // What the person's own profile keeps of roots and of distrust.
    let kept = machine.home().join(".config/chromium/Default/ServerCertificate");
    let to = home.path().join("profile/Default");
    if kept.exists()
        && let Err(e) = copied(&kept, &to)
    {
        return all_failed(format!("the browser's certificate manager could not be copied: {e}"));
    }
    match Browser::start(program, machine, home.path(), visits) {
        Ok(mut browser) => visits.chunks(TABS).flat_map(|some| browser.visit(some)).collect(),
        Err(why) => all_failed(why),
    }
}

/// The file of Chromium's certificate manager, into a directory that is made for it.
fn copied(kept: &Path, to: &Path) -> std::io::Result<()> {
    fs::make_directory(to, 0o700).map_err(std::io::Error::other)?;
    fs::write_scratch(&to.join("ServerCertificate"), &fs::read_regular(kept)?)
}

fn copy_database(from: &Path, home: &Path) -> std::io::Result<()> {
    let to = home.join(".local/share/pki/nssdb");
    fs::make_directory(&to, 0o700).map_err(std::io::Error::other)?;
    for name in ["cert9.db", "key4.db", "pkcs11.txt"] {
        match fs::read_regular(&from.join(name)) {
            // The file of modules names the directory that it was made in.
            Ok(bytes) if name == "pkcs11.txt" => {
                let text = String::from_utf8_lossy(&bytes).replace(&*from.to_string_lossy(), &to.to_string_lossy());
                fs::write_scratch(&to.join(name), text.as_bytes())?;
            }
            Ok(bytes) => fs::write_scratch(&to.join(name), &bytes)?,
            Err(_) => {}
        }
    }
    Ok(())
}

struct Browser {
    _started: Started,
    child: Child,
    write: std::fs::File,
    answers: mpsc::Receiver<Value>,
    next: u64,
    begun: Instant,
    /// What happened in the pages, with the session that it happened in.
    events: Vec<Value>,
}

impl Browser {
    fn start(program: &Path, machine: &Machine, home: &Path, visits: &[Visit]) -> Result<Browser, String> {
        let observed = |e: std::io::Error| format!("chromium did not start: {e}");
        let (its_input, write) = std::io::pipe().map_err(observed)?;
        let (read, its_output) = std::io::pipe().map_err(observed)?;
        let rules: Vec<String> = visits
            .iter()
            .filter(|v| v.host.to_string() != v.address.ip().to_string())
            .map(|v| {
                let to = match v.address.ip() {
                    std::net::IpAddr::V6(a) => format!("[{a}]"),
                    a => a.to_string(),
                };
                format!("MAP {} {to}", v.host)
            })
            .collect();
        let mut command = Command::new(program);
        command.args([
            "--headless",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--no-proxy-server",
            "--remote-debugging-pipe",
        ]);
        // Chromium's own sandbox does not work for root.
        if crate::platform::is_root() {
            command.arg("--no-sandbox");
        }
        command.arg(format!("--user-data-dir={}", home.join("profile").shown()));
        if !rules.is_empty() {
            command.arg(format!("--host-resolver-rules={}", rules.join(", ")));
        }
        command.arg("about:blank");
        command
            .env("HOME", home)
            .env("TMPDIR", home)
            .env_remove("XDG_DATA_HOME")
            .env_remove("XDG_CONFIG_HOME")
            .env_remove("XDG_CACHE_HOME");
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        crate::platform::own_group(&mut command);
        let _ = machine;
        let mappings = vec![
            FdMapping { parent_fd: OwnedFd::from(its_input), child_fd: 3 },
            FdMapping { parent_fd: OwnedFd::from(its_output), child_fd: 4 },
        ];
        command.fd_mappings(mappings).map_err(|e| format!("chromium did not start: {e}"))?;
        let child = command.spawn().map_err(observed)?;
        let started = scratch::started(&child, true);
        // The command holds our copies of the browser's ends; without them gone, its end would not be seen.
        drop(command);
        let (send, answers) = mpsc::channel();
        std::thread::spawn(move || {
            let mut from = BufReader::new(std::fs::File::from(OwnedFd::from(read)));
            let mut message = Vec::new();
            while from.read_until(0, &mut message).is_ok_and(|n| n > 0) {
                message.pop();
                let parsed = serde_json::from_slice(&message).unwrap_or(Value::Null);
                message.clear();
                if send.send(parsed).is_err() {
                    return;
                }
            }
        });
        let write = std::fs::File::from(OwnedFd::from(write));
        Ok(Browser { _started: started, child, write, answers, next: 0, begun: Instant::now(), events: Vec::new() })
    }

    /// Asks, and gives the number of the question.
    fn ask(&mut self, session: &str, method: &str, parameters: &Value) -> Result<u64, String> {
        self.next += 1;
        let mut message = json!({"id": self.next, "method": method, "params": parameters});
        if !session.is_empty() {
            message["sessionId"] = json!(session);
        }
        let mut bytes = message.to_string().into_bytes();
        bytes.push(0);
        self.write.write_all(&bytes).map_err(|_| "chromium ended before it answered".to_owned())?;
        Ok(self.next)
    }

    /// The next message within a time; None if there was none.
    fn next_message(&mut self, within: Duration) -> Result<Option<Value>, String> {
        match self.answers.recv_timeout(within) {
            Ok(message) => Ok(Some(message)),
            Err(mpsc::RecvTimeoutError::Timeout) => Ok(None),
            Err(mpsc::RecvTimeoutError::Disconnected) => Err("chromium ended before it answered".to_owned()),
        }
    }

    /// What happens in a page is kept for later.
    fn keep(&mut self, message: Value) {
        if self.events.len() < MOST_EVENTS && message["method"].as_str().is_some_and(page::counts) {
            self.events.push(message);
        }
    }

    /// The next answer: the number of its question, and what it says.
    fn hear(&mut self) -> Result<(u64, Result<Value, String>), String> {
        loop {
            let left = LIMIT.checked_sub(self.begun.elapsed()).ok_or("chromium did not answer in time")?;
            let answer = self.next_message(left)?.ok_or("chromium did not answer in time")?;
            if let Some(id) = answer["id"].as_u64() {
                return Ok(match answer.get("error") {
                    Some(e) => (id, Err(format!("chromium refused: {e}"))),
                    None => (id, Ok(answer["result"].clone())),
                });
            }
            self.keep(answer);
        }
    }

    fn call(&mut self, session: &str, method: &str, parameters: &Value) -> Result<Value, String> {
        let asked = self.ask(session, method, parameters)?;
        loop {
            let (id, answer) = self.hear()?;
            if id == asked {
                return answer;
            }
        }
    }

    /// Some visits at once, each in a page of its own.
    fn visit(&mut self, visits: &[Visit]) -> Vec<Observed> {
        self.begun = Instant::now();
        let mut seen: Vec<Option<Observed>> = visits.iter().map(|_| None).collect();
        let done = self.pages(visits, &mut seen);
        let why = done.err().unwrap_or_default();
        seen.into_iter().map(|s| s.unwrap_or_else(|| failed(why.clone()))).collect()
    }

    fn pages(&mut self, visits: &[Visit], seen: &mut [Option<Observed>]) -> Result<(), String> {
        let mut targets = Vec::new();
        let mut asked = Vec::new();
        self.events.clear();
        for visit in visits {
            let target = self.call("", "Target.createTarget", &json!({"url": "about:blank"}))?["targetId"].clone();
            let session = self.call("", "Target.attachToTarget", &json!({"targetId": target, "flatten": true}))?;
            let session = session["sessionId"].as_str().unwrap_or_default().to_owned();
            if visit.page.is_some() {
                for domain in ["Page", "Network", "Audits", "Security"] {
                    self.call(&session, &format!("{domain}.enable"), &json!({}))?;
                }
            }
            targets.push((target, session, visit.url()));
        }
        for (_, session, url) in &targets {
            asked.push(self.ask(session, "Page.navigate", &json!({"url": url}))?);
        }
        while seen.iter().any(Option::is_none) {
            let (id, answer) = self.hear()?;
            if let Some(i) = asked.iter().position(|a| *a == id) {
                seen[i] = Some(answer.map_or_else(failed, |result| observed(&result)));
            }
        }
        let shown = |i: usize, seen: &[Option<Observed>]| {
            visits[i].page.is_some() && seen[i].as_ref().is_some_and(|o| o.outcome == Outcome::Accepts)
        };
        let sessions: Vec<&str> =
            (0..visits.len()).filter(|i| shown(*i, seen)).map(|i| targets[i].1.as_str()).collect();
        self.settle(&sessions)?;
        for (i, (_, session, url)) in targets.iter().enumerate().filter(|(i, _)| shown(*i, seen)).collect::<Vec<_>>() {
            let page = self.page(session, url)?;
            if let Some(o) = seen[i].as_mut() {
                o.page = page;
            }
        }
        for (target, ..) in targets {
            self.call("", "Target.closeTarget", &json!({"targetId": target}))?;
        }
        Ok(())
    }

    /// Waits until these pages are loaded, and for what comes late; a page that never ends is taken as it is.
    fn settle(&mut self, sessions: &[&str]) -> Result<(), String> {
        if sessions.is_empty() {
            return Ok(());
        }
        let until = Instant::now() + LOAD;
        let is_loaded = |events: &[Value], session: &str| {
            events.iter().any(|e| e["sessionId"] == session && e["method"] == "Page.loadEventFired")
        };
        while Instant::now() < until && !sessions.iter().all(|s| is_loaded(&self.events, s)) {
            if let Some(message) = self.next_message(Duration::from_millis(100))? {
                self.keep(message);
            }
        }
        let late = Instant::now() + LATE;
        while let Some(left) = late.checked_duration_since(Instant::now()).filter(|d| !d.is_zero()) {
            if let Some(message) = self.next_message(left)? {
                self.keep(message);
            }
        }
        Ok(())
    }

    /// What was found in the page of a session; None if the browser shows a page of its own instead.
    fn page(&mut self, session: &str, url: &str) -> Result<Option<Page>, String> {
        let expression = "location.protocol === 'https:' ? window.isSecureContext : null";
        let asked = json!({"expression": expression, "returnByValue": true});
        let answer = self.call(session, "Runtime.evaluate", &asked)?;
        let Some(is_secure) = answer["result"]["value"].as_bool() else { return Ok(None) };
        let events = self.events.iter().filter(|e| e["sessionId"] == session);
        let (client, url) = (Client::Chromium, url.to_owned());
        Ok(Some(Page { client, url, secure_context: is_secure, parts: page::parts(events) }))
    }
}

/// What the answer to a navigation says.
fn observed(result: &Value) -> Observed {
    let raw = tamga_core::vocabulary::text::harmless(&result.to_string());
    match result["errorText"].as_str() {
        None | Some("") => Observed::accepts(raw),
        // Nobody was met, so nothing is said of a certificate.
        Some(code) if NOBODY.contains(&code) => failed(code),
        Some(code) => {
            Observed { outcome: outcome(code), ..Observed::refuses(tamga_core::vocabulary::text::harmless(code), raw) }
        }
    }
    .after_tls()
}

/// Errors of the connection below TLS.
const NOBODY: [&str; 5] = [
    "net::ERR_CONNECTION_REFUSED",
    "net::ERR_CONNECTION_TIMED_OUT",
    "net::ERR_ADDRESS_UNREACHABLE",
    "net::ERR_NAME_NOT_RESOLVED",
    "net::ERR_INTERNET_DISCONNECTED",
];

/// Certificate errors that a person can click away are warnings; `ERR_CERT_INVALID` and TLS errors are not.
fn outcome(code: &str) -> Outcome {
    match code {
        "net::ERR_CERT_INVALID" => Outcome::Refuses,
        c if c.starts_with("net::ERR_CERT_") => Outcome::Warns,
        _ => Outcome::Refuses,
    }
}

impl Observed {
    /// Errors of what follows the handshake say nothing against the certificate.
    fn after_tls(self) -> Observed {
        const LATER: [&str; 4] = [
            "net::ERR_EMPTY_RESPONSE",
            "net::ERR_INVALID_HTTP_RESPONSE",
            "net::ERR_HTTP_RESPONSE_CODE_FAILURE",
            "net::ERR_ABORTED",
        ];
        match &self.code {
            Some(code) if LATER.contains(&code.as_str()) => Observed::accepts(self.raw),
            _ => self,
        }
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        self.begun = Instant::now();
        if self.call("", "Browser.close", &json!({})).is_err() {
            let _ = self.child.kill();
        }
        let _ = crate::process::wait(&mut self.child, Duration::from_secs(5));
        // What it started goes with it: they share a process group of their own.
        crate::platform::end_group(&self.child);
    }
}
