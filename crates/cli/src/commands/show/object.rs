//! One thing in words.

use crate::commands::authority;
use crate::words::human;
use tamga_app::show::Object;
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::cert::crl::Crl;
use tamga_core::pki::cert::csr::Csr;
use tamga_core::vocabulary::purpose::usage_words;
use tamga_core::vocabulary::text::Shown;
use tamga_core::vocabulary::timestamp::Timestamp;

/// Everything that a person may want to know of it.
pub(super) fn render(object: &Object, now: Timestamp) -> String {
    match object {
        Object::Authority(a, key) => authority::in_full(a, key),
        Object::Issued(i) => {
            let mut rows = vec![
                vec![human::dim("label"), human::strong(&i.label)],
                vec![human::dim("state"), i.standing(now).word().into()],
                vec![
                    human::dim("directory"),
                    match &i.host {
                        Some(host) => format!("{}, on the machine {}", i.folder.shown(), host.shown()),
                        None if i.is_enrolled() => "on the machine of the client that enrolled it".into(),
                        None => i.folder.shown(),
                    },
                ],
            ];
            if let Some(r) = i.revoked {
                let listed = if r.published { "in a signed list" } else { "not published yet" };
                rows.push(vec![human::dim("revoked"), format!("{} ({}), {listed}", r.at, r.reason.word())]);
            }
            rows.extend(certificate_rows(&i.certificate));
            human::table(&rows)
        }
        Object::Waiting(w) => {
            let mut rows = vec![
                vec![human::dim("label"), human::strong(&w.label)],
                vec![human::dim("state"), "its key waits for the signed certificate".into()],
                vec![human::dim("directory"), w.folder.shown()],
            ];
            rows.extend(request_rows(&w.csr));
            human::table(&rows)
        }
        Object::Certificate(c) => certificate(c),
        Object::Request(r) => request(r),
        Object::List(l) => list(l),
        Object::Key(k) => human::table(&[
            vec![human::dim("private key"), k.strength().to_string()],
            vec![human::dim("public key"), format!("SHA-256 {}", k.fingerprint())],
        ]),
        Object::Store(form, aliases, unread) => {
            let mut rows = vec![vec![human::dim("store"), human::strong(form.word())]];
            if !aliases.is_empty() {
                rows.push(vec![human::dim("names in it"), aliases.join(", ")]);
            }
            rows.extend(unread.iter().map(|u| vec![human::dim("not read"), u.clone()]));
            human::table(&rows)
        }
        Object::UnusedKey(kind) => human::table(&[
            vec![human::dim("private key"), human::strong(kind)],
            vec![human::dim("use"), "none here: Tamga makes no certificates for keys of this kind".into()],
        ]),
        Object::LockedKey(what) => human::table(&[
            vec![human::dim("private key"), what.clone()],
            vec![human::dim("state"), "encrypted: a passphrase opens it".into()],
        ]),
    }
}

fn certificate(c: &Certificate) -> String {
    human::table(&certificate_rows(c))
}

