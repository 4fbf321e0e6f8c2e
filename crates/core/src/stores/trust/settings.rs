//! Settings and variables that lead a client away from the stores, or switch its verification off.

use crate::finding::{Code, Finding};
use crate::pki::cert::Certificate;
use crate::pki::format::pem;
use crate::plan::ports::Environment;
use crate::plan::ports::Files;
use crate::plan::ports::Look;
use crate::stores::trust::system;
use crate::vocabulary::text::Shown;
use std::path::{Path, PathBuf};

/// Variables that switch verification off: name, whose, and the values that do so (none: any value).
const OFF: [(&str, &str, &[&str]); 5] = [
    ("NODE_TLS_REJECT_UNAUTHORIZED", "Node.js", &["0"]),
    ("GIT_SSL_NO_VERIFY", "git", &[]),
    ("PYTHONHTTPSVERIFY", "Python", &["0"]),
    ("npm_config_strict_ssl", "npm", &["false"]),
    ("SSL_NO_VERIFY", "Perl and others", &["1", "true"]),
];

/// Variables that lead to other roots, and whom.
const LEADS: [(&str, &str); 12] = [
    ("SSL_CERT_FILE", "OpenSSL, Python, Go, Ruby"),
    ("SSL_CERT_DIR", "OpenSSL, Python, Go, Ruby"),
    ("CURL_CA_BUNDLE", "curl"),
    ("REQUESTS_CA_BUNDLE", "Python's requests"),
    ("PIP_CERT", "pip"),
    ("NODE_EXTRA_CA_CERTS", "Node.js"),
    ("DENO_CERT", "Deno"),
    ("GIT_SSL_CAINFO", "git"),
    ("AWS_CA_BUNDLE", "botocore"),
    ("npm_config_cafile", "npm"),
    ("CARGO_HTTP_CAINFO", "cargo"),
    ("PGSSLROOTCERT", "PostgreSQL's clients"),
];

/// A settings file below the home: whose it is, and the words that switch verification off or lead elsewhere.
struct File {
    path: &'static str,
    whose: &'static str,
    /// Name and values of a line; no value: the name alone is enough.
    off: &'static [(&'static str, &'static [&'static str])],
    leads: &'static [&'static str],
}

const FILES: [File; 9] = [
    File { path: ".curlrc", whose: "curl", off: &[("insecure", &[]), ("-k", &[])], leads: &["cacert", "capath"] },
    File {
        path: ".config/curlrc",
        whose: "curl",
        off: &[("insecure", &[]), ("-k", &[])],
        leads: &["cacert", "capath"],
    },
    File {
        path: ".gitconfig",
        whose: "git",
        off: &[("sslverify", &["false", "0", "no", "off"])],
        leads: &["sslcainfo"],
    },
    File {
        path: ".config/git/config",
        whose: "git",
        off: &[("sslverify", &["false", "0", "no", "off"])],
        leads: &["sslcainfo"],
    },
    File { path: ".npmrc", whose: "npm", off: &[("strict-ssl", &["false"])], leads: &["cafile"] },
    File { path: ".config/pip/pip.conf", whose: "pip", off: &[("trusted-host", &[])], leads: &["cert"] },
    File { path: ".pip/pip.conf", whose: "pip", off: &[("trusted-host", &[])], leads: &["cert"] },
    File {
        path: ".wgetrc",
        whose: "wget",
        off: &[("check_certificate", &["off"]), ("check-certificate", &["off"])],
        leads: &["ca_certificate"],
    },
    File { path: ".yarnrc.yml", whose: "yarn", off: &[("enablestrictssl", &["false"])], leads: &["httpscafilepath"] },
];

