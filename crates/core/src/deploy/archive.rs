//! One file for a machine without Tamga: certificate, key and root, each in the forms that are asked for, and what to do with them.

use crate::error::{Error, Result};
use crate::pki::cert::Certificate;
use crate::pki::format::pem;
use crate::vocabulary::text::Shown;
use crate::vocabulary::timestamp::Timestamp;
use zeroize::Zeroizing;

/// A tar archive (POSIX ustar) with one directory. `key` is PEM, perhaps encrypted; the chain begins with the leaf, or is the root alone.
///
/// What is written is read back and compared.
pub fn write(
    label: &str,
    chain: &[Certificate],
    root: Option<&Certificate>,
    key: Option<&str>,
    now: Timestamp,
) -> Result<Zeroizing<Vec<u8>>> {
    let text = |all: &[Certificate]| -> String {
        all.iter().map(|c| pem::write(pem::CERTIFICATE, c.der()).to_string()).collect()
    };
    let alone = chain.first().filter(|c| chain.len() == 1 && c.is_self_signed() && key.is_none());
    let root = root.or(alone);
    let mut files: Vec<(&str, u32, Zeroizing<Vec<u8>>)> = Vec::new();
    let note = note(label, chain, root, key);
    files.push(("INSTALL.txt", 0o644, Zeroizing::new(note.into_bytes())));
    if alone.is_none() {
        files.push(("certificate.pem", 0o644, Zeroizing::new(text(chain).into_bytes())));
    }
    if let Some(key) = key {
        files.push(("private-key.pem", 0o600, Zeroizing::new(key.as_bytes().to_vec())));
    }
    if let Some(root) = root {
        files.push(("root.pem", 0o644, Zeroizing::new(text(std::slice::from_ref(root)).into_bytes())));
        files.push(("root.crt", 0o644, Zeroizing::new(root.der().to_vec())));
    }
    let failed = |_| Error::Crypto { doing: "writing an archive" };
    // Room for all of it at once: growing would leave copies of the key behind.
    let room = files.iter().map(|f| f.2.len() + 1_024).sum::<usize>() + 4_096;
    let mut out = Zeroizing::new(Vec::with_capacity(room));
    let mut archive = tar::Builder::new(&mut *out);
    for (name, mode, bytes) in &files {
        let mut head = tar::Header::new_ustar();
        head.set_size(bytes.len() as u64);
        head.set_mode(*mode);
        head.set_mtime(u64::try_from(now.unix()).unwrap_or(0));
        archive.append_data(&mut head, format!("{label}/{name}"), bytes.as_slice()).map_err(failed)?;
    }
    archive.finish().map_err(failed)?;
    drop(archive);
    proved(&out, label, &files)?;
    Ok(out)
}

fn proved(bytes: &[u8], label: &str, files: &[(&str, u32, Zeroizing<Vec<u8>>)]) -> Result<()> {
    use std::io::Read;
    let failed = |_| Error::Crypto { doing: "reading an archive back" };
    let mut archive = tar::Archive::new(bytes);
    let mut n = 0;
    for entry in archive.entries().map_err(failed)? {
        let mut entry = entry.map_err(failed)?;
        let mut read = Zeroizing::new(Vec::new());
        entry.read_to_end(&mut read).map_err(failed)?;
        let path = entry.path().map_err(failed)?.shown();
        let same = files.get(n).is_some_and(|(name, _, meant)| path == format!("{label}/{name}") && *read == **meant);
        if !same {
            return Err(Error::Crypto { doing: "reading an archive back" });
        }
        n += 1;
    }
    if n == files.len() { Ok(()) } else { Err(Error::Crypto { doing: "reading an archive back" }) }
}

/// What a person without Tamga does with it.
fn note(label: &str, chain: &[Certificate], root: Option<&Certificate>, key: Option<&str>) -> String {
    let mut out = format!("{label}\n\n");
    if let Some(leaf) = chain.first().filter(|c| root != Some(*c)) {
        out.push_str(&format!(
            "A certificate for {}, valid until {}.\n\n",
            leaf.name_words().join(", "),
            leaf.not_after.date()
        ));
        out.push_str("IN THE SERVER\n  certificate.pem   the certificate and what leads to the root, in this order\n");
        if let Some(key) = key {
            let locked = key.contains("ENCRYPTED");
            out.push_str(&format!(
                "  private-key.pem   its private key{}: readable for the server's account alone (chmod 600)\n",
                if locked { ", encrypted" } else { "" }
            ));
        }
        out.push_str(
            "  nginx     ssl_certificate certificate.pem; ssl_certificate_key private-key.pem; then: nginx -s reload\n",
        );
        out.push_str("  Apache    SSLCertificateFile certificate.pem, SSLCertificateKeyFile private-key.pem; then: apachectl graceful\n\n");
    }
    if let Some(root) = root {
        out.push_str("ON EVERY MACHINE THAT VISITS IT\n");
        out.push_str(
            "  root.pem and root.crt are the same root. Its SHA-256, to be compared with what its owner says:\n",
        );
        let sha = root.sha256();
        let pairs: Vec<&str> = (0..sha.len()).step_by(2).map(|i| &sha[i..i + 2]).collect();
        out.push_str(&format!("    {}\n", pairs.join(":").to_uppercase()));
        out.push_str(&format!(
            "  Debian, Ubuntu    cp root.pem /usr/local/share/ca-certificates/{label}.crt && update-ca-certificates\n"
        ));
        out.push_str(&format!(
            "  Fedora, RHEL      cp root.pem /etc/pki/ca-trust/source/anchors/{label}.pem && update-ca-trust\n"
        ));
        out.push_str("  Windows           open root.crt, Install Certificate, Current User, Trusted Root Certification Authorities\n");
        out.push_str("  Mac               open root.crt, then in Keychain Access: Trust, Always Trust\n");
        out.push_str(
            "  Firefox           Settings, Privacy and Security, View Certificates, Authorities, Import root.pem\n",
        );
        out.push_str("  curl, one call    curl --cacert root.pem https://...\n\n");
        out.push_str("Browsers on Linux keep their own list: Chromium too needs it in its settings (Certificates, Authorities).\n");
        out.push_str("Take the root out again where you put it in when it is not needed any more.\n");
    }
    out
}
