//! Whole screens of every lens, at the sizes people have.

use stavel_core::model::time::{date, day_of};

use crate::app::App;
use crate::tests::{on_anchored_demo, on_demo, press, settle, shown, wait};

/// The screen without what changes from run to run: the day of the run, and times of that day.
fn steady(app: &App) -> String {
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_micros() as i64;
    let mut screen = shown(app);
    for day in [date(day_of(now) - 1), date(day_of(now))] {
        while let Some(at) = screen.find(&day) {
            let rest = &screen[at + day.len()..];
            let time = rest.chars().take_while(|c| " 0123456789:".contains(*c)).collect::<String>();
            let time = time.trim_end();
            let blank = "today".to_owned() + &" ".repeat(day.len() + time.len() - 5);
            screen.replace_range(at..at + day.len() + time.len(), &blank);
        }
    }
    screen
}

/// Compares the screen with what is kept, at the three sizes. `words` are on it once it is ready.
fn compare(app: &mut App, name: &str, words: &str) {
    for size in [(160, 47), (120, 40), (80, 24)] {
        app.size = size;
        app.message = Default::default();
        // Small screens show less: what is ready on the large one is ready there too, but for what is read anew.
        wait(app, if size.0 == 160 { words } else { "Stavel" });
        settle(app);
        insta::assert_snapshot!(format!("{name}_{}x{}", size.0, size.1), steady(app));
    }
    app.size = (160, 47);
}

#[test]
fn every_lens_before_the_clock_is_known() {
    let (_dir, mut app) = on_demo();
    wait(&mut app, "tarn:1m is afloat: align it (4)");
    app.select("NOKSEK@tarn:1m".parse().unwrap());
    for (word, ready) in
        [("shelf", "reaches back to"), ("check", "completeness"), ("align", "a stores it in UTC")]
    {
        app.open_lens(word);
        compare(&mut app, &format!("afloat_{word}"), ready);
    }
}

#[test]
fn every_lens_with_a_joined_history() {
    let (_dir, mut app) = on_anchored_demo();
    app.open_lens("splice");
    wait(&mut app, "✓ adds up");
    press(&mut app, "a");
    wait(&mut app, "build frames of joined:1m (6)");
    press(&mut app, "6b");
    wait(&mut app, "all up to date");
    for (word, ready) in [
        ("chart", "bar of"),
        ("check", "completeness"),
        ("splice", "it is up to date"),
        ("frames", "all up to date"),
        ("compose", "what it means"),
        ("deliver", "exactly as they will be written"),
        ("rehearse", "spec sheet"),
    ] {
        app.open_lens(word);
        compare(&mut app, &format!("joined_{word}"), ready);
    }
}

#[test]
fn what_lies_over_the_bench() {
    let (_dir, mut app) = on_demo();
    wait(&mut app, "align it (4)");
    for (name, keys, ready) in [
        ("palette", ":rule", "the next rule of who owns which time"),
        ("keys", "?", "find any act by its words"),
        ("prompt", "r", "new name of"),
        ("intake", "i", "take files in"),
    ] {
        app.open_lens("shelf");
        press(&mut app, keys);
        compare(&mut app, name, ready);
        press(&mut app, "\x1b");
    }
}
