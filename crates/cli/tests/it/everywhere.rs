//! The whole of it on a Debian as it is: the machine's own stores, in a private view of the file system, and every real client.

use crate::firefox::{profile, with_firefox};
use serde_json::Value;
use std::collections::BTreeMap;
use std::process::Command;
use tamga_testkit::sandbox::has;
use tamga_testkit::server::is_root;
use tamga_testkit::site::Site;

/// Visits an address as a program in Java does that sets nothing.
const VISIT: &str = r#"
public class Visit {
    public static void main(String[] a) throws Exception {
        try {
            var u = (javax.net.ssl.HttpsURLConnection) new java.net.URL(a[0]).openConnection(java.net.Proxy.NO_PROXY);
            u.getResponseCode();
            System.out.println("accepts");
        } catch (javax.net.ssl.SSLException e) {
            System.out.println("refuses");
        }
    }
}
"#;

/// Asks every client, and prints a line for each; then what the text stores hold, and what an independent reader finds in the databases.
const ASK: &str = r#"
said() { if "$@" >/dev/null 2>&1; then echo accepts; else echo refuses; fi; }
ask() {
    echo "== $1"
    echo "curl $(said curl -q -sS --noproxy '*' $URL)"
    echo "wget $(said wget -q --no-config --no-proxy -O /dev/null $URL)"
    echo "python $(said python3 -c "import urllib.request as u; u.build_opener(u.ProxyHandler({})).open('$URL')")"
    echo "java $(java Visit.java $URL 2>/dev/null)"
    echo "node $( eval "$(tamga trust environment)"; said node -e "fetch('$URL').then(() => process.exit(0), () => process.exit(1))")"
    tamga check $URL --clients chromium,firefox --observe --format json > seen.json
    echo "chromium $(python3 -c "import json; print([c['verdict'] for c in json.load(open('seen.json'))['targets'][0]['clients'] if c['client'] == 'chromium' and c['basis'] == 'observed'][0])")"
    echo "firefox $(python3 -c "import json; print([c['verdict'] for c in json.load(open('seen.json'))['targets'][0]['clients'] if c['client'] == 'firefox' and c['basis'] == 'observed'][0])")"
    echo "differs $(grep -c prediction-differs seen.json)"
    echo "bundle $(sha256sum < /etc/ssl/certs/ca-certificates.crt)"
    echo "links $(ls /etc/ssl/certs | sort | sha256sum)"
    echo "cacerts $(python3 -c "
import struct, hashlib
b = open('/etc/ssl/certs/java/cacerts', 'rb').read()
n, at, rows = struct.unpack('>I', b[8:12])[0], 12, []
for _ in range(n):
    la = struct.unpack('>H', b[at + 4:at + 6])[0]; alias = b[at + 6:at + 6 + la]; at += 6 + la + 8
    lt = struct.unpack('>H', b[at:at + 2])[0]; at += 2 + lt
    lc = struct.unpack('>I', b[at:at + 4])[0]; rows.append((alias, b[at + 4:at + 4 + lc])); at += 4 + lc
print(len(rows), hashlib.sha256(repr(sorted(rows)).encode()).hexdigest())")"
    echo "anchors $(ls /usr/local/share/ca-certificates | sort | tr '\n' ' ')"
    echo "policies $(cat /etc/chromium/policies/managed/* /etc/firefox/policies/* 2>/dev/null | sha256sum)"
    for db in $(find $HOME -name cert9.db | sort); do
        echo "database $(python3 -c "
import sqlite3, hashlib, sys
rows = sqlite3.connect('file:' + sys.argv[1] + '?immutable=1', uri=True).execute('select * from nssPublic').fetchall()
print(len(rows), hashlib.sha256(repr(sorted(map(repr, [r[1:] for r in rows]))).encode()).hexdigest())" $db)"
    done
}
"#;

fn phases(said: &str) -> Vec<BTreeMap<String, String>> {
    let mut out: Vec<BTreeMap<String, String>> = Vec::new();
    for line in said.lines() {
        if line.starts_with("== ") {
            out.push(BTreeMap::new());
        } else if let (Some(phase), Some((word, rest))) = (out.last_mut(), line.split_once(' ')) {
            let n = phase.keys().filter(|k| k.starts_with(word)).count();
            phase.insert(if n == 0 { word.to_owned() } else { format!("{word}{n}") }, rest.trim().to_owned());
        }
    }
    out
}

