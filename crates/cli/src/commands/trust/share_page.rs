//! The page that `trust share` hands out: what to do on each kind of device, phones first.

use crate::words::html::{page as whole, text};
use tamga_core::ca::report::Authority;

/// What to do, in order: the device, the file, the steps.
const DEVICES: &[(&str, &str, &str, &[&str])] = &[
    (
        "iPhone and iPad",
        "root.mobileconfig",
        "profile",
        &[
            "Open the profile in Safari and allow the download.",
            "Settings, Profile Downloaded: before you install, open More Details and compare the SHA-256 fingerprint with the terminal.",
            "Settings, General, About, Certificate Trust Settings: switch this root on. Without this step nothing changes.",
        ],
    ),
    (
        "Android",
        "root.crt",
        "certificate",
        &[
            "Download the certificate.",
            "Settings, search for \u{201c}CA certificate\u{201d}, Install anyway, choose the file.",
            "Compare the SHA-256 in Trusted credentials, User, with the terminal. Chrome takes it at once; most other apps only if their makers allow it.",
        ],
    ),
    (
        "Windows",
        "root.crt",
        "certificate",
        &[
            "Open the file, Install Certificate, Current User, place it in Trusted Root Certification Authorities.",
            "Before the last Yes compare the thumbprint in the dialog: it is SHA-1, which the terminal shows as well.",
        ],
    ),
    (
        "Mac",
        "root.crt",
        "certificate",
        &[
            "Open the file: it goes into the login keychain.",
            "In Keychain Access open it, compare the SHA-256 under Details, then Trust, When using this certificate: Always Trust.",
        ],
    ),
    (
        "Firefox, anywhere",
        "root.pem",
        "certificate",
        &[
            "Settings, Privacy and Security, View Certificates, Authorities, Import: choose View to compare the SHA-256 before you trust it for websites.",
        ],
    ),
    (
        "Linux",
        "root.pem",
        "certificate",
        &[
            "With Tamga: the command shown in the terminal compares the fingerprint itself and adds the root to every store.",
        ],
    ),
    ("Java", "root.p12", "trust store", &["A trust store without a passphrase: -Djavax.net.ssl.trustStore=root.p12"]),
    ("Programs that want PKCS#7", "root.p7b", "certificate", &["Import it as a trusted root."]),
];

/// The page. `svg` is the QR code of `url`.
pub(super) fn page(a: &Authority, url: &str, svg: &str) -> String {
    // The drawing itself, without the head of an XML file.
    let drawing = svg.find("<svg").map_or(svg, |at| &svg[at..]);
    let head = "<p class=\"verdict care\">This page came over plain HTTP: anyone on the network path could have changed it. Compare the SHA-256 fingerprint that \
                your device shows with the terminal in which this is shared, not with anything on this page.</p>";
    let mut body = format!(
        "<section class=\"open\"><h2>{}</h2><p class=\"kind\">{}, valid until {}</p><p class=\"kind\">To open this page on another device:</p>\
         <div class=\"qr\" role=\"img\" aria-label=\"QR code of this page\u{2019}s address\">{drawing}</div><p><code>{}</code></p></section>",
        text(&a.label),
        text(&a.certificate.subject_words()),
        text(&a.certificate.not_after.date()),
        text(url)
    );
    for (device, file, what, steps) in DEVICES {
        let steps: String = steps.iter().map(|s| format!("<li>{}</li>", text(s))).collect();
        body.push_str(&format!(
            "<section><h2>{}</h2><p><a class=\"get\" href=\"/{file}\">Get the {what}</a></p><ol>{steps}</ol></section>",
            text(device)
        ));
    }
    body.push_str(
        "<section><h2>Afterwards</h2><p>The root lets this lab\u{2019}s servers be visited without a warning. Take it out again where you put it \
         in when the lab is over.</p></section>",
    );
    let style = "<style>.get{display:inline-block;padding:.55rem 1rem;border-radius:8px;background:#0b57d0;color:#fff;text-decoration:none;\
                 font-weight:600}.qr svg{width:180px;height:180px;background:#fff;padding:8px;border-radius:6px}ol{padding-left:1.2rem}\
                 @media(max-width:40rem){main{display:flex;flex-direction:column}.open{order:1}body{margin:1rem auto;padding:0 .9rem}section{padding:.9rem 1rem}}</style>";
    whole("Trust this lab\u{2019}s root", &format!("{style}{head}"), &body)
}
