//! JSON Schemas of everything that `--format json` prints, made from the types that are serialized.
//!
//! `docs/schema/` holds them, one file a command; the test compares, and `TAMGA_TESTS_WRITE=1` writes them. That real output fits
//! them is judged by another validator, in the tests that drive the program.

use crate::commands;
use schemars::generate::SchemaSettings;
use schemars::{Schema, SchemaGenerator, json_schema};
use std::path::Path;
use tamga_app::report::Answer;
use tamga_app::{apply, authority, certificate, check, explain, hosts, identity, leave, recipe, repair};
use tamga_app::{schedule, setup, show, status, trust};

/// The schemas of what a command may answer with, and of the lines that it prints as things happen.
fn answers(command: &str, g: &mut SchemaGenerator) -> (Vec<Schema>, Vec<Schema>) {
    macro_rules! all {
        ($($answer:ty),+) => { (vec![$(g.subschema_for::<$answer>()),+], Vec::new()) };
        ($($answer:ty),+; lines $($line:ty),+) => { (vec![$(g.subschema_for::<$answer>()),+], vec![$(g.subschema_for::<$line>()),+]) };
    }
    match command {
        "demo" => all!(commands::demo::Verdicts),
        "setup" => all!(setup::Report),
        "leave" => all!(leave::Report),
        "authority" => all!(
            authority::create::Report,
            authority::list::Report,
            authority::list::One,
            authority::import::Report,
            authority::request::Report,
            authority::sign::Report,
            authority::receive::Report,
            authority::offline::Report,
            authority::online::Report,
            authority::permit::Report,
            authority::rollover::Report,
            authority::retire::Report,
            authority::passphrase::Report,
            Answer<authority::backup::Done, authority::backup::Plan>,
            Answer<authority::backup::Restored, authority::backup::RestorePlan>,
            authority::crl::Report
        ),
        "issue" => all!(certificate::issue::Report, certificate::issue_list::Report, tamga_app::enroll::Report),
        "request" => all!(certificate::request::Report),
        "sign" => all!(certificate::sign::Report),
        "receive" => all!(certificate::receive::Report),
        "renew" => all!(certificate::renew::Report),
        "revoke" => all!(certificate::revoke::Report),
        "list" => all!(certificate::list::Report),
        "show" => all!(show::Report, show::Differences),
        "match" => all!(certificate::pairs::Report),
        "move" => all!(certificate::relocate::Report),
        "export" => all!(certificate::export::Report),
        "recipe" => all!(recipe::Report),
        "hosts" => all!(hosts::Report),
        "trust" => all!(
            trust::change::Report,
            trust::status::Report,
            trust::on_hosts::Report,
            trust::environment::Report,
            Answer<trust::exceptions::Done, trust::exceptions::Plan>;
            lines commands::trust::share::Event<'static>
        ),
        "identity" => all!(identity::Report),
        "check" => all!(commands::check::many::Targets; lines check::Checked),
        "explain" => all!(explain::Report, commands::explain::Markdown),
        "serve" => all!(commands::serve::Event<'static>; lines commands::serve::Event<'static>),
        "apply" => all!(apply::Report, commands::apply::Example),
        "schedule" => all!(schedule::Report),
        "enrollment" => all!(
            tamga_enrollment::manage::Invited,
            tamga_enrollment::manage::Accounts,
            tamga_app::service_unit::Report,
            commands::enrollment::serve::Line<'static>;
            lines commands::enrollment::serve::Line<'static>, tamga_enrollment::event::Event
        ),
        "ledger" => all!(
            tamga_app::ledger::Status,
            tamga_app::ledger::Check,
            Answer<tamga_app::ledger::Moved, tamga_app::ledger::Plan>,
            tamga_app::ledger::Grants
        ),
        "status" => all!(status::Report),
        "repair" => all!(repair::Report),
        "completions" => all!(commands::completions::Completions),
        "version" => all!(commands::version::Version),
        "manual" => all!(commands::manual::Pages<'static>),
        _ => (Vec::new(), Vec::new()),
    }
}

/// The schema of one command: an object with `tamga`, `command`, `ok` and the members of one answer or of a failure; or a line.
fn schema(command: &str) -> Schema {
    let mut g = SchemaSettings::draft2020_12().for_serialize().into_generator();
    let (mut members, mut whole) = answers(command, &mut g);
    members.push(g.subschema_for::<crate::exit::Failed>());
    let answer = json_schema!({
        "type": "object",
        "properties": { "tamga": { "const": 1 }, "command": { "const": command }, "ok": { "type": "boolean" } },
        "required": ["tamga", "command", "ok"],
        "anyOf": members,
    });
    whole.insert(0, answer);
    let definitions = g.take_definitions(true);
    let mut schema = if whole.len() == 1 { whole.remove(0) } else { json_schema!({ "anyOf": whole }) };
    let title = format!("tamga {command} --format json");
    schema.insert("$schema".into(), "https://json-schema.org/draft/2020-12/schema".into());
    schema.insert("title".into(), title.into());
    schema.insert("$defs".into(), definitions.into());
    schema
}

#[test]
#[allow(clippy::disallowed_methods, clippy::unwrap_used, reason = "a test reads and writes the docs")]
fn the_docs_hold_the_schemas_of_these_types() {
    let directory = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schema");
    let write = std::env::var_os("TAMGA_TESTS_WRITE").is_some();
    for command in commands::NAMES.iter().chain(&["version"]) {
        let file = directory.join(format!("{command}.json"));
        let text = format!("{}\n", serde_json::to_string_pretty(&schema(command)).unwrap());
        if write {
            std::fs::write(&file, &text).unwrap();
        }
        let stored = std::fs::read_to_string(&file).unwrap_or_default();
        assert!(stored == text, "{} is not of these types: run the tests with TAMGA_TESTS_WRITE=1", file.display());
    }
}
