//! A disk in memory does what this machine's own does: the same operations, drawn at random, with the same answers and the same files.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

use proptest::prelude::*;
use std::path::{Path, PathBuf};
use tamga_core::plan::step::{Document, Publication};
use tamga_host::fs::{Disk, File, Kind, Local};
use tamga_host::place::sha256;
use tamga_testkit::memory::MemoryDisk;
use zeroize::Zeroizing;

const NAMES: [&str; 5] = ["roots.pem", "charts", "charts/private-key.pem", "charts/old", "archive"];

#[derive(Clone, Debug)]
enum Operation {
    Write(usize, u8),
    Rewrite(usize, u8),
    Remove(usize),
    RemoveTree(usize),
    RemoveDirectory(usize),
    Make(usize),
    Move(usize, usize),
    Publish(usize, u8),
    Deploy(usize, usize, u8),
    RollBack(usize, usize),
    Settle(usize, usize),
    Recover(usize, u8),
    Read(usize),
    List(usize),
}

fn operation() -> impl Strategy<Value = Operation> {
    use Operation::*;
    let at = || 0..NAMES.len();
    prop_oneof![
        (at(), any::<u8>()).prop_map(|(a, b)| Write(a, b)),
        (at(), any::<u8>()).prop_map(|(a, b)| Rewrite(a, b)),
        at().prop_map(Remove),
        at().prop_map(RemoveTree),
        at().prop_map(RemoveDirectory),
        at().prop_map(Make),
        (at(), at()).prop_map(|(a, b)| Move(a, b)),
        (at(), any::<u8>()).prop_map(|(a, b)| Publish(a, b)),
        (at(), at(), any::<u8>()).prop_map(|(a, b, c)| Deploy(a, b, c)),
        (at(), at()).prop_map(|(a, b)| RollBack(a, b)),
        (at(), at()).prop_map(|(a, b)| Settle(a, b)),
        (at(), any::<u8>()).prop_map(|(a, b)| Recover(a, b)),
        at().prop_map(Read),
        at().prop_map(List),
    ]
}

/// What comes of it, in words that do not depend on the disk: whether it went well, and what was read.
fn done(disk: &dyn Disk, base: &Path, operation: &Operation) -> String {
    use Operation::*;
    let at = |n: &usize| base.join(NAMES[*n]);
    let text = |b: &u8| format!("text {b}").into_bytes();
    let said = |good: bool| if good { "done".to_owned() } else { "refused".to_owned() };
    match operation {
        Write(a, b) => said(disk.write_whole(&at(a), &text(b), 0o640).is_ok()),
        Rewrite(a, b) => said(disk.rewrite(&at(a), &text(b), &base.join("copy")).is_ok()),
        Remove(a) => said(disk.remove(&at(a)).is_ok()),
        RemoveTree(a) => said(disk.remove_tree(&at(a)).is_ok()),
        RemoveDirectory(a) => said(disk.remove_directory(&at(a))),
        Make(a) => said(disk.make_directory(&at(a), 0o750).is_ok()),
        Move(a, b) => said(disk.move_directory(&at(a), &at(b)).is_ok()),
        Publish(a, b) => {
            let document = |name, mode| Document { name, bytes: Zeroizing::new(text(b)), mode, secret: false };
            let documents = vec![document("private-key.pem", 0o600), document("certificate.pem", 0o644)];
            let publication = Publication { folder: at(a), folder_mode: 0o755, documents };
            let good = disk.publish(&publication, "0123abcd").is_ok();
            if !good {
                // As the next run would.
                let names = ["private-key.pem", "certificate.pem"].map(str::to_owned);
                disk.recover_publication(&at(a), &names, "0123abcd").unwrap();
            }
            said(good)
        }
        Deploy(a, b, c) => {
            let file = |n| File { path: at(n), bytes: Zeroizing::new(text(c)), mode: 0o600 };
            let files: Vec<File> = if a == b { vec![file(a)] } else { vec![file(a), file(b)] };
            said(disk.deploy(&files, None).is_ok())
        }
        RollBack(a, b) => format!("{:?}", disk.roll_back(&[&at(a), &at(b)]).ok()),
        Settle(a, b) => said(disk.settle(&[&at(a), &at(b)]).is_ok()),
        Recover(a, b) => format!("{:?}", disk.recover_deployment(&[(&at(a), &sha256(&text(b)))]).ok()),
        Read(a) => format!("{:?}", disk.read(&at(a)).ok().map(|b| b.to_vec())),
        List(a) => format!("{:?}", disk.list(&at(a)).ok()),
    }
}

/// Everything below a directory: what it is, its mode and its bytes.
fn tree(disk: &dyn Disk, base: &Path) -> Vec<(PathBuf, Kind, u32, Vec<u8>)> {
    let (mut out, mut left) = (Vec::new(), vec![base.to_owned()]);
    while let Some(directory) = left.pop() {
        for name in disk.list(&directory).unwrap() {
            let path = directory.join(name);
            let status = disk.entry(&path).unwrap();
            let bytes = disk.read(&path).map(|b| b.to_vec()).unwrap_or_default();
            if status.kind == Kind::Directory {
                left.push(path.clone());
            }
            out.push((path.strip_prefix(base).unwrap().to_owned(), status.kind, status.mode, bytes));
        }
    }
    out.sort_by(|a, b| a.0.cmp(&b.0));
    out
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, ..ProptestConfig::default() })]

    #[test]
    fn both_disks_answer_alike(operations in proptest::collection::vec(operation(), 1..24)) {
        let directory = tempfile::tempdir().unwrap();
        let memory = MemoryDisk::default();
        memory.make_directory(Path::new("/lab"), 0o755).unwrap();
        for (n, operation) in operations.iter().enumerate() {
            let real = done(&Local, directory.path(), operation);
            let here = done(&memory, Path::new("/lab"), operation);
            prop_assert_eq!(&real, &here, "the answer to {:?} (number {})", operation, n);
            prop_assert_eq!(
                tree(&Local, directory.path()), tree(&memory, Path::new("/lab")), "after {:?} (number {})", operation, n
            );
        }
    }
}
