//! Shapes of the contract: names are only ever added.

use crate::words::json;
use serde_json::Value;
use tamga_core::authority::{CERTIFICATE_FILE, KEY_FILE, REQUEST_FILE, ROOT_FILE};
use tamga_core::cert::Certificate;
use tamga_core::finding::Finding;
use tamga_core::moment::Moment;
use tamga_core::report::{Authority, Issued, KeyPlace};
use tamga_host::ledger::Waiting;

/// `chain` of `check`.
pub(crate) fn certificate(c: &Certificate) -> Value {
    json!({
        "subject": c.subject_words(), "issuer": c.issuer_words(), "serial": c.serial, "sha256": c.sha256(),
        "not_before": c.not_before.to_string(), "not_after": c.not_after.to_string(), "names": c.name_words(),
    })
}

/// `certificates` of `issue`, `setup`, `renew`.
pub(crate) fn issued(i: &Issued) -> Value {
    let files = [("certificate", CERTIFICATE_FILE), ("private_key", KEY_FILE), ("root", ROOT_FILE)];
    with_files(i, &files)
}

/// The same with the files that there are: `sign` writes no key, `receive` perhaps no root.
pub(crate) fn with_files(i: &Issued, files: &[(&str, &str)]) -> Value {
    let c = &i.certificate;
    let files: serde_json::Map<String, Value> =
        files.iter().map(|(word, name)| ((*word).to_owned(), json!(i.folder.join(name)))).collect();
    json!({
        "label": i.label, "names": c.name_words(), "serial": c.serial, "sha256": c.sha256(),
        "not_before": c.not_before.to_string(), "not_after": c.not_after.to_string(), "folder": i.folder, "files": files,
    })
}

/// A key that waits for its certificate: what a certificate would say is null.
pub(crate) fn waiting(w: &Waiting) -> Value {
    json!({
        "label": w.label, "names": w.csr.name_words(), "serial": null, "sha256": null, "not_before": null,
        "not_after": null, "folder": w.folder, "state": "waiting",
        "files": {"request": w.folder.join(REQUEST_FILE), "private_key": w.folder.join(KEY_FILE)},
    })
}

/// A row of `list`.
pub(crate) fn listed(i: &Issued, now: Moment) -> Value {
    let mut v = issued(i);
    v["state"] = json!(i.standing(now).word());
    v["days_left"] = json!(i.certificate.not_after.days_after(now));
    v["authority"] = json!(i.authority);
    v["revoked"] = match i.revoked {
        Some(r) => json!({"at": r.at.to_string(), "reason": r.reason.word(), "published": r.published}),
        None => Value::Null,
    };
    v
}

/// A member of `authorities`.
pub(crate) fn authority(a: &Authority) -> Value {
    let c = &a.certificate;
    let (key_file, offline) = match &a.key {
        KeyPlace::Here => (json!(a.folder.join(KEY_FILE)), Value::Null),
        KeyPlace::Offline(place) => (Value::Null, json!(place)),
        _ => (Value::Null, Value::Null),
    };
    json!({
        "label": a.label, "kind": if a.is_root() { "root" } else { "intermediate" }, "issuer": a.issuer,
        "subject": c.subject_words(), "serial": c.serial, "sha256": c.sha256(),
        "not_before": c.not_before.to_string(), "not_after": c.not_after.to_string(),
        "permitted": c.constraints.as_ref().map(|s| s.permitted.iter().map(|g| g.words()).collect::<Vec<_>>()),
        "path_length": c.basic.and_then(|b| b.path_length), "purposes": a.purposes.iter().map(|p| p.word()).collect::<Vec<_>>(),
        "key": a.key.word(), "key_place": offline, "retired": a.retired, "crl_url": a.links.crl,
        "issuer_url": a.links.issuer, "folder": a.folder,
        "files": {"certificate": a.folder.join(CERTIFICATE_FILE), "private_key": key_file},
    })
}

/// `findings`.
pub(crate) fn finding(f: &Finding) -> Value {
    json!({
        "code": f.code.word(), "severity": f.severity.word(), "about": f.about, "summary": f.summary,
        "remedy": f.remedy, "clients": f.clients.iter().map(|c| c.word()).collect::<Vec<_>>(),
    })
}
