//! The real clients, each in one process for all cases (wget in one for each), with roots of its own for each case.

use super::situation::{Case, address};
use std::collections::HashMap;
use std::fmt::Write as _;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicUsize, Ordering};
use tamga_core::check::client::{Client, Outcome, curl, gnutls, go, java, printed, python};
use tamga_core::pki::format::pem;

/// What a client did: the outcome, and its own words.
pub type Said = (Outcome, Option<String>);

/// What is known of the clients' part.
#[derive(Default)]
pub struct Observed {
    /// By client, by the case's number; who was not met is not there.
    pub said: HashMap<Client, HashMap<usize, Said>>,
    /// Roots, as case and place, that the browsers' library refused.
    pub refused: Vec<(usize, usize)>,
}

/// Writes the stores, and visits.
pub fn observe(cases: &[Case], port: u16, folder: &Path, clients: &[Client]) -> Observed {
    hosts(cases, folder);
    let listed = stores(cases, port, folder);
    let mut observed = Observed { refused: browsers(cases, folder), ..Observed::default() };
    let one = |client: Client| match client {
        Client::Gnutls => wget(cases, port, folder),
        Client::Git => git(cases, port, folder),
        Client::Psql => psql(cases, port, folder),
        _ => read(client, &run(client, cases, port, folder, &listed)),
    };
    std::thread::scope(|s| {
        let running: Vec<_> = clients.iter().map(|c| (*c, s.spawn(|| one(*c)))).collect();
        for (client, thread) in running {
            observed.said.insert(client, thread.join().unwrap());
        }
    });
    // Another run in this namespace binds a file of its own; over one that is deleted nothing can be bound.
    assert!(Command::new("umount").arg("/etc/hosts").status().unwrap().success());
    observed
}

/// Names lead to addresses by the file that every client reads; the program runs in a mount namespace of its own.
fn hosts(cases: &[Case], folder: &Path) {
    let mut text = String::from("127.0.0.1 localhost\n");
    for c in cases.iter().filter(|c| c.host.parse::<std::net::IpAddr>().is_err()) {
        writeln!(text, "{} {}", address(c.number), c.host).unwrap();
    }
    let file = folder.join("hosts");
    std::fs::write(&file, text).unwrap();
    let bound = Command::new("mount").arg("--bind").arg(&file).arg("/etc/hosts").status().unwrap();
    assert!(bound.success(), "this runs as root in a mount namespace of its own");
}

/// A directory of PEM files for each case, and the list of the cases.
fn stores(cases: &[Case], port: u16, folder: &Path) -> std::path::PathBuf {
    let other = std::fs::read(folder.join("other-root.der")).unwrap();
    let mut list = String::new();
    for c in cases {
        let roots = folder.join(format!("roots/{}", c.number));
        std::fs::create_dir_all(&roots).unwrap();
        for (i, der) in c.anchors.iter().enumerate() {
            std::fs::write(roots.join(format!("{i:02}.pem")), &*pem::write("CERTIFICATE", der)).unwrap();
        }
        std::fs::write(roots.join("none.pem"), &*pem::write("CERTIFICATE", &other)).unwrap();
        writeln!(list, "{}\t{}\t{}\t{port}\t{}", c.number, c.host, address(c.number), roots.display()).unwrap();
    }
    let file = folder.join("cases.tsv");
    std::fs::write(&file, list).unwrap();
    file
}

/// The browsers' databases: one, copied for the other.
fn browsers(cases: &[Case], folder: &Path) -> Vec<(usize, usize)> {
    let mut list = String::new();
    for c in cases {
        for (i, der) in c.anchors.iter().enumerate() {
            let file = folder.join(format!("roots/{}/{i:02}.der", c.number));
            std::fs::write(&file, der).unwrap();
            writeln!(list, "{}.{i}\t{}", c.number, file.display()).unwrap();
        }
    }
    std::fs::write(folder.join("roots.tsv"), list).unwrap();
    let script = written(folder, "readable.py", include_str!("clients/readable.py"));
    assert!(bare("python3", folder).arg(script).arg(folder.join("roots.tsv")).status().unwrap().success());
    let database = folder.join("home/.pki/nssdb");
    std::fs::create_dir_all(&database).unwrap();
    let script = written(folder, "nss.py", include_str!("clients/nss.py"));
    let ended = bare("python3", folder).arg(script).arg(&database).arg(folder.join("roots.tsv")).output().unwrap();
    assert!(ended.status.success(), "{}", String::from_utf8_lossy(&ended.stderr));
    let profile = folder.join("firefox/profile");
    std::fs::create_dir_all(&profile).unwrap();
    for name in ["cert9.db", "key4.db"] {
        std::fs::copy(database.join(name), profile.join(name)).unwrap();
    }
    let pair = |line: &str| line.split_once('.').map(|(c, i)| (c.parse().unwrap(), i.parse().unwrap()));
    String::from_utf8_lossy(&ended.stdout).lines().filter_map(pair).collect()
}

