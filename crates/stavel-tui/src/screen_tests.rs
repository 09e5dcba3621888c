//! Whole screens of every lens, at the sizes people have.

use ratatui::style::Color;
use stavel_core::model::time::{date, day_of};

use crate::app::App;
use crate::paint::{Look, Theme, finish};
use crate::tests::{READ, drawn, on_anchored_demo, on_demo, press, settle, text_of, wait};

/// The screen without what changes from run to run: the day of the run, and times of that day.
fn steady(mut screen: String) -> String {
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_micros() as i64;
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
        // What is kept is the screen without colours: what a colour tells has to be told there too.
        let mut plain = drawn(app);
        finish(&mut plain, Look { theme: Theme::None, is_coarse: false });
        assert!(plain.content.iter().all(|c| (c.fg, c.bg) == (Color::Reset, Color::Reset)));
        insta::assert_snapshot!(format!("{name}_{}x{}", size.0, size.1), steady(text_of(&plain)));
        // With colours every word and mark is the same; only what fills a cell is painted.
        for theme in [Theme::Dark, Theme::Light] {
            let mut colours = drawn(app);
            finish(&mut colours, Look { theme, is_coarse: false });
            for (plain, coloured) in drawn(app).content.iter().zip(&colours.content) {
                let is_fill = matches!(plain.symbol(), "█" | "▓" | "▒" | "░" | "▄");
                assert!(is_fill || plain.symbol() == coloured.symbol(), "{plain:?} {coloured:?}");
                let is_seen = plain.symbol() == " " || coloured.fg != coloured.bg;
                assert!(is_fill || is_seen, "{plain:?} cannot be seen in {theme:?}");
            }
        }
    }
    app.size = (160, 47);
}

#[test]
fn every_lens_before_the_clock_is_known() {
    let (_dir, mut app) = on_demo();
    wait(&mut app, READ);
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
    wait(&mut app, "joined:1m is edition 1");
    press(&mut app, "6a");
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
fn the_rolls_of_a_chain() {
    let (_dir, mut app) = on_demo();
    wait(&mut app, READ);
    app.select("BLY-2024-05@quill:1m".parse().unwrap());
    app.open_lens("compose");
    press(&mut app, "c\n");
    settle(&mut app);
    wait(&mut app, "the gap is that of");
    press(&mut app, ">");
    compare(&mut app, "chain_compose", "▲ 2024-03-05");
}

#[test]
fn what_lies_over_the_bench() {
    let (_dir, mut app) = on_demo();
    wait(&mut app, READ);
    for (name, keys, ready) in [
        ("palette", ":rule", "the next rule of who owns which time"),
        ("keys", "?", "take files of a vendor or broker in"),
        ("prompt", "r", "new name of"),
        ("intake", "i", "take files in"),
    ] {
        app.open_lens("shelf");
        press(&mut app, keys);
        compare(&mut app, name, ready);
        press(&mut app, "\x1b");
    }
}
