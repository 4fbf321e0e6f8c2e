//! A configuration profile (a property list) with roots, for phones, tablets and computers of one vendor.

use super::contents::{Contents, Named, unnamed};
use crate::error::{Error, Result};
use base64ct::{Base64, Encoding};
use sha2::{Digest, Sha256};

const ROOT_PAYLOAD: &str = "com.apple.security.root";

/// True if this is a property list with a certificate payload.
pub fn is_one(text: &str) -> bool {
    text.contains("<plist") && text.contains("<string>com.apple.security.")
}

/// A profile with these roots (DER) under their names.
///
/// The identifiers follow from the roots: made again, it replaces the one that is installed.
///
/// ```
/// use tamga_core::pki::format::contents::Named;
/// use tamga_core::pki::format::mobileconfig::{is_one, write};
/// use tamga_core::sample::root;
///
/// let root = Named { alias: None, thing: root()?.0.certificate.der().to_vec() };
/// assert!(is_one(&write("Saltmarsh", &[root])));
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub fn write(title: &str, roots: &[Named<Vec<u8>>]) -> String {
    let mut payloads = String::new();
    let mut sum = Sha256::new();
    for root in roots {
        sum.update(&root.thing);
        let name = escaped(root.alias.as_deref().unwrap_or(title));
        let id = uuid(&Sha256::digest(&root.thing));
        payloads.push_str(&format!(
            "    <dict>\n      <key>PayloadType</key><string>{ROOT_PAYLOAD}</string>\n      \
             <key>PayloadVersion</key><integer>1</integer>\n      \
             <key>PayloadIdentifier</key><string>tamga.root.{id}</string>\n      \
             <key>PayloadUUID</key><string>{id}</string>\n      \
             <key>PayloadDisplayName</key><string>{name}</string>\n      \
             <key>PayloadCertificateFileName</key><string>{name}.cer</string>\n      \
             <key>PayloadContent</key><data>{}</data>\n    </dict>\n",
            Base64::encode_string(&root.thing)
        ));
    }
    let id = uuid(&Sha256::new().chain_update(b"profile").chain_update(sum.finalize()).finalize());
    let title = escaped(title);
    format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n\
         <!DOCTYPE plist PUBLIC \"-//Apple//DTD PLIST 1.0//EN\" \"http://www.apple.com/DTDs/PropertyList-1.0.dtd\">\n\
         <plist version=\"1.0\">\n<dict>\n  <key>PayloadType</key><string>Configuration</string>\n  \
         <key>PayloadVersion</key><integer>1</integer>\n  \
         <key>PayloadIdentifier</key><string>tamga.profile.{id}</string>\n  \
         <key>PayloadUUID</key><string>{id}</string>\n  \
         <key>PayloadDisplayName</key><string>{title}</string>\n  \
         <key>PayloadDescription</key><string>The root of a local authority for tests</string>\n  \
         <key>PayloadRemovalDisallowed</key><false/>\n  \
         <key>PayloadContent</key>\n  <array>\n{payloads}  </array>\n</dict>\n</plist>\n"
    )
}

/// A UUID of version 8 (RFC 9562 §5.8) out of a digest.
fn uuid(digest: &[u8]) -> String {
    let mut b: [u8; 16] = std::array::from_fn(|i| digest[i]);
    b[6] = b[6] & 0x0f | 0x80;
    b[8] = b[8] & 0x3f | 0x80;
    let hex = crate::vocabulary::text::hex(&b).to_uppercase();
    format!("{}-{}-{}-{}-{}", &hex[..8], &hex[8..12], &hex[12..16], &hex[16..20], &hex[20..])
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;")
}

/// The certificates of one: every piece of data that is a DER sequence.
///
/// Errors: there is none.
pub fn read(bytes: &[u8], what: &str) -> Result<Contents> {
    let text = String::from_utf8_lossy(bytes);
    let data = text.split("<data>").skip(1).filter_map(|rest| rest.split_once("</data>"));
    let packed = data.map(|(d, _)| d.chars().filter(|c| !c.is_whitespace()).collect::<String>());
    let certificates: Vec<_> = packed
        .filter_map(|d| Base64::decode_vec(&d).ok())
        .filter(|der| der.first() == Some(&0x30))
        .map(unnamed)
        .collect();
    if certificates.is_empty() {
        return Err(Error::Malformed { what: what.to_owned(), why: "the profile holds no certificate".into() });
    }
    Ok(Contents { certificates, ..Contents::default() })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_written_comes_back() {
        let roots = [Named { alias: Some("a <b> & c".into()), thing: vec![0x30, 3, 2, 1, 7] }];
        let text = write("saltmarsh", &roots);
        assert!(is_one(&text) && text.contains("a &lt;b&gt; &amp; c") && text == write("saltmarsh", &roots));
        assert_eq!(read(text.as_bytes(), "x").unwrap().certificates[0].thing, roots[0].thing);
        assert!(read(b"<plist></plist>", "x").is_err());
    }
}
