//! A run that is killed at any of its writes leaves all of the old or all of the new. The kernel kills it: `strace` counts and injects.

use crate::folder::{Folder, PROGRAM};
use std::collections::BTreeMap;
use std::path::Path;
use std::process::Command;

const ESTATE: &str = "marrowfen-ferries";

/// What changes what is on the disk, or makes it last.
const CALLS: &str = "write,fsync,rename,renameat,renameat2,mkdir,mkdirat,unlink,unlinkat,rmdir,chmod,fchmod,fchmodat";

type Files = BTreeMap<String, Vec<u8>>;

/// What is written: the name, what is in the folder before, the arguments.
fn writers() -> Vec<(&'static str, fn(&Folder), Vec<&'static str>)> {
    let evidence = vec!["audit", "-e", ESTATE, "--evidence", "evidence", "--force"];
    vec![
        ("a new folder", |_| {}, vec!["demo", "new"]),
        (
            "a set over files that are there",
            |folder| {
                for name in ["estate.yaml", "policies.yaml", "office.yaml"] {
                    folder.write(&format!("demo/{name}"), "old");
                }
                folder.write("demo/own.txt", "of somebody else");
            },
            vec!["demo", "demo", "--force"],
        ),
        ("evidence in a new folder", |_| {}, evidence.clone()),
        (
            "evidence over older evidence",
            |folder| {
                for name in ["evidence.json", "sources.txt"] {
                    folder.write(&format!("evidence/{name}"), "old");
                }
            },
            evidence,
        ),
        ("tidied files, in place", |_| {}, vec!["tidy", "-e", ESTATE, "--apply", ESTATE, "--force"]),
        ("patches", |_| {}, vec!["tidy", "-e", ESTATE, "--patch", "patches"]),
        ("a draft", |_| {}, vec!["audit", "-e", ESTATE, "--draft-acceptances", "accepted.yaml"]),
        (
            "a figure over another",
            |folder| drop(folder.write("figure.svg", "old")),
            vec!["inventory", "-e", ESTATE, "--figure", "figure.svg", "--force"],
        ),
        ("a sheet", |_| {}, vec!["export", "-e", ESTATE, "--as", "csv-rules", "--into", "rules.csv"]),
        ("a first snapshot", |_| {}, vec!["init", "first"]),
        (
            "an import",
            |folder| {
                folder.write(
                    "m.rules",
                    "*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\nCOMMIT\n",
                );
                folder.write("m.yaml", "old");
            },
            vec!["import", "--as", "linux-workload", "--name", "m", "m.rules", "--into", "m.yaml", "--force"],
        ),
    ]
}

/// A copy of a folder.
fn copy(files: &Files) -> Folder {
    let folder = Folder::new();
    for (name, bytes) in files {
        folder.write(name, bytes);
    }
    folder
}

/// A call of the kernel: its name, and which of that name it is.
type Call = (&'static str, usize);

/// Runs the program, killed at a call if one is given; the calls that were made.
fn run(folder: &Folder, traces: &Path, arguments: &[&str], killed_at: Option<Call>) -> Vec<Call> {
    let trace = traces.join("calls");
    let mut strace = Command::new("strace");
    strace.args(["-f", "-qq", "-o"]).arg(&trace).arg(format!("--trace={CALLS}"));
    if let Some((name, at)) = killed_at {
        strace.arg(format!("--inject={name}:signal=KILL:when={at}"));
    }
    let output = folder.command(strace, &[&[PROGRAM], arguments].concat()).output().unwrap();
    assert!(killed_at.is_some() || output.status.code().is_some_and(|code| code <= 1), "{arguments:?}: {output:?}");
    let calls = std::fs::read_to_string(trace).unwrap();
    let made = |name| calls.matches(&format!(" {name}(")).count();
    CALLS.split(',').flat_map(|name| (1..=made(name)).map(move |at| (name, at))).collect()
}

#[test]
fn a_run_that_is_killed_at_any_write_leaves_the_old_or_the_new() {
    if Command::new("strace").arg("-V").output().is_err() {
        println!("skipped: strace is not there");
        return;
    }
    let demo = Folder::with_demo().files();
    let traces = Folder::new();
    for (what, prepare, arguments) in writers() {
        let before = copy(&demo);
        prepare(&before);
        let old = before.files();
        let calls = run(&before, traces.path(), &arguments, None);
        let new = before.files();
        assert!(new != old && calls.len() > 2, "{what}: {calls:?}");
        let mut seen = [false; 2];
        for call in calls {
            let folder = copy(&old);
            run(&folder, traces.path(), &arguments, Some(call));
            let left = folder.files();
            for (name, bytes) in left.iter().filter(|(name, _)| !name.contains(".heronshale-")) {
                let whole = [&old, &new].iter().any(|files| files.get(name) == Some(bytes));
                assert!(whole, "{what}, killed at {call:?}: {name} is torn");
            }
            // The next run that reads there clears up.
            let next = folder.run(&["inventory", "-e", ESTATE]);
            for around in ["demo", "evidence", "new", "patches", "first"] {
                folder.run(&["inventory", "-e", around]);
            }
            assert_eq!(next.code, 0, "{what}, killed at {call:?}: {}", next.stderr);
            let after = folder.files();
            let names: Vec<&String> = after.keys().collect();
            assert!(after == old || after == new, "{what}, killed at {call:?}: {names:?}");
            seen[usize::from(after == new)] = true;
        }
        assert!(seen[0], "{what}: no run left the old");
    }
}
