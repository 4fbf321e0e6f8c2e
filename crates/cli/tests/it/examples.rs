//! The examples of docs/examples are carried out as they stand, each on a machine of its own, as root and without a terminal: as a pipeline does
//! it in a container.

use std::path::{Path, PathBuf};
use std::process::Command;
use tamga_testkit::machine::Machine;
use tamga_testkit::sandbox::{self, Ran};

fn examples() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/examples")
}

/// True if the system's Python has a module; else it is said that the test is skipped.
fn imports(module: &str) -> bool {
    let has = sandbox::has(&["python3"]) && {
        let line = format!("import {module}");
        Command::new("/usr/bin/python3").args(["-c", &line]).output().is_ok_and(|o| o.status.success())
    };
    assert!(has || std::env::var_os(sandbox::COMPLETE).is_none(), "python3 has no {module}");
    if !has {
        eprintln!("SKIPPED: python3 has no {module}");
    }
    has
}

/// A directory of the programs that no package of the system brings, by its end.
fn brought(end: &str) -> Option<PathBuf> {
    std::env::split_paths(&sandbox::brought()?).find(|d| d.ends_with(end))
}

/// A machine with the files of one example in /srv/example.
fn machine(name: &str) -> Option<Machine> {
    let machine = Machine::start(Path::new(env!("CARGO_BIN_EXE_tamga")))?;
    for file in std::fs::read_dir(examples().join(name)).unwrap().flatten() {
        let text = std::fs::read_to_string(file.path()).unwrap();
        machine.write(&format!("/srv/example/{}", file.file_name().to_str().unwrap()), &text);
    }
    Some(machine)
}

/// Its pipeline, to the end.
fn carried_out(machine: &Machine, before: &str) -> Ran {
    let ran = machine.types(&format!("export CI=true; cd /srv/example; {before}\n. ./pipeline.sh"));
    assert_eq!(ran.code, 0, "{}\n{}", ran.out, ran.err);
    // Nothing of it stays.
    let left = machine.types("tamga trust status --format json --stores system,java | grep -c '\"present\"' || true");
    assert_eq!(left.out.trim(), "0", "{}", left.err);
    ran
}

#[test]
fn a_test_suite_in_python_trusts_its_own_service() {
    if !imports("pytest") {
        return;
    }
    let Some(machine) = machine("pytest") else { return };
    let ran = carried_out(&machine, "");
    assert!(ran.out.contains("3 passed"), "{}", ran.out);
}

#[test]
fn a_browser_driven_by_a_script_shows_no_warning() {
    let Some(modules) = brought("node_modules/.bin").map(|d| d.parent().unwrap().to_owned()) else { return };
    if !sandbox::has(&["chromium", "node"]) {
        return;
    }
    let Some(machine) = machine("playwright") else { return };
    let ran = carried_out(&machine, &format!("ln -s {} node_modules", modules.display()));
    assert!(ran.out.contains("Chromium opens it without a warning; issued by"), "{}", ran.out);
}

#[test]
fn a_jvm_trusts_its_own_service() {
    if !sandbox::has(&["java"]) {
        return;
    }
    let Some(machine) = machine("jvm") else { return };
    assert!(carried_out(&machine, "").out.contains("the JVM opens it without a warning"));
}

#[test]
fn three_services_of_a_compose_file_trust_each_other() {
    if !imports("yaml") {
        return;
    }
    let Some(machine) = machine("compose") else { return };
    machine.write("/srv/compose.py", include_str!("../../../testkit/src/stand_ins/compose.py"));
    let ran = machine.types("export CI=true; python3 /srv/compose.py /srv/example/compose.yaml /usr/local/bin/tamga");
    assert_eq!(ran.code, 0, "{}\n{}", ran.out, ran.err);
    for line in [
        "tides.lab.test reaches archive.lab.test, charts.lab.test",
        "archive.lab.test reaches charts.lab.test, tides.lab.test",
    ] {
        assert!(ran.out.contains(line), "{}", ran.out);
    }
    // The services never see the authority's key.
    let seen = machine.types("find /srv/volumes/pairs -name '*.pem' | sort");
    assert_eq!(seen.out.lines().count(), 9, "{}", seen.out);
}

/// The forms of the files, by those who define them: their schemas come with a validator from PyPI.
#[test]
fn pipelines_and_compose_files_have_their_form() {
    let Some(validator) = brought("venv/bin").map(|d| d.join("check-jsonschema")) else { return };
    let root = examples().join("../..");
    for (schema, file) in [
        ("vendor.compose-spec", "docs/examples/compose/compose.yaml"),
        ("vendor.github-workflows", "docs/examples/workflow/https.yml"),
        ("vendor.github-workflows", ".github/workflows/check.yml"),
    ] {
        let ended = Command::new(&validator).args(["--builtin-schema", schema]).arg(root.join(file)).output().unwrap();
        assert!(ended.status.success(), "{file}: {}", String::from_utf8_lossy(&ended.stdout));
    }
}
