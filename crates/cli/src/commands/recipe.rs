//! `tamga recipe [SERVER] [LABEL]`: what to put where for a server, and every step to the padlock.

use super::export::may_replace;
use super::issue::current;
use crate::args::{NewSecretArgs, SecretArgs};
use crate::exit::{Done, Result};
use crate::session::{Session, stored_key};
use crate::words::{human, json, wrap};
use serde_json::Value;
use std::net::IpAddr;
use std::path::{Path, PathBuf};
use tamga_core::authority::{self, CERTIFICATE_FILE, KEY_FILE};
use tamga_core::error::Error;
use tamga_core::export::Form;
use tamga_core::name::Name;
use tamga_core::recipe::{self, Fault, Recipe, Setting, Tried, Work, Written};
use tamga_core::report::Issued;
use tamga_core::text::Shown;
use tamga_host::fs;

#[derive(clap::Args)]
#[command(
    after_help = "Examples: tamga recipe nginx charts.saltmarsh.test --redirect\n          tamga recipe postgresql archive.saltmarsh.test --output archive.conf"
)]
pub(crate) struct RecipeArgs {
    /// The server; without it, all that there are
    server: Option<String>,
    /// The certificate [default: the only one]
    label: Option<String>,
    /// Write the configuration into this file; - is standard output
    #[arg(long, value_name = "FILE", requires = "server")]
    output: Option<PathBuf>,
    /// The port for TLS [default: the server's usual one]
    #[arg(long, value_name = "PORT", value_parser = clap::value_parser!(u16).range(1..))]
    port: Option<u16>,
    /// Where it listens [default: everywhere]
    #[arg(long, value_name = "ADDRESS")]
    address: Option<IpAddr>,
    /// Send plain HTTP to HTTPS, from port 80 or from --redirect=PORT
    #[arg(long, value_name = "PORT", num_args = 0..=1, require_equals = true, default_missing_value = "80",
          value_parser = clap::value_parser!(u16).range(1..))]
    redirect: Option<u16>,
    /// The oldest protocol
    #[arg(long, value_name = "VERSION", default_value = "1.2", value_parser = ["1.2", "1.3"])]
    tls_minimum: String,
    /// Let in only clients that show a certificate of this authority
    #[arg(long, value_name = "LABEL")]
    client_authority: Option<String>,
    /// The account that reads the key [default: the server's usual one]
    #[arg(long, value_name = "ACCOUNT")]
    owner: Option<String>,
    /// The folder from which the server reads
    #[arg(long, value_name = "DIR")]
    into: Option<PathBuf>,
}

pub(crate) fn run(session: &Session, args: &RecipeArgs) -> Result<Done> {
    let Some(server) = &args.server else { return Ok(all()) };
    let found = recipe::find(server)?;
    let Some(issued) = certificate(session, args)? else { return Ok(facts(found)) };
    let setting = setting(session, args, &issued)?;
    let written = recipe::write(found, &setting)?;
    if let Some(output) = &args.output {
        return output_to(session, output, &written, &setting);
    }
    Ok(Done::good(words(&written, &setting, None), as_json(&written, &setting, None)))
}

/// The certificate that is meant: the one that is named, else the only one there is.
fn certificate(session: &Session, args: &RecipeArgs) -> Result<Option<Issued>> {
    if let Some(label) = &args.label {
        return Ok(Some(current(session, label)?));
    }
    let labels = match session.open_to_look()? {
        Some(l) => l.labels(3)?,
        None => Vec::new(),
    };
    match &labels[..] {
        [one] => Ok(Some(current(session, one)?)),
        _ if args.output.is_some() => Err(Error::Contradiction {
            what: "a configuration is for one certificate, and none was named".into(),
            why: if labels.is_empty() { "there is none yet" } else { "there are several" }.into(),
            instead: format!("tamga recipe {} LABEL --output FILE", args.server.as_deref().unwrap_or_default()),
        }
        .into()),
        _ => Ok(None),
    }
}

fn setting(session: &Session, args: &RecipeArgs, issued: &Issued) -> Result<Setting> {
    let clients = match &args.client_authority {
        Some(label) => {
            let all = session.authorities()?;
            let a = authority::choose(Some(label), &all, false)?;
            Some(session.authority_folder(&a.root_label).join(CERTIFICATE_FILE))
        }
        None => None,
    };
    let absolute = |p: &PathBuf| std::path::absolute(p).map_err(tamga_host::error::Error::file("finding", p));
    Ok(Setting {
        label: issued.label.clone(),
        names: issued.certificate.name_words().iter().filter_map(|n| Name::parse(n).ok()).collect(),
        key: issued.certificate.key.clone(),
        locked: stored_key(&issued.label, &issued.folder.join(KEY_FILE)).is_ok_and(|k| k.is_locked()),
        folder: issued.folder.clone(),
        into: args.into.as_ref().map(absolute).transpose()?,
        address: args.address,
        port: args.port,
        redirect: args.redirect,
        only_13: args.tls_minimum == "1.3",
        clients,
        owner: args.owner.clone(),
        raise: !session.raise().is_empty(),
    })
}

