//! A recipe filled in for one certificate.

use super::act::{Act, Work};
use super::bring::{Brought, CLIENTS_FILE, bring, bring_clients, place};
use super::setting::Setting;
use super::tasks::{Tasks, appended};
use super::template::{Quote, Values};
use super::{FileLocation, Recipe, System, windows};
use crate::ca::authority::{CERTIFICATE_FILE, KEY_FILE, ROOT_FILE};
use crate::deploy::export::Form;
use crate::error::{Error, Result};
use crate::finding::Code;
use crate::pki::key::{KeyAlgorithm, PublicKey};
use crate::vocabulary::name::Name;
use crate::vocabulary::text::Shown;
use std::net::{IpAddr, Ipv6Addr};
use std::path::Path;

/// A recipe filled in.
#[derive(Clone, Debug)]
pub struct Written {
    /// The recipe.
    pub recipe: &'static Recipe,
    /// Where its configuration goes.
    pub path: String,
    /// The configuration.
    pub config: String,
    /// What comes before the configuration: the files, where the server finds them.
    pub files: Vec<Work>,
    /// What comes after it.
    pub steps: Vec<Work>,
    /// What is to be done again after each renewal.
    pub renewal: Vec<String>,
    /// What may surprise.
    pub remarks: Vec<String>,
    /// The same for a machine that carries it out.
    pub tasks: Tasks,
}

/// Fills a recipe in.
///
/// Errors: the server cannot do with the certificate's key, or with how long it is valid.
pub fn write(recipe: &'static Recipe, s: &Setting) -> Result<Written> {
    if !recipe.facts.keys.iter().any(|k| is_kind(*k, &s.key)) {
        return Err(Error::Objection {
            code: Code::KeyKindUnsupported.word(),
            what: format!("{} cannot use the key of {}", recipe.id, s.label),
            why: format!("it takes {}", kinds(recipe)),
            instead: format!("make one that it takes: tamga issue NAME… --for {}", recipe.id),
        });
    }
    recipe.takes_life(s.life)?;
    has_effect(recipe, s)?;
    let both = listens_on_both(s);
    let s = &Setting { address: listens_on(s), ..s.clone() };
    let place = place(recipe, s);
    let values = values(recipe, s, &place, both);
    let lines = |text: &str| typed(text, &values, s);
    let Brought { work, again, mut placed } = bring(recipe, s, &place, &values);
    let mut files = vec![work];
    if let Some((work, root)) = bring_clients(recipe, s, &place, &values) {
        files.push(work);
        placed.extend(root);
    }
    let mut steps: Vec<Work> = recipe
        .steps
        .iter()
        .map(|s| Work {
            what: values.fill(s.what, Quote::Bare).trim_end().to_owned(),
            act: s.act,
            lines: lines(s.text),
        })
        .filter(|w| !w.lines.is_empty())
        .collect();
    let mut programs: Vec<String> = steps.iter().filter(|w| w.act == Act::Run).flat_map(|w| w.lines.clone()).collect();
    if s.system == System::Windows {
        // Access lists have no mode and no owner: the commands set them.
        let brought = files.iter().flat_map(|w| w.lines.clone()).filter(|l| !l.starts_with('#'));
        programs.splice(0..0, brought);
    }
    if !recipe.check.is_empty() {
        steps.push(Work {
            what: "validate the configuration before you go on".into(),
            act: Act::Run,
            lines: lines(recipe.check),
        });
    }
    let pair = (!recipe.notices && recipe.facts.form == Form::Pem).then(|| lines("tamga match {folder}"));
    let proof = |text: &str| values.fill(text, Quote::Bare).trim_end().to_owned();
    let target = if recipe.facts.scheme.is_empty() { "{host}:{port}" } else { "{scheme}://{host}:{port}" };
    let tasks = Tasks {
        placed,
        appended: appended(&steps),
        programs,
        check: lines(recipe.check),
        pair: pair.clone().unwrap_or_default(),
        expect: (proof(recipe.proof.0), proof(recipe.proof.1)),
        by_hand: steps.iter().filter(|w| w.act == Act::ByHand).cloned().collect(),
        start: lines(recipe.start),
        reload: lines(recipe.reload),
        unit: values.fill(recipe.unit, Quote::Bare).trim_end().to_owned(),
        target: values.fill(target, Quote::Bare).trim_end().to_owned(),
        host: values.fill("{host}", Quote::Bare).trim_end().to_owned(),
        address: s.address,
    };
    if let Some(lines) = &pair {
        let what = "make sure that the key belongs to the certificate: this server does not notice in time";
        steps.push(Work { what: what.into(), act: Act::Run, lines: lines.clone() });
    }
    let (what, line) = match recipe.start {
        "" => ("start it, or let it reload", recipe.reload),
        start => ("start it with this", start),
    };
    steps.push(Work { what: what.into(), act: Act::Run, lines: lines(line) });
    steps.push(Work {
        what: format!("success looks like this in {}", tasks.expect.0.trim()),
        act: Act::Look,
        lines: tasks.expect.1.lines().map(str::to_owned).collect(),
    });
    let (what, probe) = match recipe.facts.probe {
        "" => ("check that no client warns", format!("tamga check {target}")),
        probe => ("check that a client gets in", probe.to_owned()),
    };
    steps.push(Work { what: what.into(), act: Act::Look, lines: lines(&probe) });
    let reload = lines(recipe.reload);
    let pair = pair.filter(|_| !(reload.is_empty() && again.is_empty())).unwrap_or_default();
    let renewal = pair.into_iter().chain(again).chain(reload.into_iter().filter(|l| !l.starts_with('#'))).collect();
    Ok(Written {
        recipe,
        path: values.fill(recipe.config.path, Quote::Bare).trim_end().to_owned(),
        config: values.fill(recipe.config.text, recipe.config.quote),
        files,
        steps,
        renewal,
        remarks: remarks(recipe, s, place != s.folder),
        tasks,
    })
}

