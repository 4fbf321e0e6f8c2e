//! `from` in `tamga.toml`: the lab's file says where a certificate comes from.

use super::{Service, root};
use crate::lab;
use tamga_testkit::sandbox::Sandbox;

fn file(s: &Sandbox, service: &Service, more: &str) {
    let text = format!(
        "[[certificate]]\nnames = [\"charts.saltmarsh.test\"]\nfrom = \"{}\"\nanchor = \"{}\"\nchallenge_listen = \"127.0.0.1:{}\"\n{more}\
         [[certificate.place]]\ncertificate = \"server/charts.pem\"\nkey = \"server/charts-key.pem\"\n",
        service.directory,
        root(s).display(),
        service.http
    );
    std::fs::write(s.lab("tamga.toml"), text).unwrap();
}

#[test]
fn a_certificate_of_the_file_comes_from_a_service() {
    let s = lab();
    let service = Service::start(&s, &[]);
    let data = s.path("elsewhere").display().to_string();
    let apply = |more: &[&str]| s.json(&[&["--data-dir", data.as_str(), "apply"], more].concat());
    file(&s, &service, "profile = \"short\"\n");
    std::fs::create_dir(s.lab("server")).unwrap();
    let plan = apply(&["--dry-run"]).expect(0).json();
    assert_eq!(plan["changes"].as_array().unwrap().len(), 2, "{plan}");
    let done = apply(&["--yes"]).expect(0).json();
    assert_eq!(done["changes"].as_array().unwrap().len(), 2, "{done}");
    assert!(apply(&["--yes"]).expect(0).json()["changes"].as_array().unwrap().is_empty());
    assert!(s.lab("server/charts.pem").exists());
    // A name more is got from there; so is a chain that somebody overwrote.
    let text = std::fs::read_to_string(s.lab("tamga.toml")).unwrap();
    std::fs::write(
        s.lab("tamga.toml"),
        text.replace("[\"charts.saltmarsh.test\"]", "[\"charts.saltmarsh.test\", \"archive.saltmarsh.test\"]"),
    )
    .unwrap();
    apply(&["--yes"]).expect(0);
    std::fs::write(s.lab("charts.saltmarsh.test/certificate.pem"), "x").unwrap();
    let again = apply(&["--yes"]).expect(0).json();
    assert!(again.to_string().contains("was not what was issued"), "{again}");
    assert!(apply(&["--yes"]).expect(0).json()["changes"].as_array().unwrap().is_empty());
    assert_eq!(service.said("issued").len(), 3);
    // What makes no sense is refused with its place.
    file(&s, &service, "issuer = \"saltmarsh\"\n");
    let refused = apply(&["--yes"]);
    assert!(refused.code == 3 && refused.out.contains("leave issuer away"), "{}", refused.out);
}