fn output_to(session: &Session, output: &Path, written: &Written, setting: &Setting) -> Result<Done> {
    if output == Path::new("-") {
        human::as_it_is(&written.config);
        return Ok(Done::good(String::new(), json!({})));
    }
    if session.common.dry_run {
        let text = format!("would write the configuration for {} into {}\n", written.recipe.id, output.shown());
        return Ok(Done::good(text, json!({"recipe": null, "dry_run": true})));
    }
    may_replace(session, output, written.config.as_bytes())?;
    fs::write_whole(output, written.config.as_bytes(), 0o644)?;
    Ok(Done::good(words(written, setting, Some(output)), as_json(written, setting, Some(output))))
}

/// What a server that is named with `--for` wants.
pub(crate) fn wanted(server: Option<&str>) -> Result<Option<&'static Recipe>> {
    Ok(server.map(recipe::find).transpose()?)
}

/// Writes a new certificate in the form that its server wants besides PEM, with a passphrase of its own in a file beside
/// it where none was given. Gives what there is to say of it.
pub(crate) fn in_its_form(
    session: &Session,
    server: Option<&'static Recipe>,
    issued: &Issued,
    secrets: &SecretArgs,
    new_secrets: &NewSecretArgs,
) -> Result<String> {
    let Some(r) = server else { return Ok(String::new()) };
    let next = format!("{}   tamga recipe {} {}\n", human::dim("next"), r.id, issued.label);
    let form = r.facts.form;
    if form == Form::Pem {
        return Ok(next);
    }
    let output = issued.folder.join(format!("{}.{}", issued.label, form.ending()));
    let given = new_secrets.encrypt_key
        || new_secrets.new_passphrase_file.is_some()
        || new_secrets.new_passphrase_env.is_some();
    let mut new_secrets = new_secrets.clone();
    let mut opened = secrets.clone();
    if given {
        // The key was just encrypted with the new passphrase: it opens with the same.
        opened.passphrase_file.clone_from(&new_secrets.new_passphrase_file);
        opened.passphrase_env.clone_from(&new_secrets.new_passphrase_env);
        if form == Form::CombinedPem {
            new_secrets = NewSecretArgs::default();
        }
    } else if form != Form::CombinedPem {
        let file = PathBuf::from(format!("{}.passphrase", output.shown()));
        if !file.exists() {
            let mut random = zeroize::Zeroizing::new([0; 16]);
            tamga_core::ports::Entropy::fill(&tamga_host::entropy::System, &mut *random);
            let text = zeroize::Zeroizing::new(tamga_core::text::hex(&*random));
            super::export::write_journaled(session, &file, text.as_bytes(), 0o600)?;
        }
        new_secrets.new_passphrase_file = Some(file);
    }
    // An older one of the same certificate is replaced: that is what was asked for.
    let common = crate::args::Common { yes: true, ..session.common.clone() };
    let session = Session { common, ..session.clone() };
    let made =
        super::export::run(&session, &super::export::ExportArgs::of(&issued.label, form, output, opened, new_secrets))?;
    Ok(format!("{}{next}", made.text))
}

/// All recipes in one table.
fn all() -> Done {
    let mut rows = vec![["server", "port", "form", "run here", "what"].map(human::dim).to_vec()];
    for r in recipe::ALL {
        rows.push(vec![
            human::strong(r.id),
            r.facts.port.to_string(),
            r.facts.form.word().to_owned(),
            match r.tried {
                Tried::Run(_) => human::good("yes"),
                Tried::Form(_) => human::dim("no"),
            },
            r.title.to_owned(),
        ]);
    }
    let next = "next   tamga recipe SERVER LABEL; a certificate that suits: tamga issue NAME… --for SERVER\n";
    let json: Vec<Value> = recipe::ALL.iter().map(|r| facts_json(r)).collect();
    Done::good(format!("{}{next}", human::table(&rows)), json!({"recipes": json}))
}

