//! The real program in a real terminal, driven through tmux: keys go in, the screen is read, and every
//! wait is for text.

use std::process::{Command, Output};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use crate::support::{Program, demo};

/// A terminal with the program in it; it ends with the test.
pub struct Terminal {
    socket: String,
}

impl Terminal {
    pub fn open(p: &Program, size: (u16, u16), args: &str) -> Terminal {
        // A server that is about to end would take the next terminal with it.
        static OPENED: AtomicUsize = AtomicUsize::new(0);
        let socket = format!("tmux{}", OPENED.fetch_add(1, Ordering::Relaxed));
        let socket = p.dir.path().join(socket).to_string_lossy().into_owned();
        let t = Terminal { socket };
        let command = format!(
            "STAVEL_SHELF='{}' '{}' {args}; echo \"left with $?\"; sleep 60",
            p.shelf().display(),
            env!("CARGO_BIN_EXE_stavel")
        );
        let (columns, rows) = (size.0.to_string(), size.1.to_string());
        let new = [
            "-f",
            "/dev/null",
            "new-session",
            "-d",
            "-s",
            "s",
            "-x",
            &columns,
            "-y",
            &rows,
            "-c",
            &p.dir.path().to_string_lossy(),
            &command,
        ];
        let out = t.tmux(&new);
        assert!(
            out.status.success(),
            "tmux is needed for this test: {}",
            String::from_utf8_lossy(&out.stderr)
        );
        t
    }

    fn tmux(&self, args: &[&str]) -> Output {
        Command::new("tmux")
            .args(["-S", &self.socket])
            .args(args)
            .output()
            .expect("tmux is needed for this test: install it")
    }

    pub fn screen(&self) -> String {
        String::from_utf8_lossy(&self.tmux(&["capture-pane", "-p", "-t", "s"]).stdout).into_owned()
    }

    /// Waits until the screen shows some words.
    pub fn wait(&self, words: &str) {
        let end = Instant::now() + Duration::from_secs(90);
        while !self.screen().contains(words) {
            assert!(Instant::now() < end, "never saw '{words}' in\n{}", self.screen());
            std::thread::sleep(Duration::from_millis(30));
        }
    }

    pub fn keys(&self, keys: &[&str]) {
        self.tmux(&[&["send-keys", "-t", "s"], keys].concat());
    }

    fn type_text(&self, text: &str) {
        self.tmux(&["send-keys", "-t", "s", "-l", text]);
    }

    /// Takes a file in through the form.
    fn take_in(&self, path: &str, source: &str, understood: &str, told: &str) {
        self.keys(&["1", "i"]);
        self.wait("take files in");
        self.type_text(path);
        self.keys(&["Tab"]);
        self.type_text(source);
        self.wait(understood);
        self.keys(&["Enter"]);
        self.wait(told);
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        self.tmux(&["kill-server"]);
    }
}

#[test]
fn the_whole_work_by_keys_gives_the_file_that_the_commands_give() {
    let p = Program::new();
    let t = Terminal::open(&p, (160, 47), "");
    t.wait("The shelf is empty");
    let path = |p: &str| demo().join(p).canonicalize().unwrap().to_string_lossy().into_owned();
    t.take_in(&path("quill/NOKSEK_1m"), "quill", "clock UTC: the file says so", "0 rejected");
    t.take_in(&path("tarn/NOKSEK_1m.csv"), "tarn", "clock afloat: the file names no zone", "clock afloat");
    t.wait("next ▸ g check ");
    t.keys(&["4"]);
    t.wait("midnight is 17:00 in New York");
    t.keys(&["a"]);
    t.wait("anchored: stored in UTC");
    t.keys(&["5"]);
    t.wait("✓ adds up");
    t.keys(&["a"]);
    t.wait("▸joined:1m");
    t.keys(&["6", "a"]);
    t.wait("all up to date");
    for (key, words) in [
        ("2", "highest"),
        ("3", "completeness"),
        ("7", "what it means"),
        ("9", "the journal is empty"),
        ("8", "can be written"),
    ] {
        t.keys(&[key]);
        t.wait(words);
    }
    t.keys(&["a"]);
    t.wait("write it to");
    t.keys(&["C-u"]);
    t.type_text("by_keys.csv");
    t.keys(&["Enter"]);
    t.wait("✓ proved");
    t.keys(&["q"]);
    t.wait("left with 0");

    let by_commands = Program::new().with_noksek();
    by_commands.json(&["align", "NOKSEK@tarn:1m", "--to", "NOKSEK@quill:1m", "--anchor"]);
    by_commands.json(&["splice", "NOKSEK@tarn:1m", "NOKSEK@quill:1m", "--into", "joined"]);
    by_commands.json(&["deliver", "NOKSEK@joined:1m", "--out", "x.csv"]);
    let read = |p: &Program, f: &str| std::fs::read(p.dir.path().join(f)).unwrap();
    assert!(read(&p, "by_keys.csv") == read(&by_commands, "x.csv"));
}

