//! Firefox's profiles, with the real browser as judge.

use crate::lab;
use serde_json::Value;
use std::path::{Path, PathBuf};
use tamga_testkit::firefox::Firefox;
use tamga_testkit::sandbox::{Sandbox, has};
use tamga_testkit::site::Site;

/// Lets the sandbox see where Firefox keeps its own library.
pub(crate) fn with_firefox() -> Option<Sandbox> {
    if !has(&["firefox-esr"]) {
        return None;
    }
    let s = lab();
    std::fs::create_dir_all(s.path("root/usr/lib")).unwrap();
    std::os::unix::fs::symlink("/usr/lib/firefox-esr", s.path("root/usr/lib/firefox-esr")).unwrap();
    Some(s)
}

pub(crate) fn profile(s: &Sandbox, name: &str) -> PathBuf {
    let root = s.path("home/.config/mozilla/firefox");
    std::fs::create_dir_all(root.join(name)).unwrap();
    let list = root.join("profiles.ini");
    let before = std::fs::read_to_string(&list).unwrap_or_default();
    let number = before.matches("[Profile").count();
    std::fs::write(&list, format!("{before}[Profile{number}]\nName={name}\nIsRelative=1\nPath={name}\n\n")).unwrap();
    root.join(name)
}

fn rows(v: &Value) -> Vec<(String, String, String)> {
    let word = |r: &Value, k: &str| r[k].as_str().unwrap().to_owned();
    v["stores"].as_array().unwrap().iter().map(|r| (word(r, "state"), word(r, "change"), word(r, "place"))).collect()
}

#[test]
fn a_root_is_taken_at_once_by_a_running_firefox_and_gone_after_remove() {
    let Some(s) = with_firefox() else { return };
    let (used, second) = (profile(&s, "a.lab"), profile(&s, "b.lab"));
    let site = Site::start(&s, &["charts"]);
    let at = |host: &str| format!("https://{host}:{}/", site.port);
    let mut firefox = Firefox::start(&s.path("home"), &used);
    assert!(!firefox.accepts(&at("localhost")));
    let v = s.json(&["trust", "add", "--stores", "firefox"]).expect(0).json();
    assert_eq!(rows(&v).len(), 2, "{v}");
    assert!(rows(&v).iter().all(|r| (r.0.as_str(), r.1.as_str()) == ("present", "added")), "{v}");
    assert!(firefox.accepts(&at("127.0.0.1")), "without a restart");
    drop(firefox);
    let again = s.json(&["trust", "add", "--stores", "firefox"]).expect(0).json();
    assert!(rows(&again).iter().all(|r| r.1 == "none"), "{again}");
    // A profile that was never started has it too.
    let mut firefox = Firefox::start(&s.path("home"), &second);
    assert!(firefox.accepts(&at("localhost")));
    drop(firefox);
    let v = s.json(&["trust", "remove", "--stores", "firefox"]).expect(0).json();
    assert!(rows(&v).iter().all(|r| r.1 == "removed" && r.0 == "absent"), "{v}");
    let mut firefox = Firefox::start(&s.path("home"), &used);
    assert!(!firefox.accepts(&at("localhost")));
}

/// A database with a primary password, made by Firefox's own library.
fn guarded(folder: &Path, password: &str) {
    let script = r#"
import ctypes, sys
G = ctypes.RTLD_GLOBAL
own = "/usr/lib/firefox-esr/"
ctypes.CDLL(own + "libmozsqlite3.so", mode=G)
nspr = ctypes.CDLL("libnspr4.so", mode=G)
ctypes.CDLL(own + "libnssutil3.so", mode=G)
nss = ctypes.CDLL(own + "libnss3.so", mode=G)
nss.PK11_GetInternalKeySlot.restype = ctypes.c_void_p
assert nss.NSS_Initialize(b"sql:" + sys.argv[1].encode(), b"", b"", b"secmod.db", 0) == 0
slot = ctypes.c_void_p(nss.PK11_GetInternalKeySlot())
assert nss.PK11_InitPin(slot, None, sys.argv[2].encode()) == 0
nss.PK11_FreeSlot(slot)
nss.NSS_Shutdown()
"#;
    let out = std::process::Command::new("python3").args(["-c", script]).arg(folder).arg(password).output().unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
}

#[test]
fn a_primary_password_a_damaged_and_a_closed_profile_each_get_their_lines_and_the_others_go_on() {
    let Some(s) = with_firefox() else { return };
    let (locked, damaged, closed, good) =
        (profile(&s, "a.locked"), profile(&s, "b.damaged"), profile(&s, "c.closed"), profile(&s, "d.good"));
    guarded(&locked, "spring tide");
    std::fs::write(damaged.join("cert9.db"), b"not a database at all").unwrap();
    let closed_to = |bits: u32| {
        use std::os::unix::fs::PermissionsExt;
        std::fs::set_permissions(&closed, std::fs::Permissions::from_mode(bits)).unwrap();
    };
    closed_to(0o500);
    let v = s.json(&["trust", "add", "--stores", "firefox"]).expect(5).json();
    let by = |v: &Value, p: &Path| {
        v["stores"].as_array().unwrap().iter().find(|r| r["place"] == p.display().to_string()).unwrap().clone()
    };
    assert_eq!(by(&v, &good)["change"], "added", "{v}");
    let of_locked = by(&v, &locked);
    assert!(of_locked["change"] == "failed" && of_locked["why"].to_string().contains("primary password"), "{v}");
    assert!(of_locked["remedy"].to_string().contains("--passphrase-file"), "{v}");
    assert_eq!(by(&v, &damaged)["change"], "failed", "{v}");
    assert_eq!(std::fs::read(damaged.join("cert9.db")).unwrap(), b"not a database at all", "it is left as it was");
    // Root may write everywhere: only another account is kept out.
    if !tamga_testkit::server::is_root() {
        assert_eq!(by(&v, &closed)["change"], "failed", "{v}");
    }
    closed_to(0o700);
    std::fs::remove_file(damaged.join("cert9.db")).unwrap();
    std::fs::write(s.lab("wrong"), "neap tide\n").unwrap();
    let v = s.json(&["trust", "add", "--stores", "firefox", "--passphrase-file", "wrong"]).expect(5).json();
    assert!(by(&v, &locked)["why"].to_string().contains("is wrong"), "{v}");
    std::fs::write(s.lab("right"), "spring tide\n").unwrap();
    let v = s.json(&["trust", "add", "--stores", "firefox", "--passphrase-file", "right"]).expect(0).json();
    assert_eq!(
        (by(&v, &locked)["state"].as_str(), by(&v, &locked)["change"].as_str()),
        (Some("present"), Some("added"))
    );
    // Taking out needs no password.
    let v = s.json(&["trust", "remove", "--stores", "firefox"]).expect(0).json();
    assert!(v["stores"].as_array().unwrap().iter().all(|r| r["state"] == "absent"), "{v}");
}
