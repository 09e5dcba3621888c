//! What the tests of the program share: running it, and the demo files.

use std::path::{Path, PathBuf};
use std::process::{Command, Output};

/// The committed demo files.
pub fn demo() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo")
}

/// The program on a shelf of its own.
pub struct Program {
    pub dir: tempfile::TempDir,
}

impl Program {
    pub fn new() -> Program {
        Program { dir: tempfile::tempdir().unwrap() }
    }

    pub fn shelf(&self) -> PathBuf {
        self.dir.path().join("shelf")
    }

    pub fn command(&self, args: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_stavel"));
        command.env("STAVEL_SHELF", self.shelf()).current_dir(self.dir.path()).args(args);
        command
    }

    pub fn run(&self, args: &[&str]) -> Output {
        self.command(args).output().unwrap()
    }

    /// The exit code and both outputs.
    pub fn told(&self, args: &[&str]) -> (i32, String, String) {
        let out = self.run(args);
        let text = |b: &[u8]| String::from_utf8_lossy(b).into_owned();
        (out.status.code().unwrap_or(-1), text(&out.stdout), text(&out.stderr))
    }

    /// Runs a command that must be done, and gives its document.
    pub fn json(&self, args: &[&str]) -> serde_json::Value {
        let (code, out, err) = self.told(&[args, &["--json"]].concat());
        assert_eq!(code, 0, "{args:?}: {err}");
        serde_json::from_str(&out).unwrap_or_else(|e| panic!("{args:?} printed no JSON ({e}): {out}"))
    }

    /// A file beside the shelf.
    pub fn file(&self, name: &str, bytes: impl AsRef<[u8]>) -> String {
        let path = self.dir.path().join(name);
        std::fs::write(&path, bytes).unwrap();
        path.to_string_lossy().into_owned()
    }

    /// Takes the broker's and the vendor's minutes of NOKSEK in.
    pub fn with_noksek(self) -> Program {
        let path = |p: &str| demo().join(p).to_string_lossy().into_owned();
        self.json(&["intake", &path("quill/NOKSEK_1m"), "--source", "quill"]);
        self.json(&["intake", &path("tarn/NOKSEK_1m.csv"), "--source", "tarn"]);
        self
    }
}
