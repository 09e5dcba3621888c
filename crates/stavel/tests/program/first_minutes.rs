//! The first five minutes: the real demo with its feeds, from the start to a replay, by the key `g` alone.

use std::time::{Duration, Instant};

use super::bench::Terminal;
use super::support::Program;

/// The screen once it is the same twice and nothing on it waits; a replay that runs never is.
fn settled(t: &Terminal) -> String {
    let end = Instant::now() + Duration::from_secs(90);
    let mut before = t.screen();
    loop {
        std::thread::sleep(Duration::from_millis(120));
        let now = t.screen();
        let waits = [
            "doing:",
            "goes on as soon",
            "reading what was before",
            "reading the shelf",
            "opening the replay",
        ];
        let hint = now.lines().find(|line| line.contains("next ▸")).unwrap_or_default();
        let is_ready =
            now == before && !waits.iter().any(|w| now.contains(w)) && !hint.trim_end().ends_with('…');
        if is_ready || now.contains("▶") {
            return now;
        }
        assert!(Instant::now() < end, "the bench never came to rest:\n{now}");
        before = now;
    }
}

/// Presses `g` until the joined history was delivered and is replayed.
fn walk(size: (u16, u16)) {
    let p = Program::new();
    let t = Terminal::open(&p, size, "demo --years 1 --dir demo");
    t.wait("next ▸");
    let delivered = p.dir.path().join("out/NOKSEK_joined_1m.csv");
    let mut before = settled(&t);
    let mut unchanged = 0;
    for press in 1.. {
        t.keys(&["g"]);
        let now = settled(&t);
        unchanged = if now == before { unchanged + 1 } else { 0 };
        assert!(unchanged < 2, "two presses left the screen as it was:\n{now}");
        assert!(press < 40, "no replay after {press} presses:\n{now}");
        before = now;
        if delivered.exists() && before.contains("running") {
            break;
        }
    }
    assert!(p.dir.path().join("out/NOKSEK_joined_1m.csv").exists());
    t.wait("next ▸ g fetch new data from quill, tarn");
    t.keys(&["q"]);
    t.wait("left with 0");
    let shelf = p.dir.path().join("demo/shelf-1").display().to_string();
    let told = p.told(&["shelf", "--shelf", &shelf]).1;
    assert!(told.contains("joined:1m"), "{told}");
}

#[test]
fn g_alone_leads_to_a_proved_file_and_a_replay_at_160x47() {
    walk((160, 47));
}

#[test]
fn g_alone_leads_to_a_proved_file_and_a_replay_at_120x40() {
    walk((120, 40));
}

#[test]
fn g_alone_leads_to_a_proved_file_and_a_replay_at_80x24() {
    walk((80, 24));
}
