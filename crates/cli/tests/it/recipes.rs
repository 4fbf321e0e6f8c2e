//! Recipes: what they print, refuse and write; and, where the server is not run here, that the file has the form of its kind.

use crate::{lab, sandbox};
use std::path::Path;
use std::process::Command;
use tamga_testkit::sandbox::{Sandbox, has};

/// The lab with one certificate for a server, in a directory whose name needs quoting.
fn quoted(server: &str) -> Sandbox {
    let s = sandbox();
    s.run(&["authority", "create", "saltmarsh"]).expect(0);
    let words = ["issue", "charts.saltmarsh.test", "localhost", "127.0.0.1", "--label", "charts", "--for", server];
    s.run(&[&words[..], &["--into", "my \"own\" files"]].concat()).expect(0);
    s
}

/// Every wording of a recipe's configuration, each written into a file.
fn variants(server: &str, each: impl Fn(&Sandbox, &Path)) {
    let s = quoted(server);
    for (n, more) in [
        &[][..],
        &["--redirect=8080", "--address", "127.0.0.1", "--port", "8443"],
        &["--tls-minimum", "1.3", "--client-authority", "saltmarsh", "--redirect"],
        &["--address", "::1"],
    ]
    .iter()
    .enumerate()
    {
        let file = format!("written-{n}");
        let ran = s.run(&[&["recipe", server, "charts", "--output", &file], *more].concat());
        // An option that this server would not notice is refused; the core's tests name who refuses what.
        if ran.code == 2 && ran.err.contains("would not notice") {
            continue;
        }
        ran.expect(0);
        let text = std::fs::read_to_string(s.lab(&file)).unwrap();
        for mark in
            ["{label}", "{port}", "{certificate}", "{key}", "{store}", "?redirect", "?clients", "!only13", "{first}"]
        {
            assert!(!text.contains(mark), "{server}: {mark} stays in {text}");
        }
        each(&s, &s.lab(&file));
    }
}

#[track_caller]
fn passes(program: &str, words: &[&str], file: &Path) {
    let out = Command::new(program).args(words).arg(file).output().unwrap();
    let said = format!("{}{}", String::from_utf8_lossy(&out.stdout), String::from_utf8_lossy(&out.stderr));
    assert!(out.status.success(), "{said}\n{}", std::fs::read_to_string(file).unwrap());
}

#[test]
fn files_for_python_readers_have_the_form_of_their_kind() {
    if !has(&["python3"]) {
        return;
    }
    let xml = "import sys, xml.dom.minidom as m; m.parse(sys.argv[1])";
    let ini =
        "import sys, configparser as c; p = c.ConfigParser(); assert p.read(sys.argv[1]) and p['network']['tlskey']";
    let json = "import sys, json; assert json.load(open(sys.argv[1]))['tlskey']";
    let kestrel = "import sys, json; assert json.load(open(sys.argv[1]))['Kestrel']['Endpoints']['Https']['Certificate']['KeyPath']";
    for (server, script) in [("tomcat", xml), ("sqlserver", ini), ("docker-daemon", json), ("kestrel", kestrel)] {
        variants(server, |_, file| passes("python3", &["-c", script], file));
    }
    let python = "import sys, ast; ast.parse(open(sys.argv[1]).read())";
    variants("python", |_, file| passes("python3", &["-c", python], file));
}

#[test]
fn yaml_is_read_by_a_yaml_parser() {
    if !has(&["python3"]) || !yaml_is_there() {
        return;
    }
    let tls = "d.get('net', d.get('http'))['tls']";
    for (server, has) in [
        ("mongodb", tls),
        ("docker-registry", tls),
        (
            "kubernetes",
            "d['spec']['tls'][0]['hosts'] == ['charts.saltmarsh.test'] and d['spec']['tls'][0]['secretName'] == 'charts-tls'",
        ),
        (
            "spring",
            "'keystore' in d['spring']['ssl']['bundle']['pem']['[charts]'] and d['server']['ssl']['bundle'] == 'charts'",
        ),
    ] {
        let script = &format!("import sys, yaml; d = yaml.safe_load(open(sys.argv[1])); assert {has}");
        variants(server, |_, file| passes("/usr/bin/python3", &["-c", script], file));
    }
}

fn yaml_is_there() -> bool {
    let there = Command::new("/usr/bin/python3").args(["-c", "import yaml"]).output().is_ok_and(|o| o.status.success());
    let complete = std::env::var_os(tamga_testkit::sandbox::COMPLETE).is_some();
    assert!(there || !complete, "python3-yaml must be installed here");
    if !there {
        eprintln!("SKIPPED: python3-yaml not installed");
    }
    there
}

