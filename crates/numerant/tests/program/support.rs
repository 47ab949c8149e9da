//! A folder for each test, and a way to run the program in it that depends on nothing outside.

use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

pub(crate) struct Bench {
    folder: tempfile::TempDir,
}

impl Bench {
    pub(crate) fn new() -> Self {
        Self {
            folder: tempfile::tempdir().expect("a folder"),
        }
    }

    /// With `calls.csv` of a few records.
    pub(crate) fn with_calls() -> Self {
        let bench = Self::new();
        bench.write(
            "calls.csv",
            "id,quay,cargo,arrived,dues,remarks\n\
             0007,North,grain,2026-03-05 14:20,1.10,\n\
             0012,Ro/Ro,vehicles,2026-04-01 06:05,20.00,\"late, then early\"\n\
             0003,North,coal,2026-03-31 23:59,3.30,\"two\nlines\"\n\
             0044,,fish,2026-04-02 00:00,0.45,asked for \"ice\"\n\
             0019,Ångkajen,grain,2026-03-06 08:00,7.00,\n",
        );
        bench
    }

    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub(crate) fn write(&self, name: &str, bytes: impl AsRef<[u8]>) {
        let path = self.path(name);
        fs::create_dir_all(path.parent().expect("a folder")).expect("made");
        fs::write(path, bytes).expect("written");
    }

    pub(crate) fn read(&self, name: &str) -> String {
        fs::read_to_string(self.path(name)).unwrap_or_else(|error| panic!("{name}: {error}"))
    }

    /// The names of all files, hidden ones too, sorted.
    pub(crate) fn files(&self) -> Vec<String> {
        let mut found = Vec::new();
        let mut folders = vec![self.folder.path().to_owned()];
        while let Some(folder) = folders.pop() {
            for entry in fs::read_dir(folder).expect("a folder") {
                let path = entry.expect("an entry").path();
                if path.is_dir() {
                    folders.push(path);
                } else {
                    let name = path.strip_prefix(self.folder.path()).expect("below");
                    found.push(name.to_string_lossy().into_owned());
                }
            }
        }
        found.sort();
        found
    }

    pub(crate) fn command(&self, words: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_numerant"));
        command
            .args(words)
            .current_dir(self.folder.path())
            .env_clear()
            .stdin(Stdio::null());
        command
    }

    /// Standard output, standard error and the code in one text.
    pub(crate) fn run(&self, words: &[&str]) -> String {
        shown(&self.command(words).output().expect("it runs"))
    }

    /// Runs a command that is typed on one line, without the name of the program.
    pub(crate) fn typed(&self, line: &str) -> String {
        let words = shlex::split(line).expect("words");
        self.run(&words.iter().map(String::as_str).collect::<Vec<_>>())
    }

    pub(crate) fn run_with_input(&self, words: &[&str], input: &[u8]) -> String {
        let mut command = self.command(words);
        command
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped());
        let mut child = command.spawn().expect("it runs");
        // A program that has heard enough closes its input; what it says is what counts.
        let _ = child.stdin.take().expect("piped").write_all(input);
        shown(&child.wait_with_output().expect("it ends"))
    }

    pub(crate) fn folder(&self) -> &Path {
        self.folder.path()
    }
}

fn shown(output: &Output) -> String {
    let mut text = String::from_utf8(output.stdout.clone()).expect("UTF-8");
    let errors = String::from_utf8(output.stderr.clone()).expect("UTF-8");
    if !errors.is_empty() {
        text.push_str("--- standard error\n");
        text.push_str(&errors);
    }
    text.push_str(&format!(
        "--- code {}",
        output.status.code().map_or(-1, |code| code)
    ));
    text
}
