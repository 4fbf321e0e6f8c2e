//! A real Firefox, driven by its Marionette protocol, as an outside judge: it sees what its profile trusts.

use crate::server::{Server, free_port};
use serde_json::{Value, json};
use std::io::{Read, Write};
use std::net::TcpStream;
use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

/// A running Firefox.
pub struct Firefox {
    socket: TcpStream,
    asked: u64,
    // Stopped when dropped.
    _server: Server,
}

impl Firefox {
    /// Starts one on a profile, which it makes where there is none, with this home.
    pub fn start(home: &Path, profile: &Path) -> Firefox {
        Firefox::start_by(Command::new("firefox-esr"), home, profile)
    }

    /// The same by another command that ends in it.
    pub fn start_by(mut c: Command, home: &Path, profile: &Path) -> Firefox {
        std::fs::create_dir_all(profile).unwrap();
        let port = free_port();
        std::fs::write(profile.join("user.js"), format!("user_pref(\"marionette.port\", {port});\n")).unwrap();
        c.args(["--headless", "--marionette", "--no-remote", "--profile"]).arg(profile);
        c.env_clear()
            .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin")
            .env("HOME", home)
            .env("MOZ_DISABLE_CONTENT_SANDBOX", "1");
        let server = Server::start(c, &home.join("firefox.log"));
        let since = Instant::now();
        let socket = loop {
            match TcpStream::connect(("127.0.0.1", port)) {
                Ok(socket) => break socket,
                Err(e) => assert!(since.elapsed() < Duration::from_secs(60), "{e}\n{}", server.said()),
            }
            std::thread::sleep(Duration::from_millis(100));
        };
        socket.set_read_timeout(Some(Duration::from_secs(60))).unwrap();
        let mut firefox = Firefox { socket, asked: 0, _server: server };
        firefox.hear();
        firefox
            .ask("WebDriver:NewSession", json!({"capabilities": {"alwaysMatch": {"acceptInsecureCerts": false}}}))
            .unwrap();
        firefox
    }

    /// One message: its length in decimal, a colon, JSON.
    fn hear(&mut self) -> Value {
        let mut length = String::new();
        loop {
            let mut byte = [0];
            self.socket.read_exact(&mut byte).unwrap();
            match byte[0] {
                b':' => break,
                b => length.push(char::from(b)),
            }
        }
        let mut text = vec![0; length.parse().unwrap()];
        self.socket.read_exact(&mut text).unwrap();
        serde_json::from_slice(&text).unwrap()
    }

    fn ask(&mut self, command: &str, arguments: Value) -> Result<Value, String> {
        self.asked += 1;
        let text = json!([0, self.asked, command, arguments]).to_string();
        self.socket.write_all(format!("{}:{text}", text.len()).as_bytes()).unwrap();
        let answer = self.hear();
        match &answer[2] {
            Value::Null => Ok(answer[3].clone()),
            error => Err(error["error"].as_str().unwrap_or_default().to_owned()),
        }
    }

    /// Visits an address: whether it was shown without a warning.
    pub fn accepts(&mut self, address: &str) -> bool {
        match self.ask("WebDriver:Navigate", json!({"url": address})) {
            Ok(_) => true,
            Err(e) if e == "insecure certificate" => false,
            Err(e) => panic!("{address}: {e}"),
        }
    }
}