/// A template's lines, as they are typed: some here, where the certificate is, others where the server is.
fn typed(text: &str, values: &Values, s: &Setting) -> Vec<String> {
    let is_there = s.system == System::Windows;
    let is_here = is_there && windows::is_drive_path(&s.folder);
    let filled = |line: &str| {
        let first = line.split(' ').find(|w| !w.starts_with(['?', '!'])).unwrap_or_default();
        let by_us = ["tamga", "{made}", "{made_secret}", "{root_made}"].contains(&first);
        values.fill(line, if is_here || (is_there && !by_us) { Quote::PowerShell } else { Quote::Shell })
    };
    text.lines().flat_map(|l| filled(l).lines().map(str::to_owned).collect::<Vec<_>>()).collect()
}

/// Errors: an option of which nothing would be seen in what is written.
fn has_effect(recipe: &Recipe, s: &Setting) -> Result<()> {
    let texts = || recipe.steps.iter().map(|s| s.text).chain([recipe.config.text]);
    let says = |words: &[&str]| texts().any(|t| words.iter().any(|w| t.contains(w)));
    let nothing = |option: &str, why: &str, instead: &str| {
        Err(Error::Contradiction {
            what: format!("{option} was given, and {} would not notice", recipe.id),
            why: why.to_owned(),
            instead: instead.to_owned(),
        })
    };
    let elsewhere = "its ports and addresses are set elsewhere, for all its services";
    if s.port.is_some_and(|p| p != recipe.facts.port) && !says(&["{port}"]) {
        return nothing("--port", elsewhere, "leave --port away, and change it where they are set");
    }
    if s.address.is_some()
        && !says(&["{address}", "{addresses", "{listen", "{goaddress}", "{rabbit}", "{anywhere}", "{all}"])
    {
        return nothing("--address", elsewhere, "leave --address away, and change it where they are set");
    }
    // Nobody may believe that others are kept out who are not.
    if s.clients.is_some() && !says(&["?clients", "{clients}"]) {
        let why = "this recipe has no check of clients' certificates";
        return nothing(
            "--client-authority",
            why,
            "leave it away, or put a web server that checks them in front of it",
        );
    }
    let stays = s.into.is_none() && recipe.facts.place == FileLocation::Issued && recipe.facts.form == Form::Pem;
    if let Some(owner) = s.owner.as_deref().filter(|o| *o != recipe.facts.owner)
        && stays
    {
        let why = format!("the files stay where they are, and the account {owner} may not read the key there");
        return nothing("--owner", &why, &format!("--owner {owner} --into DIRECTORY, which the account may read"));
    }
    Ok(())
}

/// The kinds of key that a server takes, in words.
pub(super) fn kinds(recipe: &Recipe) -> String {
    recipe.facts.keys.iter().map(|k| k.word()).collect::<Vec<_>>().join(", ")
}

fn is_kind(kind: KeyAlgorithm, key: &PublicKey) -> bool {
    use crate::pki::key::Strength;
    match key.strength() {
        // A key of another length than Tamga makes is taken where RSA is.
        Strength::Rsa(_) => kind.rsa_bits().is_some(),
        Strength::P256 => kind == KeyAlgorithm::P256,
        Strength::P384 => kind == KeyAlgorithm::P384,
        Strength::P521 => kind == KeyAlgorithm::P521,
        Strength::Ed25519 => kind == KeyAlgorithm::Ed25519,
        Strength::Other => false,
    }
}