/// All that a certificate says that matters to a visitor.
fn certificate_rows(c: &Certificate) -> Vec<Vec<String>> {
    let names = c.name_words();
    let mut rows = vec![vec![human::dim("certificate"), human::strong(&c.subject_words())]];
    // An authority has no names of its own, and needs none.
    if !(names.is_empty() && c.is_ca()) {
        rows.push(vec![human::dim("names"), if names.is_empty() { "none".into() } else { names.join(", ") }]);
    }
    rows.extend([
        vec![human::dim("issued by"), if c.is_self_signed() { "itself".into() } else { c.issuer_words() }],
        vec![human::dim("valid"), format!("{} to {}", c.not_before, c.not_after)],
        vec![human::dim("key"), c.key.strength().to_string()],
        vec![human::dim("CA"), if c.is_ca() { "yes: it may sign certificates" } else { "no" }.into()],
    ]);
    if let Some(n) = c.basic.and_then(|b| b.path_length) {
        rows.push(vec![human::dim("path length"), n.to_string()]);
    }
    if let Some(usage) = c.usage {
        rows.push(vec![human::dim("key usage"), usage.words()]);
    }
    if let Some(purposes) = &c.purposes {
        rows.push(vec![human::dim("purposes"), purposes.iter().map(usage_words).collect::<Vec<_>>().join(", ")]);
    }
    if let Some(s) = &c.constraints {
        rows.push(vec![human::dim("constraints"), tamga_core::ca::authority::limits::words(Some(s))]);
    }
    for url in &c.crl_urls {
        rows.push(vec![human::dim("CRL at"), tamga_core::vocabulary::text::harmless(url)]);
    }
    for url in &c.issuer_urls {
        rows.push(vec![human::dim("issuer at"), tamga_core::vocabulary::text::harmless(url)]);
    }
    for url in &c.ocsp_urls {
        rows.push(vec![human::dim("OCSP at"), tamga_core::vocabulary::text::harmless(url)]);
    }
    for oid in &c.broken {
        rows.push(vec![human::dim("broken"), format!("extension {oid} is malformed or occurs twice")]);
    }
    for oid in &c.unknown_critical {
        rows.push(vec![human::dim("critical"), format!("extension {oid} is unknown here: clients refuse it")]);
    }
    rows.push(vec![human::dim("serial"), c.serial.clone()]);
    rows.push(vec![human::dim("SHA-256"), c.sha256().to_string()]);
    rows.push(vec![human::dim("SHA-1"), c.sha1()]);
    rows
}

fn request(r: &Csr) -> String {
    human::table(&request_rows(r))
}

fn request_rows(r: &Csr) -> Vec<Vec<String>> {
    let names = r.name_words();
    let good = match r.proves_possession() {
        Ok(()) => "good: made with the key in it".to_owned(),
        Err(tamga_core::pki::signature::SignatureFault::Unsupported) => {
            format!("{} cannot be verified here", r.algorithm.oid)
        }
        Err(tamga_core::pki::signature::SignatureFault::Wrong) => human::bad("wrong: not made with the key in it"),
    };
    let mut rows = vec![
        vec![human::dim("request of"), human::strong(&r.subject_words())],
        vec![human::dim("names"), if names.is_empty() { "none".into() } else { names.join(", ") }],
        vec![human::dim("key"), r.key.strength().to_string()],
        vec![human::dim("signature"), good],
    ];
    if let Some(purposes) = &r.wishes.purposes {
        rows.push(vec![human::dim("purposes"), purposes.iter().map(usage_words).collect::<Vec<_>>().join(", ")]);
    }
    if r.wishes.basic.is_some_and(|b| b.ca) {
        rows.push(vec![human::dim("asks"), "to be a CA".into()]);
    }
    rows.push(vec![human::dim("public key"), format!("SHA-256 {}", r.key.fingerprint())]);
    rows
}

fn list(l: &Crl) -> String {
    const MOST: usize = 20;
    let next = l.next_update.map_or("not stated".into(), |n| n.to_string());
    let mut text = human::table(&[
        vec![human::dim("CRL of"), human::strong(&l.issuer_words())],
        vec![human::dim("number"), l.count().map_or("none".into(), |n| n.to_string())],
        vec![human::dim("issued"), l.this_update.to_string()],
        vec![human::dim("next update"), next],
        vec![human::dim("revoked"), l.entries.len().to_string()],
        vec![human::dim("SHA-256"), l.sha256().to_string()],
    ]);
    if !l.entries.is_empty() {
        let mut rows = vec![["serial", "revoked at", "reason"].map(human::dim).to_vec()];
        let entry =
            |e: &tamga_core::pki::cert::crl::Revoked| vec![e.serial.clone(), e.at.to_string(), e.reason.word().into()];
        rows.extend(l.entries.iter().take(MOST).map(entry));
        text.push_str(&format!("\n{}", human::table(&rows)));
    }
    if l.entries.len() > MOST {
        text.push_str(&format!("  and {} more\n", l.entries.len() - MOST));
    }
    text
}
