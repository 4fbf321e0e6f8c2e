//! The reference of commands is what they say themselves.

use crate::contract::commands;
use crate::sandbox;
use std::path::Path;

#[test]
fn the_commands_page_is_what_help_says() {
    let s = sandbox();
    let help = |words: &[&str]| s.run(&[words, &["--help"]].concat()).expect(0).out;
    let mut page = "# Commands\n\nWhat `tamga help COMMAND` prints.\n".to_owned();
    let section = |title: &str, text: &str| format!("\n## {title}\n\n```text\n{}\n```\n", text.trim_end());
    page += &section("tamga", &help(&[]));
    for command in commands() {
        page += &section(&format!("tamga {command}"), &help(&command.split(' ').collect::<Vec<_>>()));
    }
    let file = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/commands.md");
    if std::env::var_os("TAMGA_TESTS_WRITE").is_some() {
        std::fs::write(&file, &page).unwrap();
    }
    let stored = std::fs::read_to_string(&file).unwrap_or_default();
    assert!(stored == page, "docs/commands.md is not what the program says: run the tests with TAMGA_TESTS_WRITE=1");
}