/// `both`: it listens on both loopback addresses.
fn values(recipe: &Recipe, s: &Setting, place: &Path, both: bool) -> Values {
    let path = |folder: &Path, name: &str| match s.system {
        System::Windows => windows::slashed(&folder.join(name)),
        System::Linux => folder.join(name).shown(),
    };
    let store = format!("{}.{}", s.label, recipe.facts.form.ending());
    let clients = format!("{CLIENTS_FILE}.{}", recipe.facts.clients.ending());
    let quoted = [
        ("folder", s.folder.shown()),
        ("place", path(place, "").trim_end_matches('/').to_owned()),
        ("certificate", path(place, CERTIFICATE_FILE)),
        ("key", path(place, KEY_FILE)),
        ("root", path(place, ROOT_FILE)),
        ("clients", path(place, &clients)),
        ("clients_made", path(&s.folder, &clients)),
        ("clients_source", s.clients.as_ref().map(|c| c.1.shown()).unwrap_or_default()),
        ("clients_label", s.clients.as_ref().map(|c| c.0.to_string()).unwrap_or_default()),
        ("made", path(&s.folder, &store)),
        ("made_secret", path(&s.folder, &format!("{store}.passphrase"))),
        ("root_made", path(&s.folder, ROOT_FILE)),
        ("store", path(place, &store)),
        ("secret", path(place, &format!("{store}.passphrase"))),
        ("label", s.label.to_string()),
        ("root_own", path(place, ROOT_FILE)),
    ];
    let hosts: Vec<String> = s.names.iter().filter(|n| n.is_host()).map(ToString::to_string).collect();
    let domains: Vec<String> = s.names.iter().filter(|n| matches!(n, Name::Dns(_))).map(ToString::to_string).collect();
    let first = s.names.iter().find(|n| n.is_host());
    // As a browser asks for them: an address too, IPv6 in brackets.
    let asked: Vec<String> = s.names.iter().filter(|n| n.is_host()).map(in_a_url).collect();
    let primary = domains.first().or(asked.first());
    let aliases: Vec<&str> = asked.iter().filter(|a| Some(*a) != primary).map(String::as_str).collect();
    let host = match first {
        Some(Name::Ip(IpAddr::V6(a))) => format!("[{a}]"),
        Some(Name::Dns(d)) => d.strip_prefix("*.").map_or_else(|| d.clone(), |rest| format!("www.{rest}")),
        Some(other) => other.to_string(),
        None => "localhost".into(),
    };
    let port = s.port.unwrap_or(recipe.facts.port);
    let owner = s.owner.clone().unwrap_or_else(|| recipe.facts.owner.to_owned());
    let mut addresses: Vec<String> = s.address.iter().map(ToString::to_string).collect();
    addresses.extend(both.then(|| Ipv6Addr::LOCALHOST.to_string()));
    let also = |before: &str, port: u16| if both { format!("{before}[::1]:{port}") } else { String::new() };
    let site = match (s.system, recipe.id) {
        (System::Linux, _) => "/var/www/html",
        (System::Windows, "apache") => "C:/Apache24/htdocs",
        (System::Windows, _) => "html",
    };
    let bare = [
        ("port", port.to_string()),
        ("at", if port == 443 { String::new() } else { format!(":{port}") }),
        ("plain", s.redirect.unwrap_or(80).to_string()),
        ("host", host.clone()),
        ("first", domains.first().cloned().unwrap_or(host)),
        ("hosts", hosts.join(" ")),
        ("names", if asked.is_empty() { "_".into() } else { asked.join(" ") }),
        ("aliases", aliases.join(" ")),
        ("address", s.address.map_or_else(|| "0.0.0.0".into(), |a| a.to_string())),
        ("addresses", addresses.join(" ")),
        ("addresses_comma", addresses.join(",")),
        ("also", also(" ", port)),
        ("also_plain", also(" ", s.redirect.unwrap_or(80))),
        ("comma", also(",", port)),
        ("comma_plain", also(",", s.redirect.unwrap_or(80))),
        // Both families where it listens everywhere: on Linux a socket of IPv6 takes IPv4 too.
        ("anywhere", s.address.map_or_else(|| "::".into(), |a| a.to_string())),
        ("all", if addresses.is_empty() { "::".into() } else { addresses.join(" ") }),
        ("six", if s.address.is_none() { format!(",:::{port} v6only") } else { String::new() }),
        (
            "six_plain",
            if s.address.is_none() { format!(",:::{} v6only", s.redirect.unwrap_or(80)) } else { String::new() },
        ),
        (
            "family",
            if s.address.is_none_or(|a| a.is_ipv6()) { "SWOOLE_SOCK_TCP6" } else { "SWOOLE_SOCK_TCP" }.to_owned(),
        ),
        ("listen6", s.address.map_or_else(|| "[::]:".into(), before_port)),
        ("listen", s.address.map_or_else(|| "*:".into(), before_port)),
        ("owner", owner),
        ("mode", format!("{:04o}", recipe.facts.mode)),
        ("scheme", recipe.facts.scheme.to_owned()),
        ("site", site.to_owned()),
        ("sha256", s.sha256.to_string()),
        ("minimum", if s.only_13 { "1.3" } else { "1.2" }.to_owned()),
        ("minor", if s.only_13 { "3" } else { "2" }.to_owned()),
        ("goaddress", s.address.map_or_else(String::new, |a| before_port(a).trim_end_matches(':').to_owned())),
        ("rabbit", s.address.map_or_else(String::new, |a| format!("{a}:"))),
        ("as_tomcat", if s.raise { "sudo -u tomcat " } else { "runuser -u tomcat -- " }.to_owned()),
        ("as_postgres", if s.raise { "sudo -u postgres " } else { "runuser -u postgres -- " }.to_owned()),
        ("sudo", if s.raise { "sudo " } else { "" }.to_owned()),
    ];
    let flags = flags(s, (port, recipe.facts.port), !aliases.is_empty(), both);
    Values { quoted: quoted.into(), bare: bare.into(), flags }
}

