//! What is drawn on the chart and in a rehearsal, and the pictures that lenses write.

use ratatui::crossterm::event::{KeyCode, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use ratatui::layout::Rect;
use stavel_core::model::{Drawing, DrawingColour, DrawingKind, SeriesName};
use stavel_core::store::Shelf;
use tempfile::TempDir;

use crate::app::App;
use crate::tests::{answer, key, on_anchored_demo, press, settle, shown, wait};

fn at(app: &mut App, lens: char, series: &str) {
    app.select(series.parse::<SeriesName>().unwrap());
    press(app, &lens.to_string());
    settle(app);
}

fn mouse(app: &mut App, kind: MouseEventKind, (column, row): (u16, u16)) {
    let lens = crate::screen::places(app, Rect { x: 0, y: 0, width: 160, height: 47 }).lens;
    let (column, row) = (lens.x + column, lens.y + row);
    crate::terminal::handle_mouse(app, MouseEvent { kind, column, row, modifiers: KeyModifiers::NONE });
    settle(app);
}

fn drawings(dir: &TempDir) -> Vec<Drawing> {
    Shelf::open(dir.path()).unwrap().drawings("NOKSEK").unwrap()
}

#[test]
fn keys_draw_word_colour_move_and_take_away_and_undo_brings_back() {
    let (dir, mut app) = on_anchored_demo();
    at(&mut app, '2', "NOKSEK@quill:1m");
    press(&mut app, "d");
    wait(&mut app, "drawing: level");
    key(&mut app, KeyCode::Up);
    key(&mut app, KeyCode::Up);
    press(&mut app, "\n");
    settle(&mut app);
    wait(&mut app, "1 level");
    let level = drawings(&dir).remove(0);
    assert_eq!((level.kind, level.colour), (DrawingKind::Level, DrawingColour::Violet));
    assert_eq!(level.series.to_string(), "NOKSEK@quill:1m");
    press(&mut app, "c");
    assert!(app.message.text.contains("n chooses"), "{}", app.message.text);
    press(&mut app, "nc");
    settle(&mut app);
    press(&mut app, "e");
    answer(&mut app, "resistance");
    wait(&mut app, "● 1 level resistance");
    assert_eq!(drawings(&dir)[0].colour, DrawingColour::Green);
    // It is moved two bars back and down a line.
    press(&mut app, "a,,");
    key(&mut app, KeyCode::Down);
    press(&mut app, "\n");
    settle(&mut app);
    let moved = drawings(&dir).remove(0);
    assert!(moved.points[0].time < level.points[0].time && moved.points[0].price < level.points[0].price);
    press(&mut app, "x");
    settle(&mut app);
    assert!(drawings(&dir).is_empty());
    press(&mut app, "z");
    settle(&mut app);
    assert_eq!(drawings(&dir), [moved]);
    wait(&mut app, "1 level resistance");
}

#[test]
fn the_mouse_draws_a_line_and_moves_its_end_and_drags_the_chart_elsewhere() {
    let (dir, mut app) = on_anchored_demo();
    at(&mut app, '2', "NOKSEK@quill:1m");
    press(&mut app, "dd");
    let (down, up) = (MouseEventKind::Down(MouseButton::Left), MouseEventKind::Up(MouseButton::Left));
    let drag = MouseEventKind::Drag(MouseButton::Left);
    mouse(&mut app, down, (40, 14));
    mouse(&mut app, drag, (80, 8));
    mouse(&mut app, up, (80, 8));
    wait(&mut app, "1 line");
    let line = drawings(&dir).remove(0);
    assert!(line.points[1].time > line.points[0].time && line.points[1].price > line.points[0].price);
    let window = app.view().window;
    mouse(&mut app, down, (80, 8));
    mouse(&mut app, drag, (90, 12));
    mouse(&mut app, up, (90, 12));
    let moved = drawings(&dir).remove(0);
    assert_eq!((moved.points[0], app.view().window), (line.points[0], window));
    assert!(moved.points[1].time > line.points[1].time && moved.points[1].price < line.points[1].price);
    press(&mut app, "\x1b\x1b+");
    settle(&mut app);
    let window = app.view().window;
    mouse(&mut app, down, (20, 20));
    mouse(&mut app, drag, (30, 20));
    mouse(&mut app, up, (30, 20));
    assert!(app.view().window.from < window.from, "elsewhere the chart itself is moved");
    assert_eq!(drawings(&dir), [moved]);
}

#[test]
fn nothing_drawn_in_a_rehearsal_is_seen_before_its_moment() {
    let (dir, mut app) = on_anchored_demo();
    at(&mut app, '9', "NOKSEK@quill:ticks");
    wait(&mut app, "held");
    press(&mut app, "j");
    answer(&mut app, "2024-03-28 10:00");
    press(&mut app, "w\n");
    settle(&mut app);
    wait(&mut app, "1 level");
    let level = drawings(&dir).remove(0);
    assert!(level.rehearsed.is_some_and(|at| at >= level.points[0].time));
    press(&mut app, "j");
    answer(&mut app, "2024-03-28 09:30");
    assert!(!shown(&app).contains("1 level"), "{}", shown(&app));
    press(&mut app, "j");
    answer(&mut app, "2024-03-28 11:00");
    wait(&mut app, "1 level");
    // Moved now, it is as it is from now on.
    press(&mut app, "va");
    key(&mut app, KeyCode::Up);
    press(&mut app, "\n");
    settle(&mut app);
    let moved = drawings(&dir).remove(0);
    assert!(moved.points[0].price > level.points[0].price && moved.rehearsed > level.rehearsed);
    press(&mut app, "j");
    answer(&mut app, "2024-03-28 10:30");
    assert!(!shown(&app).contains("1 level"), "{}", shown(&app));
    // On the chart, where all is known, it is seen.
    at(&mut app, '2', "NOKSEK@quill:ticks");
    wait(&mut app, "1 level");
}

#[test]
fn bars_are_strokes_or_a_line_and_every_lens_writes_its_picture_with_one_key() {
    let (dir, mut app) = on_anchored_demo();
    at(&mut app, '2', "NOKSEK@quill:1m");
    press(&mut app, "y");
    settle(&mut app);
    wait(&mut app, "├");
    press(&mut app, "y");
    settle(&mut app);
    wait(&mut app, "⠒⠒ close");
    press(&mut app, "r");
    wait(&mut app, "true range");
    press(&mut app, "R");
    assert!(app.message.text.contains("equal ratios"), "{}", app.message.text);
    for (lens, words) in [
        ('1', "what is there"),
        ('2', "close"),
        ('3', "each session day"),
        ('4', "weeks agree"),
        ('5', "differences of closes"),
        ('6', "NOKSEK"),
        ('7', "session week"),
        ('8', "medians in points"),
        ('9', "NOKSEK"),
    ] {
        at(&mut app, lens, if matches!(lens, '8' | '9') { "NOKSEK@quill:ticks" } else { "NOKSEK@quill:1m" });
        if lens == '9' {
            press(&mut app, "P");
            assert!(app.message.text.contains("no picture here"), "nothing was played yet");
            press(&mut app, "j");
            answer(&mut app, "2024-03-28 10:00");
        }
        let out = dir.path().join(format!("{lens}.svg"));
        press(&mut app, "P");
        answer(&mut app, &out.display().to_string());
        let svg = std::fs::read_to_string(&out)
            .unwrap_or_else(|e| panic!("lens {lens}: {e}: {}", app.message.text));
        assert!(svg.contains(words), "lens {lens}");
    }
    at(&mut app, '2', "NOKSEK@quill:1m");
    let out = dir.path().join("d.html");
    press(&mut app, "D");
    answer(&mut app, &out.display().to_string());
    assert!(std::fs::read_to_string(out).unwrap().contains("is it fit to test on?"));
}

#[test]
fn a_series_of_another_instrument_stands_below_on_the_same_time() {
    let (_dir, mut app) = on_anchored_demo();
    at(&mut app, '2', "NOKSEK@quill:1m");
    press(&mut app, "i");
    answer(&mut app, "NOKSEK@nobody:1m");
    assert!(app.message.text.contains("not on the shelf"), "{}", app.message.text);
    key(&mut app, KeyCode::Esc);
    press(&mut app, "i");
    answer(&mut app, "NZDSEK@quill:1m");
    wait(&mut app, "⠒⠒ NZDSEK@quill:1m");
}