/// Everything that is set. A variable that leads to a file with all these roots leads nobody astray and is passed over.
pub fn findings(look: &dyn Look, roots: &[Certificate]) -> Vec<Finding> {
    let mut out = Vec::new();
    for (name, whose, values) in OFF {
        if let Some(value) = look.env(name)
            && (values.is_empty() || values.contains(&value.to_lowercase().as_str()))
        {
            out.push(off(name, whose, &format!("the variable {name}={value}"), &format!("unset {name}")));
        }
    }
    for (name, whose) in LEADS {
        // The system's own bundle is where the client looks anyway, or one that the system's store will fill.
        if let Some(value) = look.env(name)
            && Path::new(&value) != system::bundle(look)
            && !holds(look, Path::new(&value), roots)
        {
            out.push(leads(
                look,
                name,
                whose,
                &format!("the variable {name}"),
                Path::new(&value),
                &format!("unset {name}"),
            ));
        }
    }
    for file in &FILES {
        let path = look.home().join(file.path);
        let text = look.read(&path).unwrap_or_default();
        for line in String::from_utf8_lossy(&text).lines() {
            let (name, value) = setting(line);
            let shown = path.shown();
            let remedy = format!("delete the line \"{}\" from {shown}", line.trim());
            let is_off = |(word, values): &(&str, &[&str])| {
                *word == name && (values.is_empty() || values.contains(&value.to_lowercase().as_str()))
            };
            if file.off.iter().any(is_off) {
                out.push(off(
                    &shown.to_string(),
                    file.whose,
                    &format!("the line \"{}\" in {shown}", line.trim()),
                    &remedy,
                ));
            }
            let at = home_path(look, &value);
            if file.leads.contains(&name.as_str()) && !value.is_empty() && !holds(look, &at, roots) {
                out.push(leads(look, &shown.to_string(), file.whose, &shown.to_string(), &at, &remedy));
            }
        }
    }
    out
}

/// Name and value of a line in any of these files: `name = value`, `name: value`, `name value`, with or without dashes.
fn setting(line: &str) -> (String, String) {
    let line = line.trim().trim_start_matches("--");
    if line.starts_with(['#', ';', '[']) {
        return (String::new(), String::new());
    }
    let (name, value) = line.split_once(['=', ':', ' ', '\t']).unwrap_or((line, ""));
    let value = value.trim().trim_start_matches(['=', ':']).trim().trim_matches(['"', '\'']);
    (name.trim().to_lowercase(), value.to_owned())
}

fn home_path(look: &dyn Environment, value: &str) -> PathBuf {
    match value.strip_prefix("~/") {
        Some(rest) => look.home().join(rest),
        None => value.into(),
    }
}

fn off(about: &str, whose: &str, what: &str, remedy: &str) -> Finding {
    Finding::new(Code::VerificationOff, about)
        .with_summary(format!("{whose} accepts anything: {what} switches verification off"))
        .with_remedy(remedy)
}

fn leads(look: &dyn Files, about: &str, whose: &str, what: &str, to: &Path, remedy: &str) -> Finding {
    let place = to.shown();
    let (state, first) = match look.exists(to) {
        true => ("which lacks the root", format!("see that {place} holds the root, or ")),
        false => ("which is not there", String::new()),
    };
    Finding::new(Code::TrustOverridden, about)
        .with_summary(format!("{what} leads {whose} to {place}, {state}"))
        .with_remedy(format!("{first}{remedy}"))
}

/// True if a file, or the files of a directory, hold all these roots.
fn holds(look: &dyn Files, place: &Path, roots: &[Certificate]) -> bool {
    let mut ders = pem::certificates(&look.read(place).unwrap_or_default());
    if ders.is_empty() {
        for name in look.list(place) {
            ders.extend(pem::certificates(&look.read(&place.join(name)).unwrap_or_default()));
        }
    }
    !ders.is_empty() && roots.iter().all(|r| ders.iter().any(|d| d == r.der()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_setting_is_read_in_every_spelling() {
        for line in ["insecure", "--insecure", "  insecure  ", "insecure = true"] {
            assert_eq!(setting(line).0, "insecure", "{line}");
        }
        assert_eq!(setting("\tsslVerify = false"), ("sslverify".into(), "false".into()));
        assert_eq!(setting("enableStrictSsl: false"), ("enablestrictssl".into(), "false".into()));
        assert_eq!(setting("cafile=\"/x y.pem\""), ("cafile".into(), "/x y.pem".into()));
        assert_eq!(setting("# insecure"), Default::default());
    }
}
