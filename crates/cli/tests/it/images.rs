//! `--sysroot`: the stores of an image, not of this machine.

use crate::lab;
use std::path::Path;
use tamga_testkit::sandbox::{Sandbox, has};

/// The bare bones of an image: directories, and a command that is never run by this machine's own rights.
fn image(s: &Sandbox, folders: &[&str], command: Option<&str>) -> String {
    let image = s.lab("image");
    for folder in folders {
        std::fs::create_dir_all(image.join(folder)).unwrap();
    }
    if let Some(command) = command {
        program(&image.join("usr/bin").join(command), "#!/bin/sh\nexit 9\n");
    }
    "image".to_owned()
}

fn program(file: &Path, script: &str) {
    use std::os::unix::fs::PermissionsExt;
    std::fs::create_dir_all(file.parent().unwrap()).unwrap();
    std::fs::write(file, script).unwrap();
    std::fs::set_permissions(file, std::fs::Permissions::from_mode(0o755)).unwrap();
}

#[test]
fn an_image_of_debian_is_changed_by_this_machines_command() {
    if !has(&["update-ca-certificates"]) {
        return;
    }
    let s = lab();
    let dir = image(
        &s,
        &["etc/ssl/certs", "etc/ca-certificates", "usr/local/share/ca-certificates"],
        Some("update-ca-certificates"),
    );
    std::fs::write(s.lab("image/etc/ca-certificates.conf"), "").unwrap();
    let before = s.files("root");
    let ran = s.json(&["trust", "add", "--sysroot", &dir]).expect(0).json();
    let row = ran["stores"].as_array().unwrap().iter().find(|r| r["store"] == "system").unwrap().clone();
    assert_eq!((row["state"].as_str(), row["change"].as_str()), (Some("present"), Some("added")), "{ran}");
    let bundle = std::fs::read_to_string(s.lab("image/etc/ssl/certs/ca-certificates.crt")).unwrap();
    assert_eq!(bundle.matches("BEGIN CERTIFICATE").count(), 1);
    assert_eq!(s.files("root"), before, "this machine's own store was touched");
    let status = s.json(&["trust", "status", "--sysroot", &dir]).expect(0).json();
    assert!(status["stores"].as_array().unwrap().iter().all(|r| r["store"] != "chromium"), "{status}");
    s.run(&["trust", "remove", "--sysroot", &dir]).expect(0);
    assert_eq!(std::fs::read_dir(s.lab("image/usr/local/share/ca-certificates")).unwrap().count(), 0);
}

#[test]
fn another_familys_command_runs_with_the_image_as_its_root() {
    let mut s = lab();
    let dir =
        image(&s, &["etc/pki/ca-trust/source/anchors", "etc/pki/ca-trust/extracted/pem"], Some("update-ca-trust"));
    // Takes exactly what chroot is given, and does in the image what the command would do there.
    let script = "#!/bin/sh\n[ \"$2 $3\" = '/usr/bin/update-ca-trust extract' ] || { echo \"chroot: $*\" >&2; exit 64; }\n\
                  cat \"$1\"/etc/pki/ca-trust/source/anchors/* > \"$1\"/etc/pki/ca-trust/extracted/pem/tls-ca-bundle.pem 2>/dev/null\nexit 0\n";
    s.stand_in("chroot", script);
    let ran = s.json(&["trust", "add", "--sysroot", &dir]).expect(0).json();
    assert_eq!(ran["stores"][0]["state"], "present", "{ran}");
    assert_eq!(ran["stores"][0]["place"], "/etc/pki/ca-trust/source/anchors");
    s.run(&["trust", "remove", "--sysroot", &dir]).expect(0);
    assert_eq!(std::fs::read_dir(s.lab("image/etc/pki/ca-trust/source/anchors")).unwrap().count(), 0);
}

#[test]
fn a_link_that_leads_out_of_the_image_is_not_followed() {
    if !has(&["update-ca-certificates"]) {
        return;
    }
    let s = lab();
    let dir = image(&s, &["etc/ssl/certs", "usr/local/share"], Some("update-ca-certificates"));
    let outside = s.path("outside");
    std::fs::create_dir(&outside).unwrap();
    std::os::unix::fs::symlink(&outside, s.lab("image/usr/local/share/ca-certificates")).unwrap();
    let ran = s.run(&["trust", "add", "--sysroot", &dir]).expect(4);
    assert!(ran.out.contains("a link in it leads to"), "{}", ran.out);
    assert_eq!(std::fs::read_dir(&outside).unwrap().count(), 0);
}

#[test]
fn a_folder_that_is_no_system_is_refused() {
    let s = lab();
    std::fs::create_dir(s.lab("empty")).unwrap();
    assert!(s.run(&["trust", "add", "--sysroot", "empty"]).expect(2).err.contains("etc"));
    s.run(&["trust", "add", "--sysroot", "nowhere"]).expect(4);
    s.run(&["trust", "add", "--sysroot", "empty", "--scope", "user"]).expect(2);
}