fn written(folder: &Path, name: &str, text: &str) -> std::path::PathBuf {
    let file = folder.join(name);
    std::fs::write(&file, text).unwrap();
    file
}

/// A program without the person's variables.
fn bare(program: &str, folder: &Path) -> Command {
    let mut c = Command::new(program);
    c.env_clear().env("PATH", std::env::var_os("PATH").unwrap()).env("HOME", folder.join("home")).env("LC_ALL", "C");
    c.stdin(Stdio::null());
    c
}

/// What a driver printed.
fn run(client: Client, cases: &[Case], port: u16, folder: &Path, listed: &Path) -> String {
    let mut c = match client {
        Client::Python => {
            let mut c = bare("python3", folder);
            c.arg(written(folder, "bulk.py", include_str!("clients/bulk.py"))).arg(listed);
            c
        }
        Client::Node => {
            let mut c = bare("node", folder);
            c.arg(written(folder, "bulk.js", include_str!("clients/bulk.js"))).arg(listed);
            c
        }
        Client::Grpc => {
            let mut c = bare("python3", folder);
            c.arg(written(folder, "bulk-grpc.py", include_str!("clients/bulk-grpc.py"))).arg(listed);
            c
        }
        Client::Bun => {
            let mut c = bare("bun", folder);
            c.arg("run").arg(written(folder, "bulk-bun.js", include_str!("clients/bulk.js"))).arg(listed);
            c
        }
        Client::Ruby => {
            let mut c = bare("ruby", folder);
            c.arg(written(folder, "bulk.rb", include_str!("clients/bulk.rb"))).arg(listed);
            c
        }
        Client::Php => {
            let mut c = bare("php", folder);
            c.arg("-n").arg(written(folder, "bulk.php", include_str!("clients/bulk.php"))).arg(listed);
            c
        }
        Client::Deno => {
            let mut c = bare("deno", folder);
            c.env("DENO_DIR", folder.join("deno")).env("DENO_NO_UPDATE_CHECK", "1");
            c.args(["run", "--no-check", "--no-lock", "--no-config", "--quiet", "--allow-all"]);
            c.arg(written(folder, "bulk-deno.js", include_str!("clients/bulk-deno.js"))).arg(listed);
            c
        }
        Client::Java => {
            let source = written(folder, "Bulk.java", include_str!("clients/Bulk.java"));
            let mut c = bare("java", folder);
            c.arg("-XX:TieredStopAtLevel=1").arg(source).arg(listed);
            c
        }
        Client::Go => {
            let source = written(folder, "bulk.go", include_str!("clients/bulk.go"));
            let mut build = bare("go", folder);
            build.env("GO111MODULE", "off").env("CGO_ENABLED", "0").env("GOFLAGS", "");
            let cache = std::env::var("HOME").unwrap_or_default();
            build.env("GOCACHE", format!("{cache}/.cache/go-build"));
            build.arg("build").arg("-o").arg(folder.join("bulk-go")).arg(source);
            assert!(build.status().unwrap().success());
            let mut c = bare(&folder.join("bulk-go").to_string_lossy(), folder);
            c.arg(listed);
            c
        }
        Client::Chromium => {
            let mut c = bare("python3", folder);
            c.arg(written(folder, "chromium.py", include_str!("clients/chromium.py")));
            c.arg("chromium").arg(folder.join("home")).arg(listed);
            c
        }
        Client::Firefox => {
            let mut c = bare("python3", folder);
            c.arg(written(folder, "firefox.py", include_str!("clients/firefox.py")));
            c.arg("firefox-esr").arg(folder.join("firefox/profile")).arg(listed);
            c
        }
        Client::Curl => return by_curl(cases, port, folder),
        _ => return String::new(),
    };
    let ended = c.output().unwrap();
    if !ended.status.success() {
        std::fs::write(folder.join(format!("{}.errors", client.word())), &ended.stderr).unwrap();
    }
    String::from_utf8_lossy(&ended.stdout).into_owned()
}