/// One recipe without a certificate.
fn facts(r: &'static Recipe) -> Done {
    let mut text = head(r);
    text.push_str(&format!("\n{}\n", human::strong("what it says when it fails")));
    for f in r.faults {
        text.push_str(&format!("  {}\n      {}\n  {}  {}\n", human::care(f.text), f.why, human::dim("do:"), f.remedy));
    }
    text.push_str(&format!("next   tamga recipe {} LABEL, with one of the labels that tamga list shows\n", r.id));
    Done::good(text, json!({"recipe": facts_json(r)}))
}

fn head(r: &Recipe) -> String {
    let f = &r.facts;
    let keys: Vec<&str> = f.keys.iter().map(|k| k.word()).collect();
    let reader = if f.owner.is_empty() { "the person who starts it" } else { f.owner };
    let purposes: Vec<&str> = f.purposes.iter().map(|p| p.word()).collect();
    let mut text = format!("{} {}: {}\n", human::dim("recipe    "), human::strong(r.id), r.title);
    for (what, words) in [
        ("tried     ", r.tried.words()),
        ("key       ", format!("{}; read by {reader}, mode {:04o}", keys.join(" "), f.mode)),
        ("files     ", format!("{}: {}", f.form.word(), f.chain)),
        ("purpose   ", purposes.join(", ")),
        ("passphrase", f.passphrase.to_owned()),
    ] {
        text.push_str(&format!("{} {words}\n", human::dim(what)));
    }
    text
}

fn words(w: &Written, s: &Setting, output: Option<&Path>) -> String {
    let mut text = head(w.recipe);
    let names: Vec<String> = s.names.iter().map(ToString::to_string).collect();
    text.push_str(&format!("{} {} ({})\n", human::dim("for       "), human::strong(&s.label), names.join(", ")));
    let mut number = 0;
    let mut step = |text: &mut String, what: &str, lines: &[String]| {
        number += 1;
        text.push_str(&format!("\n{} {what}\n", human::strong(&format!("{number:>2}"))));
        for line in lines {
            text.push_str(format!("     {line}").trim_end());
            text.push('\n');
        }
    };
    for work in &w.files {
        step(&mut text, &work.what, &work.lines);
    }
    match output {
        Some(file) => step(&mut text, &format!("{} {}, for: {}", human::good("written"), file.shown(), w.path), &[]),
        None => {
            let lines: Vec<String> = w.config.trim_end().lines().map(str::to_owned).collect();
            step(&mut text, &format!("write {}", human::strong(&w.path)), &lines);
        }
    }
    for work in &w.steps {
        step(&mut text, &work.what, &work.lines);
    }
    if !w.renewal.is_empty() {
        step(&mut text, "again after each renewal (tamga renew)", &w.renewal);
    }
    for remark in &w.remarks {
        // The rest is to be copied as it stands; this is to be read.
        text.push_str(&wrap::for_terminal(&format!("\n{}  {remark}\n", human::care("note")), &std::io::stdout()));
    }
    let n = w.recipe.faults.len();
    text.push_str(&format!(
        "\n{} tamga explain \"line of the log\" knows {n} texts of {}\n",
        human::dim("if it fails"),
        w.recipe.id
    ));
    text
}

fn facts_json(r: &Recipe) -> Value {
    let f = &r.facts;
    let (by, with) = match r.tried {
        Tried::Run(with) => ("run", with),
        Tried::Form(how) => ("form", how),
    };
    json!({
        "server": r.id, "also": r.also, "title": r.title, "tried": {"by": by, "with": with}, "port": f.port,
        "key_algorithms": f.keys.iter().map(|k| k.word()).collect::<Vec<_>>(),
        "purposes": f.purposes.iter().map(|p| p.word()).collect::<Vec<_>>(), "form": f.form.word(), "chain": f.chain,
        "owner": f.owner, "mode": format!("{:04o}", f.mode), "passphrase": f.passphrase,
        "faults": r.faults.iter().map(fault_json).collect::<Vec<_>>(),
    })
}

/// An error text as JSON.
pub(super) fn fault_json(f: &Fault) -> Value {
    json!({"text": f.text, "code": f.code.map(|c| c.word()), "cause": f.why, "remedy": f.remedy})
}

fn as_json(w: &Written, s: &Setting, output: Option<&Path>) -> Value {
    let work = |all: &[Work]| all.iter().map(|w| json!({"what": w.what, "lines": w.lines})).collect::<Vec<_>>();
    let mut recipe = facts_json(w.recipe);
    let more = json!({
        "label": s.label, "path": w.path, "content": w.config, "file": output, "files": work(&w.files),
        "steps": work(&w.steps), "renewal": w.renewal, "notes": w.remarks,
    });
    if let (Some(whole), Value::Object(more)) = (recipe.as_object_mut(), more) {
        whole.extend(more);
    }
    json!({"recipe": recipe})
}
