//! What the clients of another machine would do is foreseen from here, and is what they do there.

use super::Farm;
use std::process::Stdio;
use tamga_core::check::client::Client;
use tamga_testkit::sandbox::has;
use tamga_testkit::server::{ClosedPort, free_port};

/// How each client is asked on the machine itself: it ends with 0 where it accepts.
const ASKED: [(&str, &str); 4] = [
    ("curl", "env -i PATH=\"$PATH\" curl -q -s -o /dev/null --noproxy '*' https://localhost:PORT/"),
    (
        "python",
        "env -i PATH=\"$PATH\" python3 -c 'import http.client as h; h.HTTPSConnection(\"localhost\", PORT, timeout=20).request(\"GET\", \"/\")'",
    ),
    ("gnutls", "env -i PATH=\"$PATH\" wget --no-config --no-proxy -q -O /dev/null https://localhost:PORT/"),
    ("ruby", "env -i PATH=\"$PATH\" ruby -rnet/http -e 'Net::HTTP.get(URI(\"https://localhost:PORT/\"))'"),
];

#[test]
fn the_clients_of_a_machine_do_what_is_foreseen_from_here() {
    let Some(farm) = Farm::start(&["plain", "plain"]) else { return };
    let closed = ClosedPort::new();
    farm.adds(&format!("[[host]]\nname = \"down\"\nssh = \"root@127.0.0.1:{}\"\n", closed.number()));
    farm.s.run(&["issue", "charts.saltmarsh.test", "localhost"]).expect(0);
    farm.json(&["trust", "add", "--on", "host1", "--stores", "system"], 0);
    let port = free_port();
    let mut serve = farm.s.command(&["serve", "charts.saltmarsh.test", "--port", &port.to_string()]);
    let mut serve = serve.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    super::until(|| std::net::TcpStream::connect(("127.0.0.1", port)).is_ok());
    let target = format!("https://localhost:{port}");
    let words = ["check", &target, "charts.saltmarsh.test", "--on", "all"];
    let report = farm.s.json(&words).expect(1).json();
    let mut compared = Vec::new();
    for host in ["host1", "host2"] {
        let of = |t: &&serde_json::Value| t["host"] == host && t["target"] == *target;
        let judged = report["targets"].as_array().unwrap().iter().find(of).expect(host);
        for (client, script) in ASKED {
            let row = judged["clients"].as_array().unwrap().iter().find(|c| c["client"] == client);
            // The machines have the programs of this one: one that it does not have is not judged.
            let program = client.parse::<Client>().unwrap().programs()[0];
            // wget may be made with another library elsewhere than on Debian.
            assert!(row.is_some() == has(&[program]) || client == "gnutls", "{client}");
            let Some(row) = row else { continue };
            let script = script.replace("PORT", &port.to_string());
            let accepts = farm.asked(host, &format!("{script} >/dev/null 2>&1; echo $?")).trim() == "0";
            assert_eq!(row["verdict"] == "accepts", accepts, "{client} on {host}: {row}");
            compared.push((host, client, accepts));
        }
    }
    let text = farm.s.run(&words).expect(1).out;
    serve.kill().unwrap();
    serve.wait().unwrap();
    for expected in
        [("host1", "curl", true), ("host2", "curl", false), ("host1", "python", true), ("host2", "python", false)]
    {
        assert!(compared.contains(&expected), "{compared:?}");
    }
    // The remedy is for that machine, and the certificate of a label is judged there too.
    let of = |t: &&serde_json::Value| t["host"] == "host2" && t["target"] == "charts.saltmarsh.test";
    let judged = report["targets"].as_array().unwrap().iter().find(of).unwrap();
    assert_eq!(judged["findings"][0]["remedy"], "tamga trust add saltmarsh --on host2", "{judged}");
    assert_eq!(report["unreached"][0]["host"], "down", "{report}");
    let line = text.lines().find(|l| l.contains("host2") && l.contains("charts.saltmarsh.test")).unwrap();
    assert!(line.contains("issuer-unknown") && line.contains("every client"), "{text}");
    // One line says what to do on all of them; on host1 only a JVM lacks it, where there is one.
    assert!(text.contains("checked 2 targets on 2 hosts: "), "{text}");
    assert!(text.lines().any(|l| l.contains("do: tamga trust add saltmarsh --on ") && l.ends_with("host2")), "{text}");
    assert!(text.contains("not reached down"), "{text}");
    // A client whose store is a person's is not judged from here, and nothing is called good of a machine that is not reached.
    let ran = farm.s.run(&["check", "charts.saltmarsh.test", "--on", "host1", "--clients", "chromium"]).expect(2);
    assert!(ran.err.contains("chromium is not judged on another machine"), "{}", ran.err);
    let words = ["check", "charts.saltmarsh.test", "--on", "down", "--report", "page.html"];
    let ran = farm.s.run(&words).expect(4);
    let page = std::fs::read_to_string(farm.s.lab("page.html")).unwrap();
    for shown in [&ran.out, &page] {
        assert!(!shown.contains("no client would warn") && shown.contains("not reached"), "{shown}");
    }
}
