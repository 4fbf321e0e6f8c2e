//! Servers that mean ill cost bounded time and memory, are reported as what they are, and what they send reaches nobody unescaped.

use crate::lab;
use std::time::{Duration, Instant};
use tamga_testkit::hostile::{self, raw};
use tamga_testkit::matrix::chain::Pool;
use tamga_testkit::sandbox::{Ran, Sandbox};

/// Far more than any of them may take.
const LIMIT: Duration = Duration::from_secs(60);
/// Kilobytes of address space: what is read without end would end here.
const MEMORY: u64 = 1_200_000;

fn check(s: &Sandbox, port: u16, more: &[&str]) -> Ran {
    let program = env!("CARGO_BIN_EXE_tamga");
    let mut c = s.around("sh");
    let script = format!("ulimit -v {MEMORY}; exec \"$@\"");
    c.args(["-c", &script, "sh", program, "check", &format!("localhost:{port}"), "--resolve", "localhost=127.0.0.1"]);
    c.args(["--clients", "standard,curl,chromium,firefox,java,go,gnutls,node,python"]).args(more);
    let begun = Instant::now();
    let ran: Ran = c.output().unwrap().into();
    assert!(begun.elapsed() < LIMIT, "it took {:?}", begun.elapsed());
    ran
}

fn codes(ran: &Ran) -> Vec<String> {
    let v = ran.json();
    let all = v["targets"][0]["findings"].as_array().unwrap_or_else(|| panic!("{}", ran.out));
    all.iter().map(|f| f["code"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn what_never_ends_and_what_comes_drop_by_drop_is_cut_off() {
    let s = lab();
    let endless = check(&s, raw(hostile::endless), &["--format", "json", "--wire"]);
    assert!(endless.code == 1 && !codes(&endless).is_empty(), "{}", endless.out);
    let slow = check(&s, raw(hostile::slow), &["--format", "json"]);
    assert_eq!(codes(&slow), ["silent-connection"], "{}", slow.out);
    // Nothing but noise.
    let noise = raw(|mut socket| {
        use std::io::Write;
        let noise: Vec<u8> = (0..4_096_u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 13) as u8).collect();
        while socket.write_all(&noise).is_ok() {}
    });
    assert_eq!(codes(&check(&s, noise, &["--format", "json"])), ["other-protocol"]);
}

#[test]
fn issuers_in_a_circle_and_a_crowd_of_names_come_to_an_answer() {
    let s = lab();
    let pool = Pool::new();
    let cycles = check(&s, hostile::cycles(&pool, 12), &["--format", "json"]);
    let found = codes(&cycles);
    assert!(found.contains(&"issuer-unknown".into()) && found.contains(&"budget-exhausted".into()), "{found:?}");
    let crowd = check(&s, hostile::crowded(&pool, 20_000), &["--format", "json"]);
    assert_eq!(codes(&crowd), ["budget-exhausted"], "{}", &crowd.out[..2_000.min(crowd.out.len())]);
    // More than our own TLS takes at once, and less than clients do: read in clear text, and judged.
    let crowd = check(&s, hostile::crowded(&pool, 10_000), &["--format", "json"]);
    assert!(codes(&crowd).contains(&"name-not-covered".into()), "{:?}", codes(&crowd));
    let crowd = check(&s, hostile::crowded(&pool, 1_500), &["--format", "json"]);
    assert!(codes(&crowd).contains(&"name-not-covered".into()), "{}", &crowd.out[..2_000.min(crowd.out.len())]);
    // A person is not shown a thousand names.
    let text = check(&s, hostile::crowded(&pool, 1_500), &[]);
    assert!(text.out.len() < 20_000, "{} octets", text.out.len());
}

#[test]
fn what_would_steer_a_terminal_or_a_browser_arrives_as_text() {
    let s = lab();
    let port = hostile::ill(&Pool::new());
    for more in [&[][..], &["--verbose", "--wire"], &["--format", "json"], &["--report", "page.html"]] {
        let ran = check(&s, port, more);
        for text in [&ran.out, &ran.err] {
            let bad = text.chars().find(|c| (c.is_control() && *c != '\n') || *c == '\u{202e}');
            assert_eq!(bad, None, "{more:?}: {text:?}");
        }
        assert!(ran.out.contains("owned"), "{more:?}: it is shown, escaped: {}", ran.out);
    }
    let page = std::fs::read_to_string(s.lab("page.html")).unwrap();
    assert!(!page.contains("<script") && !page.contains('\u{1b}') && !page.contains('\u{202e}'), "{page}");
    assert!(page.contains("&lt;script&gt;"), "{page}");
}

/// One deadline for everything that is asked of an address: the probes for older protocols do not restart it.
#[test]
fn a_server_that_stalls_every_probe_is_given_up_in_time() {
    use std::io::{Read, Write};
    let s = lab();
    let first = std::sync::atomic::AtomicBool::new(true);
    let port = raw(move |mut socket| {
        let _ = socket.read(&mut [0; 4096]);
        if first.swap(false, std::sync::atomic::Ordering::SeqCst) {
            // handshake_failure: now it is asked what it speaks instead, again and again.
            let _ = socket.write_all(&[21, 3, 3, 0, 2, 2, 40]);
        } else {
            std::thread::sleep(Duration::from_secs(60));
        }
    });
    let begun = Instant::now();
    let ran = check(&s, port, &["--format", "json"]);
    assert_eq!(codes(&ran), ["no-common-cipher"], "{}", ran.out);
    assert!(begun.elapsed() < Duration::from_secs(28), "it took {:?}", begun.elapsed());
}

/// Messages that are legal once, sent without end: reported as what they are.
#[test]
fn floods_are_named_as_what_they_are() {
    use std::io::{Read, Write};
    let s = lab();
    for (record, said) in [
        (&[20, 3, 3, 0, 1, 1][..], "ChangeCipherSpec"),
        (&[22, 3, 3, 0, 4, 0, 0, 0, 0], "HelloRequest"),
        (&[21, 3, 3, 0, 2, 1, 90], "alerts"),
    ] {
        let record = record.to_vec();
        let port = raw(move |mut socket| {
            let _ = socket.read(&mut [0; 4096]);
            while socket.write_all(&record.repeat(50)).is_ok() {}
        });
        let ran = check(&s, port, &["--format", "json"]);
        assert_eq!(codes(&ran), ["other-protocol"], "{said}: {}", ran.out);
        assert!(ran.out.contains(said), "{said}: {}", ran.out);
    }
    let port = raw(|mut socket| {
        let _ = socket.read(&mut [0; 4096]);
        let _ = socket.write_all(&[21, 3, 3, 0, 2, 2, 200]);
    });
    let ran = check(&s, port, &["--format", "json"]);
    assert_eq!(codes(&ran), ["other-protocol"], "{}", ran.out);
    assert!(ran.out.contains("does not define"), "{}", ran.out);
}
