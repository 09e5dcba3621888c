//! The rehearsal lens beside a recorded book, the moments of its journal, and the spine as a slider.

use ratatui::crossterm::event::{KeyCode, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use ratatui::layout::Rect;
use stavel_core::intake::{Hints, plan, take};
use stavel_core::job::Job;
use stavel_core::model::OwnValues;
use stavel_core::store::Shelf;

use crate::app::App;
use crate::rehearse_tests::{rehearse, rehearsing};
use crate::spine;
use crate::tests::{answer, key, press, settle, shown, wait};

/// Ticks of a contract and its book: five levels a side of three contracts, for two minutes.
fn with_depth(kind: &str) -> (tempfile::TempDir, App) {
    let dir = tempfile::tempdir().unwrap();
    let (mut ticks, mut depth) = ("time,bid,ask\n".to_owned(), "time,side,level,price,size\n".to_owned());
    for second in 0..900 {
        let time = format!("2024-03-05T10:{:02}:{:02}Z", second / 60, second % 60);
        ticks += &format!("{time},410.25,410.50\n");
        for level in (0..5).filter(|_| second < 120) {
            let behind = f64::from(level) * 0.25;
            let (bid, ask) = (410.25 - behind, 410.5 + behind);
            depth += &format!("{time},bid,{level},{bid:.2},3\n{time},ask,{level},{ask:.2},3\n");
        }
    }
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    for (name, text) in [("BLY-2024-05_ticks.csv", ticks), ("BLY-2024-05_depth.csv", depth)] {
        let path = dir.path().join(name);
        std::fs::write(&path, text).unwrap();
        let hints = Hints { source: "tarn".into(), ..Hints::default() };
        let planned = plan(&shelf, &[path], &hints).unwrap();
        take(&mut shelf, &planned.plans[0], &Job::unwatched()).unwrap();
    }
    let said = [("kind", kind), ("tick_size", "0.25"), ("tick_value", "12.50"), ("quote", "SEK")];
    let said = said.map(|(key, value)| (key.to_owned(), value.to_owned())).into();
    shelf.put_instrument("BLY-2024-05", &OwnValues { said, ..OwnValues::default() }).unwrap();
    drop(shelf);
    let mut app = App::new(dir.path().to_owned());
    app.size = (160, 47);
    rehearse(&mut app, "BLY-2024-05@tarn:ticks");
    (dir, app)
}

#[test]
fn the_book_stands_below_the_chart_and_orders_take_from_it() {
    let (_dir, mut app) = with_depth("futures");
    let screen = shown(&app);
    for words in [" depth ", " tape ", "411.00", "409.75", "3.00"] {
        assert!(screen.contains(words), "no '{words}' in\n{screen}");
    }
    press(&mut app, "C");
    assert!(shown(&app).contains("depth       recorded"), "{}", shown(&app));
    press(&mut app, "C");
    press(&mut app, "l");
    answer(&mut app, "5");
    press(&mut app, "b");
    settle(&mut app);
    assert!(app.message.text.starts_with("filled at 2 prices: "), "{}", app.message.text);
    let screen = shown(&app);
    // The best ask is taken, and two of the next.
    for words in ["bought 3.00 at 410.50", "bought 2.00 at 410.75", "410.50 ", "0.00", "1.00"] {
        assert!(screen.contains(words), "no '{words}' in\n{screen}");
    }
    press(&mut app, "j");
    answer(&mut app, "2024-03-05 10:10");
    wait(&mut app, "8 min old: not dealt by");
    press(&mut app, "x");
    settle(&mut app);
    assert!(shown(&app).contains("sold 5.00 at 410.25"), "{}", shown(&app));
    app.size = (80, 24);
    let screen = shown(&app);
    assert!(screen.contains(" depth ") && screen.contains("sold 5.00"), "{screen}");
}

#[test]
fn sizes_of_which_nobody_says_what_they_count_are_shown_and_not_dealt_by() {
    let (_dir, mut app) = with_depth("other");
    wait(&mut app, "depth, not dealt by (m)");
    press(&mut app, "l");
    answer(&mut app, "5");
    press(&mut app, "b");
    settle(&mut app);
    assert!(shown(&app).contains("bought 5.00 at 410.50"), "{}", shown(&app));
    press(&mut app, "m");
    answer(&mut app, "depth lots");
    wait(&mut app, "position 0.00");
    assert!(!shown(&app).contains("not dealt by"), "{}", shown(&app));
    press(&mut app, "m");
    answer(&mut app, "depth none");
    wait(&mut app, "position 0.00");
    assert!(!shown(&app).contains(" depth "), "{}", shown(&app));
    press(&mut app, "m");
    answer(&mut app, "depth much");
    key(&mut app, KeyCode::Esc);
    assert!(app.message.text.contains("'depth much' is not understood"), "{}", app.message.text);
}

#[test]
fn each_moment_of_the_journal_has_a_picture_and_all_goes_into_a_folder() {
    let (dir, mut app) = rehearsing();
    press(&mut app, "b");
    settle(&mut app);
    press(&mut app, "x");
    settle(&mut app);
    press(&mut app, "J");
    key(&mut app, KeyCode::Down);
    press(&mut app, "\n");
    let path = dir.path().join("moment.svg");
    answer(&mut app, &path.display().to_string());
    let svg = std::fs::read_to_string(&path).unwrap();
    assert!(svg.starts_with("<") && svg.contains("bought 1.00 at"), "{}", &svg[..200]);
    assert!(!svg.contains("sold 1.00"), "the later deal is in it");
    press(&mut app, "\n");
    answer(&mut app, &dir.path().join("moment.png").display().to_string());
    key(&mut app, KeyCode::Esc);
    assert!(app.message.text.contains("must end in .svg"), "{}", app.message.text);

    press(&mut app, "R");
    let run = dir.path().join("run");
    answer(&mut app, &format!("{}/", run.display()));
    assert!(app.message.text.contains("journal.csv"), "{}", app.message.text);
    let journal = std::fs::read_to_string(run.join("journal.csv")).unwrap();
    let pictures = std::fs::read_dir(run.join("pictures")).unwrap().count();
    assert_eq!(journal.lines().count(), pictures + 1, "a picture a line\n{journal}");
    press(&mut app, "R");
    answer(&mut app, &format!("{}/", run.display()));
    key(&mut app, KeyCode::Esc);
    assert!(app.message.text.contains("is not empty"), "{}", app.message.text);

    // Tables by a layout; another file in the way is kept.
    let table = dir.path().join("t.csv");
    for _ in 0..2 {
        std::fs::write(&table, "mine").unwrap();
        press(&mut app, "R");
        answer(&mut app, &format!("{} trades by dotted-minutes", table.display()));
    }
    let text = std::fs::read_to_string(&table).unwrap();
    assert!(text.starts_with("2024.03.28,") && text.contains(",buy,1.00,"), "{text}");
    assert_eq!(std::fs::read_to_string(dir.path().join("t.csv.before-2")).unwrap(), "mine");
}

#[test]
fn the_spine_is_a_slider_of_time() {
    let (_dir, mut app) = rehearsing();
    let at = |app: &App, day: &str| {
        let (left, columns) = spine::axis(app.size.0);
        let time = stavel_core::model::time::parse(day).unwrap();
        left + (0..columns).rfind(|c| spine::time_at(app.whole(), columns, *c) <= time).unwrap()
    };
    let mouse = |app: &mut App, kind, column: u16| {
        let area = Rect { x: 0, y: 0, width: app.size.0, height: app.size.1 };
        let row = crate::screen::places(app, area).spine.y + 1;
        let event = MouseEvent { kind, column, row, modifiers: KeyModifiers::NONE };
        crate::terminal::handle_mouse(app, event);
        settle(app);
    };
    let (held, later) = (at(&app, "2024-03-30 12:00"), at(&app, "2024-03-29 12:00"));
    mouse(&mut app, MouseEventKind::Down(MouseButton::Left), held);
    assert!(app.message.text.starts_with("on to 2024-03-30"), "{}", app.message.text);
    mouse(&mut app, MouseEventKind::Drag(MouseButton::Left), later);
    assert!(shown(&app).contains(" 10:00:04 UTC"), "nothing moves before it is let go: {}", shown(&app));
    mouse(&mut app, MouseEventKind::Up(MouseButton::Left), later);
    assert!(shown(&app).contains("‖ held 60x  2024-03-29"), "{}", shown(&app));
    let before = at(&app, "2024-03-01");
    mouse(&mut app, MouseEventKind::Up(MouseButton::Left), before);
    assert!(app.message.text.contains("C chooses an earlier day"), "{}", app.message.text);
}