#[test]
fn every_client_accepts_after_add_and_refuses_after_remove_and_every_store_is_as_before() {
    let programs = ["chromium", "curl", "java", "node", "python3", "update-ca-certificates", "wget"];
    let Some(s) = with_firefox() else { return };
    if !has(&programs) || !is_root() {
        return;
    }
    profile(&s, "a.lab");
    std::fs::write(s.lab("Visit.java"), VISIT).unwrap();
    let site = Site::start(&s, &["charts"]);
    let script = format!(
        "set -e\nmount -t tmpfs t /mnt\nfor d in etc usr/local var/lib; do n=$(echo $d | tr / -); mkdir -p /mnt/$n/u /mnt/$n/w; \
         mount -t overlay o -o lowerdir=/$d,upperdir=/mnt/$n/u,workdir=/mnt/$n/w /$d; done\nset +e\n{ASK}\n\
         # Made by the browsers' own start, as on a machine that was used before.\n\
         tamga trust add --stores chromium,firefox --quiet; tamga trust remove --stores chromium,firefox --quiet\n\
         update-ca-certificates --fresh >/dev/null 2>&1\n\
         ask before\n\
         tamga trust add --scope both --format json > added.json; echo \"added $?\"\nask with\n\
         tamga trust remove --scope both --format json > removed.json; echo \"removed $?\"\nask after\n"
    );
    let own = s.command(&[]);
    let folder = std::path::Path::new(own.get_program()).parent().unwrap().display().to_string();
    let mut c = Command::new("unshare");
    c.args(["-m", "sh", "-c", &script]).current_dir(s.lab("")).env_clear();
    c.env("HOME", s.path("home")).env("TAMGA_DATA_DIR", s.path("data")).env("LC_ALL", "C.UTF-8");
    c.env("PATH", format!("{folder}:/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"));
    c.env("URL", format!("https://localhost:{}/", site.port));
    let out = c.output().unwrap();
    let said = String::from_utf8_lossy(&out.stdout).into_owned();
    if said.is_empty() {
        eprintln!(
            "SKIPPED: no private view of the file system can be made here: {}",
            String::from_utf8_lossy(&out.stderr)
        );
        assert!(
            std::env::var_os(tamga_testkit::sandbox::COMPLETE).is_none(),
            "{}",
            String::from_utf8_lossy(&out.stderr)
        );
        return;
    }
    let reply = format!("{said}\n{}", String::from_utf8_lossy(&out.stderr));
    let all = phases(&said);
    assert_eq!(all.len(), 3, "{reply}");
    let clients = ["curl", "wget", "python", "java", "node", "chromium", "firefox"];
    for (phase, wanted) in all.iter().zip([&["refuses", "warns"][..], &["accepts"], &["refuses", "warns"]]) {
        for client in clients {
            // Node's variable names the root itself, whatever the stores hold.
            let by_variable = client == "node";
            let got = phase.get(client).map(String::as_str).unwrap_or("nothing");
            assert!(
                by_variable && got == "accepts" || !by_variable && wanted.contains(&got),
                "{client}: {got}\n{reply}"
            );
        }
        assert_eq!(phase["differs"], "0", "{reply}");
    }
    let changed: Value = serde_json::from_slice(&std::fs::read(s.lab("added.json")).unwrap()).unwrap();
    let stores: Vec<&str> = changed["stores"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|r| r["change"] == "added")
        .map(|r| r["store"].as_str().unwrap())
        .collect();
    for store in ["system", "chromium", "chromium-policy", "firefox", "firefox-policy"] {
        assert!(stores.contains(&store), "{store}: {changed}");
    }
    // Text stores byte for byte; databases, and Java's, which the system's hook writes again in another order, object for object.
    for word in ["bundle", "links", "cacerts", "anchors", "policies", "database", "database1"] {
        assert_eq!(all[0].get(word), all[2].get(word), "{word}\n{reply}");
        assert!(all[0].contains_key(word), "{word}\n{reply}");
    }
    assert_ne!(all[0]["bundle"], all[1]["bundle"], "{reply}");
}
