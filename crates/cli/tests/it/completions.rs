//! Completion, typed into the real shells.

use crate::{lab, sandbox};
use tamga_testkit::sandbox::has;
use tamga_testkit::terminal;

/// What is typed, a piece of what must then be offered, and the shell's own way of asking.
const ASKED: [(&str, &str); 8] = [
    ("tamga rece", "receive"),
    ("tamga revoke ch", "charts"),
    ("tamga export charts --as mob", "mobileconfig"),
    ("tamga revoke charts --reason key-c", "key-compromise"),
    ("tamga trust add --stores chromium-p", "chromium-policy"),
    ("tamga check charts --clients gn", "gnutls"),
    ("tamga recipe hap", "haproxy"),
    ("tamga explain issuer-u", "issuer-unknown"),
];

#[test]
fn fish_offers_commands_labels_and_every_closed_set() {
    if !has(&["fish"]) {
        return;
    }
    let s = lab();
    for (typed, offered) in ASKED {
        let script = format!("tamga completions fish | source; complete -C '{typed}'");
        let out = s.around("fish").args(["--no-config", "-c", &script]).output().unwrap();
        let text = String::from_utf8_lossy(&out.stdout);
        assert!(
            text.lines().any(|l| l.starts_with(offered)),
            "{typed}: {text}{}",
            String::from_utf8_lossy(&out.stderr)
        );
    }
}

#[test]
fn bash_completes_at_its_prompt() {
    if !has(&["bash"]) {
        return;
    }
    let s = lab();
    for (typed, offered) in ASKED {
        let mut shell = s.around("bash");
        shell.args(["--noprofile", "--norc", "-i"]).env("PS1", "ready> ").env("TERM", "dumb");
        let line = format!("{typed}\t");
        let seen = terminal::run(
            shell,
            &[("ready> ", "source <(tamga completions bash)\n"), ("ready> ", &line), (offered, "\u{15}exit\n")],
        );
        assert!(seen.seen.contains(offered), "{typed}: {}", seen.seen);
    }
}

#[test]
fn zsh_completes_at_its_prompt() {
    if !has(&["zsh"]) {
        return;
    }
    let s = lab();
    for (typed, offered) in ASKED {
        let mut shell = s.around("zsh");
        shell.args(["-f", "-i"]).env("PS1", "ready> ").env("TERM", "dumb");
        let line = format!("{typed}\t");
        let begin = "autoload -U compinit; compinit -u -D; source <(tamga completions zsh); print loa''ded\n";
        let seen =
            terminal::run(shell, &[("ready> ", begin), ("loaded", ""), ("ready> ", &line), (offered, "\u{15}exit\n")]);
        assert!(seen.seen.contains(offered), "{typed}: {}", seen.seen);
    }
}

/// A shell has no place for an error: without a ledger, or with a damaged one, no label is offered and nothing is said.
#[test]
fn without_a_readable_ledger_nothing_is_said() {
    let s = sandbox();
    let ask = |s: &tamga_testkit::sandbox::Sandbox| {
        let mut c = s.command(&["--", "tamga", "revoke", "ch"]);
        c.env("TAMGA_COMPLETE", "fish").output().unwrap()
    };
    let out = ask(&s);
    assert!(out.status.success() && out.stderr.is_empty());
    assert!(!s.path("data").exists(), "completion makes no data directory");
    std::fs::create_dir_all(s.path("data")).unwrap();
    std::fs::write(s.path("data/ledger.sqlite"), "no ledger at all").unwrap();
    let out = ask(&s);
    assert!(out.status.success() && out.stderr.is_empty(), "{}", String::from_utf8_lossy(&out.stderr));
}
