//! Shapes of the contract: names are only ever added.

use serde_json::{Value, json};
use std::path::Path;
use tamga_core::cert::Certificate;
use tamga_core::finding::Finding;
use tamga_core::report::Issued;

/// `chain` of `check`.
pub(crate) fn certificate(c: &Certificate) -> Value {
    json!({
        "subject": c.subject_words(), "issuer": c.issuer_words(), "serial": c.serial, "sha256": c.sha256(),
        "not_before": c.not_before.to_string(), "not_after": c.not_after.to_string(), "names": c.name_words(),
    })
}

/// `certificates` of `issue`, `setup`, `list`.
pub(crate) fn issued(label: &str, c: &Certificate, folder: &Path) -> Value {
    json!({
        "label": label, "names": c.name_words(), "serial": c.serial, "sha256": c.sha256(),
        "not_before": c.not_before.to_string(), "not_after": c.not_after.to_string(), "folder": folder,
        "files": {
            "certificate": folder.join("certificate.pem"),
            "private_key": folder.join("private-key.pem"),
            "root": folder.join("root.pem"),
        },
    })
}

/// A row of `list`.
pub(crate) fn listed(i: &Issued, now: tamga_core::moment::Moment) -> Value {
    let mut v = issued(&i.label, &i.certificate, &i.folder);
    v["state"] = json!(i.standing(now).word());
    v["days_left"] = json!(i.certificate.not_after.days_after(now));
    v["authority"] = json!(i.authority);
    v
}

/// `findings`.
pub(crate) fn finding(f: &Finding) -> Value {
    json!({
        "code": f.code.word(), "severity": f.severity.word(), "about": f.about, "summary": f.summary,
        "remedy": f.remedy, "clients": f.clients.iter().map(|c| c.word()).collect::<Vec<_>>(),
    })
}
