//! Whatever is typed, pointed at or answered, in whatever order, the bench goes on.

use std::time::{Duration, Instant};

use fastrand::Rng;
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};

use crate::app::App;
use crate::tests::{READ, key, on_anchored_demo, on_demo, press, shown, wait};

const LENSES: [&str; 9] =
    ["shelf", "chart", "check", "align", "splice", "frames", "compose", "deliver", "rehearse"];
const CODES: [KeyCode; 14] = [
    KeyCode::Up,
    KeyCode::Down,
    KeyCode::Left,
    KeyCode::Right,
    KeyCode::Enter,
    KeyCode::Esc,
    KeyCode::Tab,
    KeyCode::BackTab,
    KeyCode::Backspace,
    KeyCode::Delete,
    KeyCode::PageUp,
    KeyCode::PageDown,
    KeyCode::Home,
    KeyCode::End,
];
const ANSWERS: [&str; 16] = [
    "1",
    "1h",
    "2024-03-28 10:00",
    "NZDSEK@quill:ticks",
    "buy 1 with stop 40pt target 60pt",
    "-",
    "0.5",
    "x",
    "",
    "50pt",
    "NOKSEK@quill:1m",
    "4h 1d",
    "99999999999999999999",
    "-5",
    "1e9",
    "é漢字",
];
const SIZES: [(u16, u16); 6] = [(80, 24), (160, 47), (120, 40), (200, 60), (81, 25), (20, 5)];

/// Something that a person might do; what it was, in words.
fn do_something(app: &mut App, rng: &mut Rng) -> String {
    match rng.u32(0..100) {
        0..60 => {
            // q closes the bench.
            let c = Some(rng.u8(33..127) as char).filter(|c| *c != 'q').unwrap_or(' ');
            press(app, &c.to_string());
            c.to_string()
        }
        60..76 => {
            let code = CODES[rng.usize(0..CODES.len())];
            key(app, code);
            format!("{code:?}")
        }
        76..85 => {
            let text = ANSWERS[rng.usize(0..ANSWERS.len())];
            app.key(KeyEvent::new(KeyCode::Char('u'), KeyModifiers::CONTROL));
            press(app, &format!("{text}\n"));
            format!("answer '{text}'")
        }
        85..92 => {
            let left = MouseButton::Left;
            let kinds = [
                MouseEventKind::Down(left),
                MouseEventKind::Drag(left),
                MouseEventKind::Up(left),
                MouseEventKind::ScrollUp,
                MouseEventKind::ScrollDown,
            ];
            let kind = kinds[rng.usize(0..kinds.len())];
            let (column, row) = (rng.u16(0..app.size.0 + 3), rng.u16(0..app.size.1 + 3));
            crate::terminal::handle_mouse(
                app,
                MouseEvent { kind, column, row, modifiers: KeyModifiers::NONE },
            );
            format!("{kind:?} at {column}, {row}")
        }
        92..95 => {
            app.size = SIZES[rng.usize(0..SIZES.len())];
            format!("size {:?}", app.size)
        }
        95..98 => {
            app.tick(Duration::from_millis(rng.u64(0..500)));
            "time".to_owned()
        }
        _ => {
            let late = Instant::now() + Duration::from_secs(60);
            while !app.threads.is_idle() || app.running.is_some() {
                assert!(Instant::now() < late, "work that never ends");
                app.tick(Duration::ZERO);
                std::thread::sleep(Duration::from_millis(1));
            }
            "rest".to_owned()
        }
    }
}

/// Does what comes by chance for a while; where it breaks, the last things that were done are told.
fn at_random(seed: u64, steps: usize) {
    let (_dir, mut app) = if seed.is_multiple_of(2) { on_demo() } else { on_anchored_demo() };
    wait(&mut app, READ);
    let (mut rng, mut done) = (Rng::with_seed(seed), Vec::new());
    let outcome = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
        for step in 0..steps {
            // Chance alone would hardly ever come to the last lenses.
            if step % 50 == 0 {
                (0..3).for_each(|_| key(&mut app, KeyCode::Esc));
                let lens = LENSES[step / 50 % LENSES.len()];
                app.open_lens(lens);
                done.push(format!("lens {lens}"));
            }
            let what = do_something(&mut app, &mut rng);
            done.push(what);
            app.tick(Duration::ZERO);
            shown(&app);
        }
    }));
    assert!(outcome.is_ok(), "seed {seed} broke after {:?}", &done[done.len().saturating_sub(30)..]);
}

/// In a process of its own: answers that name files have them written where it stands.
#[test]
#[ignore = "the next test has it run in a folder of its own"]
fn whatever_comes_by_chance() {
    (1..=2).for_each(|seed| at_random(seed, 1800));
}

#[test]
fn no_keys_break_the_bench() {
    let dir = tempfile::tempdir().unwrap();
    let out = std::process::Command::new(std::env::current_exe().unwrap())
        .args(["--exact", "any_keys_tests::whatever_comes_by_chance", "--ignored"])
        .current_dir(dir.path())
        .output()
        .unwrap();
    let told = String::from_utf8_lossy(&out.stdout);
    assert!(out.status.success(), "{told}{}", String::from_utf8_lossy(&out.stderr));
    assert!(told.contains("1 passed"), "{told}");
}