#[test]
fn programs_are_read_by_their_own_compilers() {
    if !has(&["rustfmt", "node", "php"]) {
        return;
    }
    variants("rust", |_, file| {
        // Only whether it can be read: how it is laid out is not asked.
        passes("rustfmt", &["--edition", "2021", "--emit", "stdout", "--quiet"], file);
    });
    for server in ["php", "swoole"] {
        variants(server, |_, file| passes("php", &["-l"], file));
    }
    for server in ["vite", "node"] {
        variants(server, |s, file| {
            let module = s.lab("written.mjs");
            std::fs::copy(file, &module).unwrap();
            passes("node", &["--check"], &module);
        });
    }
}

/// Brackets and quotes of a language close in their order. Not more than that is claimed of these recipes.
fn balanced(text: &str, comment: &str, doubled: bool) -> Result<(), String> {
    let mut open = Vec::new();
    for (n, line) in text.lines().enumerate() {
        let mut quote = None;
        let mut letters = line.chars().peekable();
        let mut before = ' ';
        let mut rest = line;
        while let Some(c) = letters.next() {
            if quote.is_none() && rest.trim_start().starts_with(comment) && before.is_whitespace() {
                break;
            }
            rest = &rest[c.len_utf8()..];
            match (quote, c) {
                (Some('"'), '\\') => drop(letters.next().map(|c| rest = &rest[c.len_utf8()..])),
                (Some(q), c) if q == c => {
                    if doubled && letters.peek() == Some(&c) {
                        letters.next();
                        rest = &rest[1..];
                    } else {
                        quote = None;
                    }
                }
                (Some(_), _) => {}
                (None, '"' | '\'' | '`') => quote = Some(c),
                (None, '(' | '[' | '{') => open.push(c),
                (None, ')' | ']' | '}') => {
                    let wanted = match c {
                        ')' => '(',
                        ']' => '[',
                        _ => '{',
                    };
                    if open.pop() != Some(wanted) {
                        return Err(format!("line {}: {c} closes nothing: {line}", n + 1));
                    }
                }
                _ => {}
            }
            before = c;
        }
        if quote.is_some() {
            return Err(format!("line {}: a quote stays open: {line}", n + 1));
        }
    }
    if open.is_empty() { Ok(()) } else { Err(format!("{open:?} stay open")) }
}

#[test]
fn brackets_and_quotes_close() {
    assert!(balanced("f(\"a)\", '{') # (", "#", true).is_ok());
    assert!(
        balanced("f(", "#", true).is_err() && balanced("'a", "#", true).is_err() && balanced("(]", "#", true).is_err()
    );
    for (server, comment, doubled) in [("iis", "#", true), ("go", "//", false)] {
        variants(server, |_, file| {
            let text = std::fs::read_to_string(file).unwrap();
            balanced(&text, comment, doubled).unwrap_or_else(|e| panic!("{server}: {e}\n{text}"));
        });
    }
}

#[test]
fn settings_stand_one_a_line() {
    let setting = |line: &str, sign: &str| {
        line.split_once(sign).is_some_and(|(name, value)| {
            !value.trim().is_empty()
                && name.trim().chars().all(|c| {
                    c.is_ascii_lowercase() || c.is_ascii_digit() || "._-".contains(c) || c.is_ascii_uppercase()
                })
        })
    };
    for (server, sign) in
        [("rabbitmq", "="), ("postfix", "="), ("dovecot", "="), ("postgresql", "="), ("openldap", ":"), ("jvm", "=")]
    {
        variants(server, |_, file| {
            let text = std::fs::read_to_string(file).unwrap();
            for line in
                text.lines().filter(|l| !l.starts_with('#') && *l != "-" && !l.ends_with('{') && l.trim() != "}")
            {
                assert!(setting(line.trim_start(), sign), "{server}: {line:?}");
            }
        });
    }
}