/// curl takes many addresses in one run, each with options of its own.
fn by_curl(cases: &[Case], port: u16, folder: &Path) -> String {
    let mut all = String::new();
    for some in cases.chunks(400) {
        let mut config = String::new();
        for c in some {
            let roots = folder.join(format!("roots/{}", c.number));
            let bundle = roots.join("curl.crt");
            std::fs::write(&bundle, readable(&c.anchors, &roots, "unreadable")).unwrap();
            writeln!(config, "url = \"https://{}:{port}/\"", c.host).unwrap();
            writeln!(config, "resolve = \"{}:{port}:{}\"", c.host, address(c.number)).unwrap();
            writeln!(config, "cacert = \"{}\"\ncapath = \"/nonexistent\"\nnoproxy = \"*\"", bundle.display()).unwrap();
            writeln!(config, "output = \"/dev/null\"\nmax-time = 15\nsilent").unwrap();
            let out = format!("{}\\t%{{exitcode}}\\t%{{time_appconnect}}\\t%{{errormsg}}\\n", c.number);
            writeln!(config, "write-out = \"{out}\"\nnext").unwrap();
        }
        let file = written(folder, "curl.config", config.trim_end_matches("next\n"));
        let ended = bare("curl", folder).arg("-q").arg("-K").arg(file).output().unwrap();
        for line in String::from_utf8_lossy(&ended.stdout).lines() {
            let p: Vec<&str> = line.splitn(4, '\t').collect();
            let [number, code, shaken, words] = p[..] else { continue };
            let said = match code {
                "0" => "+".to_owned(),
                _ if shaken.parse::<f64>().is_ok_and(|t| t > 0.0) && !matches!(code, "35" | "51" | "60") => {
                    format!("~({code}) {words}")
                }
                _ => format!("-({code}) {words}"),
            };
            writeln!(all, "{number}\t{said}").unwrap();
        }
    }
    all
}

/// The roots that a library reads: one that it does not would make it refuse the whole file.
fn readable(anchors: &[Vec<u8>], roots: &Path, mark: &str) -> String {
    let mut text = String::new();
    for (i, der) in anchors.iter().enumerate() {
        let file = roots.join(format!("{i:02}.pem"));
        let there = std::fs::metadata(roots.join(format!("{i:02}.{mark}"))).is_err();
        if there && file.exists() {
            text.push_str(&pem::write("CERTIFICATE", der));
        }
    }
    text.push_str(&std::fs::read_to_string(roots.join("none.pem")).unwrap());
    text
}

fn read(client: Client, printed: &str) -> HashMap<usize, Said> {
    let mut out = HashMap::new();
    for line in printed.lines() {
        let Some((number, said)) = line.split_once('\t') else { continue };
        let Ok(number) = number.parse() else { continue };
        let words = tamga_core::vocabulary::text::harmless(said.get(1..).unwrap_or_default());
        let code = match client {
            Client::Curl => curl::said(&words),
            Client::Java => java::said(&words),
            Client::Go => go::said(&words),
            Client::Python => python::said(&words),
            Client::Ruby => printed::ruby(&words),
            Client::Php => printed::php(&words),
            Client::Deno => printed::deno(&words),
            _ => words.clone(),
        };
        let outcome = match said.chars().next() {
            Some('+') => Outcome::Accepts,
            Some('?') => Outcome::Warns,
            Some('-' | '~') if client == Client::Chromium => chromium(&code),
            Some('-' | '~') => Outcome::Refuses,
            _ => continue,
        };
        out.insert(number, (outcome, (outcome != Outcome::Accepts).then_some(code)));
    }
    out
}

fn chromium(code: &str) -> Outcome {
    match code {
        "net::ERR_CERT_INVALID" => Outcome::Refuses,
        c if c.starts_with("net::ERR_CERT_") => Outcome::Warns,
        _ => Outcome::Refuses,
    }
}

