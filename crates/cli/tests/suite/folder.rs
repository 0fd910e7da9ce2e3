//! A fresh folder, and the built program in it: cleared environment, fixed width.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use tempfile::TempDir;

/// The built program.
pub const PROGRAM: &str = env!("CARGO_BIN_EXE_heronshale");

/// A folder that goes away with its owner.
pub struct Folder {
    folder: TempDir,
}

/// What a run of the program gave.
#[derive(Debug)]
pub struct Run {
    pub code: i32,
    pub stdout: String,
    pub stderr: String,
}

impl Folder {
    /// An empty folder.
    pub fn new() -> Self {
        Self {
            folder: TempDir::new().unwrap(),
        }
    }

    /// A folder with the demo estate in `marrowfen-ferries`.
    pub fn with_demo() -> Self {
        let folder = Self::new();
        assert_eq!(folder.run(&["demo"]).code, 0);
        folder
    }

    /// A folder with one snapshot of these sections, and what stands behind `---` beside it.
    pub fn with(text: &str) -> Self {
        let folder = Self::new();
        for (name, text) in files(text) {
            folder.write(name, text);
        }
        folder
    }

    pub fn path(&self) -> &Path {
        self.folder.path()
    }

    pub fn write(&self, name: &str, text: impl AsRef<[u8]>) -> PathBuf {
        let path = self.path().join(name);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(&path, text).unwrap();
        path
    }

    pub fn read(&self, name: &str) -> String {
        std::fs::read_to_string(self.path().join(name)).unwrap()
    }

    /// Runs the program in the folder.
    pub fn run(&self, arguments: &[&str]) -> Run {
        self.run_with(arguments, &[])
    }

    pub fn run_with(&self, arguments: &[&str], environment: &[(&str, &str)]) -> Run {
        let output = self
            .command(Command::new(PROGRAM), arguments)
            .envs(environment.iter().copied())
            .output()
            .unwrap();
        let text = |bytes: Vec<u8>| String::from_utf8(bytes).unwrap();
        Run {
            code: output.status.code().unwrap(),
            stdout: text(output.stdout),
            stderr: text(output.stderr),
        }
    }

    /// A command in the folder: the program, or what runs it.
    pub fn command(&self, mut runner: Command, arguments: &[&str]) -> Command {
        runner
            .args(arguments)
            .current_dir(self.path())
            .env_clear()
            .stdin(Stdio::null());
        runner
    }

    /// All files by their names below the folder.
    pub fn files(&self) -> BTreeMap<String, Vec<u8>> {
        let mut found = BTreeMap::new();
        let mut open = vec![self.path().to_owned()];
        while let Some(folder) = open.pop() {
            for entry in std::fs::read_dir(folder).unwrap() {
                let path = entry.unwrap().path();
                if path.is_dir() {
                    open.push(path);
                } else {
                    let name = path
                        .strip_prefix(self.path())
                        .unwrap()
                        .to_string_lossy()
                        .into_owned();
                    found.insert(name, std::fs::read(path).unwrap());
                }
            }
        }
        found
    }

    /// The answer in JSON, with what the program ended with.
    pub fn json(&self, arguments: &[&str]) -> (i32, serde_json::Value) {
        let run = self.run(&[arguments, &["--format", "json"]].concat());
        let value = serde_json::from_str(&run.stdout);
        (
            run.code,
            value.unwrap_or_else(|error| {
                panic!("{arguments:?}: {error}\n{}\n{}", run.stdout, run.stderr)
            }),
        )
    }
}

/// The files of a text, by the format that each says: the snapshot, and what stands behind `---`.
pub fn files(text: &str) -> Vec<(&'static str, &str)> {
    const NAMES: [&str; 3] = ["expectations", "acceptances", "configuration"];
    let name = |text: &str| {
        NAMES
            .into_iter()
            .find(|name| text.starts_with(&format!("format: heronshale-{name}\n")))
    };
    let file = |text| match name(text) {
        Some("expectations") => ("expectations.yaml", text),
        Some("acceptances") => ("acceptances.yaml", text),
        Some(_) => ("heronshale.yaml", text),
        None => ("estate.yaml", text),
    };
    text.split("\n---\n").map(file).collect()
}

impl Run {
    /// Ended well: what it wrote.
    #[track_caller]
    pub fn ok(self) -> String {
        assert_eq!(self.code, 0, "{}{}", self.stdout, self.stderr);
        self.stdout
    }

    /// Ended with this code, and wrote nothing but an error.
    #[track_caller]
    pub fn fails(self, code: i32) -> String {
        assert_eq!(
            (self.code, self.stdout.as_str()),
            (code, ""),
            "{}",
            self.stderr
        );
        self.stderr
    }
}

/// YAML as the program reads it: `n` and `yes` are texts.
pub fn yaml(text: &str) -> serde_json::Value {
    let options = serde_saphyr::options! { strict_booleans: true };
    serde_saphyr::from_str_with_options(text, options)
        .unwrap_or_else(|error| panic!("{error}\n{text}"))
}

/// The header of a snapshot.
pub const HEADER: &str = "format: heronshale-snapshot\nversion: 1\n";

/// The words of a command line; what stands in quotation marks is one.
pub fn words_of(line: &str) -> Vec<&str> {
    let parts = line.split('"').enumerate();
    let words = parts.flat_map(|(at, part)| {
        if at % 2 == 1 {
            vec![part]
        } else {
            part.split_whitespace().collect()
        }
    });
    words.collect()
}
