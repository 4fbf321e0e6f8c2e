//! Runs the matrix with the clients that are installed here and writes what they do, in Markdown; 1 if a prediction differs.
//! The figures on chains drawn at random, at the end of the committed page, stay.
//!
//! In: HOME, TAMGA_ROOT (two empty directories), and otherwise a bare environment. Out: the document; on standard error what differs.

#![allow(clippy::print_stdout, clippy::print_stderr, clippy::unwrap_used, reason = "it is a command of the tests")]

use std::path::PathBuf;
use std::process::ExitCode;
use tamga_host::places::Machine;
use tamga_testkit::matrix::chain::Pool;
use tamga_testkit::matrix::{kinds, mutate, run, tell};

fn main() -> ExitCode {
    // As the built program, it is its own helper where a browser's library is asked.
    if std::env::args_os().nth(1).is_some_and(|a| a == tamga_host::nss::CHILD) {
        return ExitCode::from(tamga_host::nss::answer());
    }
    let folder = |name: &str| PathBuf::from(std::env::var_os(name).unwrap());
    let (home, root) = (folder("HOME"), folder("TAMGA_ROOT"));
    let pool = Pool::new();
    let kinds = kinds::all(&pool);
    let machine = Machine::from_environment(None, None).unwrap();
    let matrix = run::run(&machine, &home, &root, kinds, &pool);
    let held = mutate::held(&matrix);
    print!("{}", tell::document(&matrix, &held));
    // What follows is of other runs and is kept as it is: this one cannot make it.
    let committed = include_str!("../../../docs/agreement.md");
    print!("{}", committed.find(tell::DRAWN).map_or("", |at| &committed[at..]));
    let mut wrong = tell::differing(&matrix);
    let (kinds, divided) = (matrix.kinds.len(), tell::divided(&matrix));
    if kinds < tell::LEAST_KINDS || divided < tell::LEAST_DIVIDED {
        wrong.push_str(&format!("{kinds} kinds, of which {divided} divide the clients, are too few\n"));
    }
    eprint!("{wrong}");
    ExitCode::from(u8::from(!wrong.is_empty()))
}
