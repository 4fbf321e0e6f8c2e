//! `tamga serve` in a sandbox, on a port of the system's choosing; ends when dropped.

use crate::sandbox::Sandbox;
use serde_json::Value;
use std::io::{BufRead, BufReader};
use std::process::{Child, Stdio};

/// A site that is served.
pub struct Site {
    child: Child,
    /// Where.
    pub port: u64,
}

impl Site {
    /// Starts `tamga serve WORDS` and waits until it listens.
    pub fn start(s: &Sandbox, words: &[&str]) -> Site {
        let words = [&["serve"], words, &["--format", "json"]].concat();
        let mut child = s.command(&words).stdout(Stdio::piped()).spawn().unwrap();
        let mut line = String::new();
        BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
        let told: Value = serde_json::from_str(&line).unwrap_or_else(|e| panic!("{e}: {line}"));
        let port = told["port"].as_u64().unwrap_or_else(|| panic!("{told}"));
        Site { child, port }
    }
}

impl Drop for Site {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