#[test]
fn a_small_screen_works_and_a_smaller_one_says_so() {
    let p = Program::new().with_noksek();
    let t = Terminal::open(&p, (80, 24), "");
    t.wait("rehearse");
    let asks = "p sets the spread";
    for (key, words) in [("2", "O 1.0"), ("3", "findings in this window"), ("4", "of 6 weeks"), ("9", asks)] {
        t.keys(&[key]);
        t.wait(words);
    }
    // Minutes that say no spread are played once somebody has said it.
    t.keys(&["p"]);
    t.wait("in points, where rows say none");
    t.keys(&["1", "4", "Enter"]);
    t.wait("held");
    t.tmux(&["resize-window", "-t", "s", "-x", "70", "-y", "20"]);
    t.wait("Stavel needs 80x24");
    t.tmux(&["resize-window", "-t", "s", "-x", "160", "-y", "47"]);
    t.wait("account");
}

#[test]
fn the_terminal_comes_back_and_no_terminal_is_told() {
    let p = Program::new();
    let (code, _, err) = p.told(&[]);
    assert!(code == 1 && err.contains("needs a terminal"), "{code}: {err}");
    let t = Terminal::open(&p, (100, 30), "");
    t.wait("The shelf is empty");
    t.keys(&["C-c"]);
    t.wait("left with 0");
    assert!(!t.screen().contains("The shelf is empty"), "the screen from before is back");
}

#[test]
fn mends_are_seen_before_they_are_done_and_a_clock_is_nudged() {
    let p = Program::new().with_noksek();
    let t = Terminal::open(&p, (160, 47), "");
    t.wait("quill:1m");
    t.keys(&["3"]);
    t.wait("completeness");
    t.keys(&["M"]);
    t.wait("drop bars equal in every value");
    t.wait("before: ");
    t.keys(&["a"]);
    t.wait("mended:");
    t.keys(&["v"]);
    t.wait("points moved an hour");
    t.keys(&["4"]);
    t.wait("midnight is 17:00");
    t.keys(&["v"]);
    t.wait("same close");
    t.keys(&[">"]);
    t.wait("your choice");
    t.wait("America/New_York+8h: 0 of");
    t.keys(&["q"]);
    t.wait("left with 0");
}

#[test]
fn without_colours_blocks_are_characters_and_with_them_they_are_painted() {
    let p = Program::new().with_noksek();
    let plain = Terminal::open(&p, (120, 40), "--theme none");
    plain.wait("next ▸ g check");
    plain.wait("███");
    plain.keys(&["q"]);
    plain.wait("left with 0");
    let p = Program::new().with_noksek();
    let painted = Terminal::open(&p, (120, 40), "--theme light");
    painted.wait("next ▸ g check");
    painted.keys(&["2"]);
    painted.wait("bar of");
    assert!(!painted.screen().contains('█'), "{}", painted.screen());
}

#[test]
fn what_a_command_does_is_seen_on_an_open_bench() {
    let p = Program::new().with_noksek();
    let t = Terminal::open(&p, (160, 47), "");
    t.wait("next ▸ g check");
    p.json(&["shelf", "NOKSEK@tarn:1m", "--rename", "NOKSEK@beside:1m"]);
    t.wait("beside:1m");
}

#[test]
fn settings_that_make_no_sense_are_told_before_the_bench_opens() {
    let p = Program::new();
    let file = p.file("settings.toml", "[keys.chart]\n',' = 'm'\n");
    let (code, _, err) = p.told(&["--settings", &file]);
    assert!(
        code == 1 && err.contains("settings.toml") && err.contains("'m' would mean two things"),
        "{code}: {err}"
    );
    // The example of the docs is one that opens.
    let docs = include_str!("../../../../docs/settings.md");
    let example = docs.split("```toml\n").nth(1).and_then(|rest| rest.split("```").next()).unwrap();
    let file = p.file("docs.toml", example);
    let t = Terminal::open(&p, (100, 30), &format!("--settings {file}"));
    t.wait("Q quit");
    t.keys(&["Q"]);
    t.wait("left with 0");
    drop(t);
    let file = p.file("good.toml", "theme = 'none'\n[keys.everywhere]\nq = 'Q'\n");
    let t = Terminal::open(&p, (100, 30), &format!("--settings {file}"));
    t.wait("Q quit");
    t.keys(&["Q"]);
    t.wait("left with 0");
}