/// The conditions that hold. `ports`: the one that is asked for, and the usual one.
fn flags(s: &Setting, (port, usual): (u16, u16), has_aliases: bool, both: bool) -> Vec<&'static str> {
    let mut flags = Vec::new();
    let mut flag = |name, set| {
        if set {
            flags.push(name);
        }
    };
    flag("redirect", s.redirect.is_some());
    flag("clients", s.clients.is_some());
    flag("only13", s.only_13);
    flag("locked", s.locked);
    flag("bound", s.address.is_some());
    flag("aliases", has_aliases);
    flag("both", both);
    flag("v6", both || s.address.is_none_or(|a| a.is_ipv6()));
    // There Apache listens on port 80 alone as it comes.
    let is_windows = s.system == System::Windows;
    flag("windows", is_windows);
    flag("posix", !is_windows);
    flag("newport", port != usual || is_windows);
    flag("newplain", s.redirect.is_some_and(|p| p != 80));
    flag("otherport", port != usual || s.address.is_some());
    flag("otherplain", s.redirect.is_some_and(|p| p != 80) || (s.redirect.is_some() && s.address.is_some()));
    flags
}

/// A certificate that has only loopback names is for this machine: by default its server listens on nothing else.
fn listens_on(s: &Setting) -> Option<IpAddr> {
    let hosts = || s.names.iter().filter(|n| n.is_host());
    let is_local = hosts().next().is_some() && hosts().all(Name::is_loopback);
    s.address.or_else(|| is_local.then_some(IpAddr::V4(std::net::Ipv4Addr::LOCALHOST)))
}

/// True if it does so for both loopback addresses.
fn listens_on_both(s: &Setting) -> bool {
    let v6 = Name::Ip(Ipv6Addr::LOCALHOST.into());
    s.address.is_none() && listens_on(s).is_some() && s.names.contains(&v6)
}

fn in_a_url(name: &Name) -> String {
    match name {
        Name::Ip(IpAddr::V6(a)) => format!("[{a}]"),
        other => other.to_string(),
    }
}

/// An address as it stands before a port.
fn before_port(address: IpAddr) -> String {
    match address {
        IpAddr::V6(a) => format!("[{a}]:"),
        IpAddr::V4(a) => format!("{a}:"),
    }
}

/// `is_own`: the files are brought to a directory of the server's.
fn remarks(recipe: &Recipe, s: &Setting, is_own: bool) -> Vec<String> {
    let mut out = Vec::new();
    if s.system != System::HERE {
        out.push(format!("these steps are for {}", s.system.name()));
    }
    if s.redirect.is_some() {
        out.push(
            "307 and no Strict-Transport-Security: a browser remembers a 301 and that header for a test name, and then \
             refuses it over HTTP, and with any other certificate, long after this server is gone"
                .to_owned(),
        );
        if !recipe.config.text.contains("?redirect") && !recipe.steps.iter().any(|s| s.what.starts_with("?redirect")) {
            out.push(format!("{} has no redirect of its own: put a web server in front of it", recipe.id));
        }
    }
    let versions = ["{minimum}", "{minor}", "?only13", "!only13"];
    if s.only_13 && !versions.iter().any(|v| recipe.config.text.contains(v)) {
        out.push(format!("{} takes its minimum protocol version from the system, not from this file", recipe.id));
    }
    if s.locked {
        out.push(format!("the key needs a passphrase: {}", recipe.facts.passphrase));
    }
    if recipe.reload.is_empty() {
        let to_do = if is_own { "nothing more" } else { "nothing" };
        out.push(format!("after a renewal {to_do} is to be done: {} reads the files for each connection", recipe.id));
    }
    if !s.names.iter().any(Name::is_host) {
        out.push(format!("{} has no host name or address: no client accepts it for a server", s.label));
    }
    out
}