#[test]
fn a_recipe_says_every_step_and_refuses_what_the_server_cannot_use() {
    let s = lab();
    let said = s.run(&["recipe", "nginx", "--redirect"]).expect(0).out;
    for part in [
        "run by our tests",
        "nginx -t",
        "nginx -s reload",
        "again after each renewal",
        "307",
        "tamga check https://charts",
    ] {
        assert!(said.contains(part), "{part}\n{said}");
    }
    let refused = s.json(&["recipe", "sqlserver", "charts"]).expect(3).json();
    assert!(refused["error"].to_string().contains("--for sqlserver"), "{refused}");
    let ran = s.run(&["recipe", "ngnix", "charts", "--owner", "tide", "--into", "/srv/tide"]).expect(0);
    assert!(ran.err.contains("no recipe for ngnix (did you mean nginx?)"), "{}", ran.err);
    assert!(ran.out.contains("install -o tide -g tide -m 0600"), "{}", ran.out);
    let ran = s.run(&["issue", "tides.saltmarsh.test", "--for", "ngnix"]).expect(2);
    assert!(
        ran.err.contains("servers that tamga recipe lists") && ran.err.contains("did you mean nginx?"),
        "{}",
        ran.err
    );
    let ran = s.run(&["recipe", "tomcat", "charts", "--install", "--dry-run"]).expect(2);
    assert!(ran.err.contains("cannot be set up by --install"), "{}", ran.err);
    let ran = s.run(&["recipe", "nginx", "charts", "--install", "--dry-run"]).expect(4);
    assert!(ran.err.contains("nginx is not installed here"), "{}", ran.err);
    s.run(&["recipe", "nginx", "nobody"]).expect(3);
    s.run(&["recipe", "nginx", "charts", "--tls-minimum", "1.1"]).expect(2);
    // Nothing of the person's is replaced unasked.
    std::fs::write(s.lab("mine.conf"), "mine").unwrap();
    s.run(&["recipe", "nginx", "charts", "--output", "mine.conf"]).expect(3);
    assert_eq!(std::fs::read_to_string(s.lab("mine.conf")).unwrap(), "mine");
    s.run(&["recipe", "nginx", "charts", "--output", "mine.conf", "--dry-run"]).expect(0);
    assert_eq!(std::fs::read_to_string(s.lab("mine.conf")).unwrap(), "mine");
    s.run(&["recipe", "nginx", "charts", "--output", "mine.conf", "--yes"]).expect(0);
    assert!(
        std::fs::read_to_string(s.lab("mine.conf")).unwrap().contains("server_name charts.saltmarsh.test localhost")
    );
    assert!(s.run(&["recipe", "nginx", "charts", "--output", "-"]).expect(0).out.starts_with("# From nginx"));
    // Several certificates: the facts alone, and which command goes on.
    s.run(&["issue", "archive.saltmarsh.test"]).expect(0);
    assert!(s.run(&["recipe", "postgresql"]).expect(0).out.contains("tamga recipe postgresql LABEL"));
    s.run(&["recipe", "postgresql", "--output", "x"]).expect(2);
}

#[test]
fn a_certificate_for_a_server_has_the_key_purpose_and_form_that_it_needs() {
    let s = lab();
    s.run(&["issue", "archive.saltmarsh.test", "--for", "sqlserver"]).expect(0);
    assert!(s.run(&["show", "archive.saltmarsh.test"]).expect(0).out.contains("RSA 3072 bits"));
    s.run(&["issue", "x.test", "--for", "sqlserver", "--key-algorithm", "p256"]).expect(3);
    let mut made = s.run(&["issue", "data.saltmarsh.test", "--for", "mongodb"]).expect(0).out;
    assert!(made.contains("tamga recipe mongodb data.saltmarsh.test"), "{made}");
    let combined = std::fs::read_to_string(s.lab("data.saltmarsh.test/data.saltmarsh.test.combined.pem")).unwrap();
    assert!(combined.contains("PRIVATE KEY") && combined.contains("BEGIN CERTIFICATE"));
    made = s.run(&["issue", "tides.saltmarsh.test", "--for", "jvm"]).expect(0).out;
    assert!(made.contains("its passphrase is in") && made.contains(".p12.passphrase"), "{made}");
    let secret = "tides.saltmarsh.test/tides.saltmarsh.test.p12.passphrase";
    let store = "tides.saltmarsh.test/tides.saltmarsh.test.p12";
    assert!(s.files("lab").iter().filter(|(p, _)| p.ends_with(secret) || p.ends_with(store)).all(|(_, m)| *m == 0o600));
    assert!(s.run(&["show", store, "--passphrase-file", secret]).expect(0).out.contains("tides.saltmarsh.test"));
    s.run(&["show", store, "--passphrase-file", "archive.saltmarsh.test/root.pem"]).expect(3);
    s.run(&["request", "gauge-7.saltmarsh.test", "--for", "device"]).expect(0);
    assert!(s.run(&["show", "gauge-7.saltmarsh.test/request.pem"]).expect(0).out.contains("RSA 2048 bits"));
}

#[test]
fn a_line_of_a_log_is_explained() {
    let s = sandbox();
    let reply = s.json(&["explain", "FATAL: private key file \"/x/k.pem\" has group or world access"]).expect(0).json();
    assert_eq!(reply["servers"][0]["server"], "postgresql");
    assert_eq!(reply["findings"][0]["code"], "key-readable-by-others");
    let reply = s.json(&["explain", "curl: (60) SSL certificate problem: certificate has expired"]).expect(0).json();
    assert_eq!(reply["findings"][0]["code"], "expired");
    s.run(&["explain", "all is well with the tide"]).expect(1);
    assert!(s.run(&["explain", "not-a-code"]).expect(2).err.contains("do:"));
}

