//! A module that prints, exits, crashes, hangs, lies, or whose token is taken out: Tamga says so, and nothing is half done.

use super::{PIN, with_token};
use std::process::Command;
use std::time::{Duration, Instant};
use tamga_testkit::sandbox::{Ran, Sandbox, has};

/// A sandbox whose module is the stand-in, with SoftHSM behind it.
struct Odd {
    s: Sandbox,
}

impl Odd {
    fn new() -> Option<Odd> {
        let s = with_token()?;
        if !has(&["cc"]) {
            return None;
        }
        let source = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/it/token/stand-in.c");
        let built = Command::new("cc")
            .args(["-shared", "-fPIC", "-O1", "-w", "-o"])
            .arg(s.path("odd.so"))
            .arg(source)
            .arg("-ldl")
            .status();
        assert!(built.unwrap().success());
        std::fs::create_dir(s.path("odd")).unwrap();
        std::fs::write(s.path("odd/next"), "/usr/lib/softhsm/libsofthsm2.so\n").unwrap();
        Some(Odd { s })
    }

    fn mode(&self, mode: &str) -> &Odd {
        std::fs::write(self.s.path("odd/mode"), mode).unwrap();
        self
    }

    fn run(&self, words: &[&str]) -> Ran {
        let mut command = self.s.command(words);
        command.env("TOKEN_STAND_IN", self.s.path("odd"));
        if words.contains(&"LAB_PIN") {
            command.env("LAB_PIN", PIN);
        }
        command.output().unwrap().into()
    }

    fn create(&self, pin: &[&str]) -> Ran {
        let module = self.s.path("odd.so");
        let words = ["authority", "create", "saltmarsh", "--key-uri", "pkcs11:token=lab;object=saltmarsh", "--module"];
        self.run(&[&words[..], &[module.to_str().unwrap()], pin].concat())
    }

    fn log(&self, what: &str) -> usize {
        let log = std::fs::read_to_string(self.s.path("odd/log")).unwrap_or_default();
        log.lines().filter(|l| *l == what).count()
    }
}

const FILE: [&str; 2] = ["--passphrase-file", "pin"];

#[test]
fn a_module_that_fails_at_the_beginning_changes_nothing() {
    let Some(odd) = Odd::new() else { return };
    for (mode, part) in
        [("load-exit", "ended the process"), ("load-crash", "ended the process"), ("load-hang", "did not answer")]
    {
        let since = Instant::now();
        let said = odd.mode(mode).create(&FILE).expect(4);
        assert!(said.err.contains(part), "{mode}: {}", said.err);
        assert!(since.elapsed() < Duration::from_secs(40), "{mode}");
        assert!(!odd.s.path("data/authorities/saltmarsh").exists(), "{mode}");
    }
    // What is no module at all.
    let text = odd.s.lab("text.so");
    std::fs::write(&text, "no library").unwrap();
    let any =
        ["authority", "create", "saltmarsh", "--key-uri", "pkcs11:token=lab", "--passphrase-file", "pin", "--module"];
    assert!(odd.run(&[&any[..], &["text.so"]].concat()).expect(4).err.contains("its module cannot be used"));
    odd.run(&[&any[..], &["nowhere.so"]].concat()).expect(4);
    let libc = ["/lib/x86_64-linux-gnu/libm.so.6", "/lib/aarch64-linux-gnu/libm.so.6"]
        .into_iter()
        .find(|p| std::path::Path::new(p).exists());
    if let Some(other) = libc {
        let said = odd.run(&[&any[..], &[other]].concat()).expect(4);
        assert!(said.err.contains("C_GetFunctionList"), "{}", said.err);
    }
    // One that prints while it is loaded is a module like any other.
    odd.mode("load-print").create(&FILE).expect(0);
}

#[test]
fn a_token_that_fails_while_it_signs_leaves_nothing_half_done() {
    let Some(odd) = Odd::new() else { return };
    let s = &odd.s;
    // While the authority is made: the key that was made for it is deleted again.
    let said = odd.mode("refuse").create(&FILE).expect(4);
    assert!(said.err.contains("FunctionFailed"), "{}", said.err);
    assert_eq!(odd.log("make"), 1);
    odd.mode("").create(&FILE).expect(0);
    assert_eq!(odd.log("make"), 2, "the first one was not left on the token");
    let before = s.files("data").len();
    let issue =
        |label: &str| odd.run(&["issue", "charts.saltmarsh.test", "--label", label, "--passphrase-file", "pin"]);
    for (mode, part) in [
        ("exit", "ended the process"),
        ("crash", "ended the process"),
        ("hang", "did not answer for 15 seconds"),
        ("gone", "taken out"),
        ("wrong", "not a signature of its key"),
        ("short", "not a signature of its key"),
        ("refuse", "FunctionFailed"),
    ] {
        odd.mode(mode);
        let said = issue("charts").expect(4);
        assert!(said.err.contains(part), "{mode}: {}", said.err);
        assert!(!s.lab("charts.saltmarsh.test").exists() && !s.lab("charts").exists(), "{mode}");
    }
    assert!(s.files("data").len() <= before + 2, "{:?}", s.files("data"));
    let listed = s.json(&["list"]).expect(0).json();
    assert_eq!(listed["certificates"].as_array().map(Vec::len), Some(0), "{listed}");
    // What it prints is no answer, and a token that was out comes back with the PIN that was right.
    odd.mode("print");
    issue("charts").expect(0);
    let logins = odd.log("login");
    odd.mode("once");
    issue("archive").expect(0);
    assert_eq!((odd.log("removed"), odd.log("login")), (1, logins + 2));
}

#[test]
fn a_pin_is_tried_once_and_seen_by_nobody() {
    let Some(odd) = Odd::new() else { return };
    odd.mode("").create(&["--passphrase-env", "LAB_PIN"]).expect(0);
    std::fs::write(odd.s.lab("names.txt"), "a.test\nb.test\nc.test\n").unwrap();
    let before = odd.log("login");
    odd.run(&["issue", "--list", "names.txt", "--passphrase-file", "wrong-pin"]).expect(3);
    assert_eq!(odd.log("login"), before + 1);
    odd.run(&["issue", "--list", "names.txt", "--passphrase-env", "LAB_PIN"]).expect(0);
    assert_eq!(odd.log("login"), before + 2, "one log-in for a whole list");
    let wrong = odd.run(&["renew", "a.test", "b.test", "c.test", "--passphrase-file", "wrong-pin"]);
    assert_ne!(wrong.code, 0);
    assert_eq!(
        odd.log("login"),
        before + 3,
        "three certificates are due, and the wrong PIN is tried once: {}",
        wrong.err
    );
    // What other accounts could see of the process that has the module: neither its arguments nor, after a start, its variables.
    let seen = String::from_utf8_lossy(&std::fs::read(odd.s.path("odd/seen")).unwrap()).into_owned();
    assert!(seen.contains("token-child") && !seen.contains(PIN), "{seen}");
}