/// A process for each, a few at a time.
fn one_by_one(cases: &[Case], visit: impl Fn(&Case) -> Option<Said> + Sync) -> HashMap<usize, Said> {
    let next = AtomicUsize::new(0);
    let all: Vec<(usize, Said)> = std::thread::scope(|s| {
        let work = || {
            let mut mine = Vec::new();
            while let Some(c) = cases.get(next.fetch_add(1, Ordering::Relaxed)) {
                mine.extend(visit(c).map(|said| (c.number, said)));
            }
            mine
        };
        let threads: Vec<_> = (0..3).map(|_| s.spawn(work)).collect();
        threads.into_iter().flat_map(|t| t.join().unwrap()).collect()
    });
    all.into_iter().collect()
}

/// An empty directory, for clients that add one.
fn no_roots(folder: &Path) -> std::path::PathBuf {
    let none = folder.join("no-roots");
    std::fs::create_dir_all(&none).unwrap();
    none
}

fn wget(cases: &[Case], port: u16, folder: &Path) -> HashMap<usize, Said> {
    let none = no_roots(folder);
    one_by_one(cases, |c| {
        let roots = folder.join(format!("roots/{}", c.number));
        let bundle = roots.join("wget.crt");
        std::fs::write(&bundle, readable(&c.anchors, &roots, "unreadable-gnutls")).unwrap();
        let mut w = bare("wget", folder);
        w.args(["--no-config", "--no-verbose", "--tries=1", "--timeout=15", "--no-hsts", "--no-proxy"]);
        w.args(["-O", "/dev/null"]);
        w.arg(format!("--ca-directory={}", none.display())).arg(format!("--ca-certificate={}", bundle.display()));
        let ended = w.arg(format!("https://{}:{port}/", c.host)).output().unwrap();
        let words = String::from_utf8_lossy(&ended.stderr).into_owned();
        match ended.status.code() {
            Some(0 | 6 | 8) => Some((Outcome::Accepts, None)),
            Some(5) => Some((Outcome::Refuses, Some(gnutls::said(&words)))),
            Some(4) => Some((Outcome::Refuses, Some(gnutls::said(&words)).filter(|w| !w.is_empty()))),
            _ => None,
        }
    })
}

/// git: whatever the server answers after the handshake is no repository, which says that the certificate was taken.
fn git(cases: &[Case], port: u16, folder: &Path) -> HashMap<usize, Said> {
    let none = no_roots(folder);
    one_by_one(cases, |c| {
        let roots = folder.join(format!("roots/{}", c.number));
        let bundle = roots.join("git.crt");
        std::fs::write(&bundle, readable(&c.anchors, &roots, "unreadable-gnutls")).unwrap();
        let mut g = bare("/usr/bin/git", folder);
        g.env("GIT_CONFIG_NOSYSTEM", "1").env("GIT_TERMINAL_PROMPT", "0");
        g.arg("-c").arg(format!("http.sslCAInfo={}", bundle.display()));
        g.arg("-c").arg(format!("http.sslCAPath={}", none.display()));
        let ended = g.args(["ls-remote", &format!("https://{}:{port}/x.git", c.host)]).output().unwrap();
        let words = printed::git(&String::from_utf8_lossy(&ended.stderr));
        let taken = ended.status.success() || words.contains("is this a git repository") || words.contains("not found");
        Some(if taken { (Outcome::Accepts, None) } else { (Outcome::Refuses, Some(words)) })
    })
}

/// psql: the server is no database, which it says after the handshake.
fn psql(cases: &[Case], port: u16, folder: &Path) -> HashMap<usize, Said> {
    one_by_one(cases, |c| {
        let roots = folder.join(format!("roots/{}", c.number));
        let bundle = roots.join("psql.crt");
        std::fs::write(&bundle, readable(&c.anchors, &roots, "unreadable")).unwrap();
        let mut p = bare("psql", folder);
        let words = format!(
            "host='{}' hostaddr={} port={port} user=x dbname=x sslmode=verify-full gssencmode=disable connect_timeout=15 sslrootcert='{}'",
            c.host,
            address(c.number),
            bundle.display()
        );
        let ended = p.args(["-X", "-w", "-c", "select 1", &words]).output().unwrap();
        let words = tamga_core::vocabulary::text::harmless(&printed::psql(&String::from_utf8_lossy(&ended.stderr)));
        let taken = words.contains("expected authentication request") || words.contains("server closed the connection");
        Some(if taken { (Outcome::Accepts, None) } else { (Outcome::Refuses, Some(words)) })
    })
}