#[test]
fn every_recipe_answers_programs_in_one_shape() {
    let s = sandbox();
    s.run(&["authority", "create", "saltmarsh"]).expect(0);
    let all = s.json(&["recipe"]).expect(0).json();
    let all = all["recipes"].as_array().unwrap();
    assert!(all.len() >= 25);
    // One key of each kind is enough for all.
    for (label, kind) in [("ec", "p256"), ("rsa", "rsa2048")] {
        // As short as the strictest clients want it.
        let words = [
            "issue",
            "charts.saltmarsh.test",
            "127.0.0.1",
            "--label",
            label,
            "--key-algorithm",
            kind,
            "--valid-for",
            "13d",
        ];
        s.run(&[&words[..], &["--into", label]].concat()).expect(0);
    }
    for r in all {
        let server = r["server"].as_str().unwrap();
        let takes = |kind: &str| r["key_algorithms"].as_array().unwrap().iter().any(|k| k == kind);
        let label = if takes("p256") { "ec" } else { "rsa" };
        let reply = s.json(&["recipe", server, label]).expect(0).json();
        steps_are_for_a_machine(server, &reply["steps"]);
        let v = reply["recipe"].clone();
        for word in ["server", "title", "path", "content", "label", "form", "chain", "owner", "mode", "passphrase"] {
            assert!(v[word].is_string(), "{server}: {word}: {v}");
        }
        assert_eq!((v["server"].as_str(), v["label"].as_str()), (Some(server), Some(label)));
        assert!(["run", "form"].contains(&v["tried"]["by"].as_str().unwrap()), "{server}");
        for part in ["files", "steps"] {
            for work in v[part].as_array().unwrap() {
                assert!(!work["what"].as_str().unwrap().is_empty(), "{server}: {work}");
                assert!(!work["lines"].as_array().unwrap().is_empty(), "{server}: {work}");
            }
        }
        for fault in v["faults"].as_array().unwrap() {
            // Every error text that is listed is recognised, and every code that it names is explained.
            let reply = s.json(&["explain", &fault["text"].as_str().unwrap().replace('…', " it ")]).expect(0).json();
            assert!(reply["servers"].as_array().unwrap().iter().any(|k| k["server"] == server), "{server}: {fault}");
            if let Some(code) = fault["code"].as_str() {
                s.run(&["explain", code]).expect(0);
            }
        }
        for also in r["also"].as_array().unwrap() {
            assert_eq!(s.json(&["recipe", also.as_str().unwrap(), label]).expect(0).json()["recipe"]["server"], server);
        }
    }
}

/// Each step says what to do with what and when, and no prose is where a path or a command belongs.
fn steps_are_for_a_machine(server: &str, steps: &serde_json::Value) {
    let steps = steps.as_array().unwrap();
    let of = |step: &serde_json::Value, word: &str| step[word].as_str().unwrap_or_default().to_owned();
    for step in steps {
        let (action, path, content) = (of(step, "action"), of(step, "path"), of(step, "content"));
        assert!(["first", "renewal", "both"].contains(&of(step, "when").as_str()), "{server}: {step}");
        match action.as_str() {
            "write" | "merge" => {
                assert!(!path.is_empty() && !path.contains(' '), "{server}: {step}");
                assert!(content.is_empty() == step["from"].is_string(), "{server}: {step}");
            }
            "export" => assert!(!path.is_empty() && !content.is_empty(), "{server}: {step}"),
            "run" | "restart" | "reload" => assert!(!content.is_empty() && path.is_empty(), "{server}: {step}"),
            "expect" => assert!(!content.is_empty() && !path.is_empty(), "{server}: {step}"),
            other => panic!("{server}: {other}"),
        }
    }
    let configuration =
        |s: &&serde_json::Value| ["write", "merge"].contains(&of(s, "action").as_str()) && s["from"].is_null();
    assert!(steps.iter().any(|s| configuration(&s)), "{server} has no configuration");
    assert_eq!(steps.iter().filter(|s| of(s, "action") == "expect").count(), 1, "{server}");
}

#[test]
fn what_a_recipe_shows_is_what_it_writes() {
    let s = lab();
    let shown = s.json(&["recipe", "haproxy", "charts", "--redirect=8080"]).expect(0).json()["recipe"].clone();
    let written = s.json(&["recipe", "haproxy", "charts", "--redirect=8080", "--output", "h.cfg"]).expect(0).json();
    assert_eq!(std::fs::read_to_string(s.lab("h.cfg")).unwrap(), shown["content"].as_str().unwrap());
    assert_eq!(written["recipe"]["file"], "h.cfg");
    let text = s.run(&["recipe", "haproxy", "charts", "--redirect=8080"]).expect(0).out;
    for line in shown["content"].as_str().unwrap().lines().filter(|l| !l.is_empty()) {
        assert!(text.contains(&format!("     {line}\n")), "{line}");
    }
}
