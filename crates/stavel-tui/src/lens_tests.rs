//! What each lens does to the shelf and says of it, by keys.

use std::time::Duration;

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use ratatui::layout::Rect;
use stavel_core::model::SeriesName;
use stavel_core::model::time::days_from_civil;
use stavel_core::store::Shelf;
use stavel_feed::stand_in::{StandInWish, Switch, start};
use tempfile::TempDir;

use crate::app::App;
use crate::tests::{READ, answer, key, on_anchored_demo, on_demo, press, settle, shown, wait};

/// A bench whose chosen series is shown in a lens.
fn at(app: &mut App, lens: char, series: &str) {
    wait(app, READ);
    app.select(name(series));
    press(app, &lens.to_string());
    settle(app);
}

fn name(series: &str) -> SeriesName {
    series.parse().unwrap()
}

/// The number of the current edition of a series; none where it is not on the shelf.
fn edition(dir: &TempDir, series: &str) -> Option<i64> {
    Shelf::open(dir.path()).unwrap().current(&name(series)).unwrap().map(|s| s.edition.number)
}

/// A value of a spec sheet as it is in force.
fn value(dir: &TempDir, instrument: &str, key: &str) -> String {
    Shelf::open(dir.path()).unwrap().instrument(instrument).unwrap().values[key].clone()
}

#[test]
fn mends_are_chosen_saved_taken_again_done_and_undone() {
    let (dir, mut app) = on_demo();
    at(&mut app, '3', "NOKSEK@quill:1m");
    let list = dir.path().join("mends.toml").display().to_string();
    press(&mut app, "a");
    assert!(app.message.text.contains("choose what to mend first"), "{}", app.message.text);
    press(&mut app, "W");
    assert!(app.message.text.contains("no mends to save"), "{}", app.message.text);
    press(&mut app, "M");
    wait(&mut app, "mends chosen");
    // Each of what is safe is told with its own count.
    wait(&mut app, "30  duplicate_time");
    wait(&mut app, "filler: drop flat rows");
    press(&mut app, "W");
    answer(&mut app, &list);
    assert!(std::fs::read_to_string(&list).unwrap().contains("safe"));
    press(&mut app, "L");
    answer(&mut app, &format!("{list}.gone"));
    key(&mut app, KeyCode::Esc);
    assert!(app.message.text.contains("mends.toml.gone"), "{}", app.message.text);
    assert_eq!(edition(&dir, "NOKSEK@quill:1m"), Some(1));
    press(&mut app, "L");
    answer(&mut app, &list);
    press(&mut app, "a");
    settle(&mut app);
    assert_eq!(edition(&dir, "NOKSEK@quill:1m"), Some(2), "{}", app.message.text);
    press(&mut app, "u");
    settle(&mut app);
    assert_eq!(edition(&dir, "NOKSEK@quill:1m"), Some(1));
    press(&mut app, "U");
    settle(&mut app);
    assert_eq!(edition(&dir, "NOKSEK@quill:1m"), Some(2));
}

#[test]
fn a_report_is_written_where_it_is_asked_for_and_nowhere_else() {
    let (dir, mut app) = on_demo();
    at(&mut app, '3', "NOKSEK@tarn:1m");
    let page = dir.path().join("page.html");
    press(&mut app, "w");
    answer(&mut app, &dir.path().join("page.txt").display().to_string());
    key(&mut app, KeyCode::Esc);
    assert!(app.message.text.contains("must end in .html or .pdf"), "{}", app.message.text);
    press(&mut app, "w");
    key(&mut app, KeyCode::Esc);
    settle(&mut app);
    assert!(!page.exists());
    press(&mut app, "w");
    answer(&mut app, &page.display().to_string());
    let text = std::fs::read_to_string(&page).unwrap();
    assert!(text.starts_with("<!DOCTYPE html>") && text.contains("NOKSEK@tarn:1m"), "{}", &text[..200]);
    assert_eq!(edition(&dir, "NOKSEK@tarn:1m"), Some(1), "a check changes nothing");
}

#[test]
fn values_of_the_spec_sheet_are_changed_refused_and_undone() {
    let (dir, mut app) = on_demo();
    at(&mut app, '7', "NOKSEK@tarn:1m");
    let before = value(&dir, "NOKSEK", "commission");
    let rows = shown(&app).lines().position(|l| l.contains("commission")).unwrap();
    let first = shown(&app).lines().position(|l| l.contains(" kind ")).unwrap();
    (first..rows).for_each(|_| key(&mut app, KeyCode::Down));
    press(&mut app, "\n");
    answer(&mut app, "a lot");
    key(&mut app, KeyCode::Esc);
    assert_eq!(value(&dir, "NOKSEK", "commission"), before);
    assert!(app.message.text.contains("'a lot'"), "{}", app.message.text);
    press(&mut app, "\n");
    answer(&mut app, "4.25");
    assert_eq!(value(&dir, "NOKSEK", "commission"), "4.25", "{}", shown(&app));
    press(&mut app, "z");
    settle(&mut app);
    assert_eq!(value(&dir, "NOKSEK", "commission"), before);
    press(&mut app, "n");
    answer(&mut app, "NOKSEK.mine");
    assert!(app.message.text.contains("NOKSEK.mine"), "{} {}", app.message.text, shown(&app));
    assert_eq!(value(&dir, "NOKSEK.mine", "commission"), before, "it is like the other");
}

#[test]
fn a_formula_is_shown_while_it_is_typed_and_made_when_it_is_answered() {
    let (dir, mut app) = on_demo();
    at(&mut app, '7', "NOKSEK@quill:1m");
    press(&mut app, "f");
    app.key(KeyEvent::new(KeyCode::Char('u'), KeyModifiers::CONTROL));
    assert!(shown(&app).contains("basket(0.6, A, 0.4, B, …)"), "{}", shown(&app));
    // Names are completed as far as they are alike.
    press(&mut app, "SEKNOK@quill:1m = 1 / NOKS");
    key(&mut app, KeyCode::Tab);
    wait(&mut app, "1 / NOKSEK");
    wait(&mut app, "NOK for one SEK");
    wait(&mut app, "SEKNOK@quill:1m = 1 / NOKSEK");
    press(&mut app, " / ");
    wait(&mut app, "column 13: it ends where a number");
    (0..3).for_each(|_| key(&mut app, KeyCode::Backspace));
    press(&mut app, "\n");
    settle(&mut app);
    assert_eq!(edition(&dir, "SEKNOK@quill:1m"), Some(1), "{}", app.message.text);
    wait(&mut app, "by the formula 1 / NOKSEK");
}

#[test]
fn a_chain_is_made_and_its_roll_moved_by_hand() {
    let (dir, mut app) = on_demo();
    at(&mut app, '7', "BLY-2024-05@quill:1m");
    press(&mut app, "c");
    wait(&mut app, "BLY.chain = BLY* roll=volume adjust=difference");
    press(&mut app, "\n");
    settle(&mut app);
    assert_eq!(edition(&dir, "BLY.chain@quill:1m"), Some(1), "{}", app.message.text);
    wait(&mut app, "▲ 2024-01-03");
    press(&mut app, ">");
    wait(&mut app, "▲ 2024-03-05");
    press(&mut app, ",,");
    wait(&mut app, "Moved 2 trading days earlier, to 2024-03-01");
    assert_eq!(edition(&dir, "BLY.chain@quill:1m"), Some(1), "nothing is written before a");
    // It does not go beyond the roll before it.
    (0..60).for_each(|_| press(&mut app, ","));
    wait(&mut app, "cannot go beyond its neighbours");
    key(&mut app, KeyCode::Esc);
    wait(&mut app, "by its rule");
    press(&mut app, ".");
    wait(&mut app, "Moved 1 trading day later, to 2024-03-06");
    press(&mut app, "a");
    settle(&mut app);
    wait(&mut app, "moved by hand");
    assert_eq!(edition(&dir, "BLY.chain@quill:1m"), Some(2), "{}", app.message.text);
    press(&mut app, "z");
    settle(&mut app);
    assert_eq!(edition(&dir, "BLY.chain@quill:1m"), Some(1), "{}", app.message.text);
}

#[test]
fn a_series_is_renamed_removed_and_brought_back() {
    let (dir, mut app) = on_demo();
    at(&mut app, '1', "NOKSEK@quill:ticks");
    press(&mut app, "r");
    answer(&mut app, "no name at all");
    key(&mut app, KeyCode::Esc);
    assert_eq!(edition(&dir, "NOKSEK@quill:ticks"), Some(1));
    press(&mut app, "r");
    answer(&mut app, "NOKSEK@vendor:ticks");
    assert_eq!(edition(&dir, "NOKSEK@quill:ticks"), None, "{}", app.message.text);
    assert_eq!(edition(&dir, "NOKSEK@vendor:ticks"), Some(1));
    app.select(name("NOKSEK@vendor:ticks"));
    press(&mut app, "x");
    answer(&mut app, "no");
    assert_eq!(edition(&dir, "NOKSEK@vendor:ticks"), Some(1), "only yes removes");
    press(&mut app, "x");
    answer(&mut app, "yes");
    assert_eq!(edition(&dir, "NOKSEK@vendor:ticks"), None, "{}", app.message.text);
    press(&mut app, "u");
    settle(&mut app);
    assert_eq!(edition(&dir, "NOKSEK@vendor:ticks"), Some(1), "{}", app.message.text);
}

#[test]
fn the_list_of_series_is_filtered_and_says_where_nothing_fits() {
    let (_dir, mut app) = on_demo();
    at(&mut app, '1', "NOKSEK@tarn:1m");
    press(&mut app, "/");
    answer(&mut app, "quill");
    let list = shown(&app);
    let below = list.lines().skip_while(|l| !l.contains("filter: quill")).collect::<String>();
    assert!(below.contains("quill:1m") && !below.contains("  tarn:1m "), "{list}");
    let chosen = app.selected.as_ref().unwrap();
    assert_eq!(chosen.source, "quill", "what is chosen is on the list");
    press(&mut app, "/");
    answer(&mut app, "zebra");
    key(&mut app, KeyCode::Esc);
    assert!(app.message.text.contains("no series has these words"), "{}", app.message.text);
    press(&mut app, "/");
    answer(&mut app, "");
    assert!(shown(&app).contains("tarn:1m"));
}

#[test]
fn a_chart_is_saved_as_svg_or_pdf_and_as_nothing_else() {
    let (dir, mut app) = on_demo();
    at(&mut app, '2', "NOKSEK@quill:1m");
    for (file, begins) in [("a.svg", &b"<svg"[..]), ("b.pdf", &b"%PDF"[..])] {
        press(&mut app, "P");
        answer(&mut app, &dir.path().join(file).display().to_string());
        let bytes = std::fs::read(dir.path().join(file)).unwrap();
        assert!(bytes.starts_with(begins), "{file}: {}", app.message.text);
    }
    press(&mut app, "P");
    answer(&mut app, &dir.path().join("c.jpg").display().to_string());
    assert!(!dir.path().join("c.jpg").exists());
    assert!(app.message.text.contains(".svg"), "{}", app.message.text);
}

#[test]
fn the_cursor_stays_on_the_chart_and_tells_its_bar() {
    let (_dir, mut app) = on_demo();
    at(&mut app, '2', "NOKSEK@quill:1m");
    press(&mut app, &",".repeat(500));
    settle(&mut app);
    let first = shown(&app);
    press(&mut app, ",");
    assert_eq!(shown(&app), first, "it stays on the first bar");
    press(&mut app, ".");
    assert_ne!(shown(&app), first);
    for _ in 0..4 {
        press(&mut app, "m");
        settle(&mut app);
    }
    assert!(shown(&app).contains("bar of"));
    press(&mut app, "o");
    wait(&mut app, "⠒⠒ quill:ticks");
}

#[test]
fn a_clock_of_ones_own_is_shown_beside_the_one_found() {
    let (dir, mut app) = on_demo();
    at(&mut app, '4', "NOKSEK@tarn:1m");
    wait(&mut app, "a stores it in UTC");
    press(&mut app, ">");
    settle(&mut app);
    assert!(shown(&app).contains("+8h"), "{}", shown(&app));
    press(&mut app, "<<");
    settle(&mut app);
    assert!(shown(&app).contains("+6h"), "{}", shown(&app));
    press(&mut app, "e");
    answer(&mut app, "Mars/Olympus");
    assert!(app.message.text.contains("Mars/Olympus"), "{}", app.message.text);
    let info = Shelf::open(dir.path()).unwrap().find(&name("NOKSEK@tarn:1m")).unwrap();
    assert!(info.is_afloat(), "nothing was stored");
}

#[test]
fn frames_are_built_once_and_then_up_to_date() {
    let (dir, mut app) = on_anchored_demo();
    app.select(name("NOKSEK@tarn:1m"));
    press(&mut app, "6a");
    settle(&mut app);
    assert_eq!(edition(&dir, "NOKSEK@tarn:4h"), Some(1), "{}", app.message.text);
    press(&mut app, "a");
    settle(&mut app);
    assert!(app.message.text.contains("nothing to build"), "{}", app.message.text);
    assert_eq!(edition(&dir, "NOKSEK@tarn:4h"), Some(1));
}

#[test]
fn a_delivery_is_proved_and_an_afloat_series_is_not_delivered() {
    let (dir, mut app) = on_demo();
    at(&mut app, '8', "NOKSEK@tarn:1m");
    press(&mut app, "a");
    assert!(app.message.text.contains("is afloat: align it first (4)"), "{}", app.message.text);
    assert!(app.overlay.is_none());
    app.select(name("NOKSEK@quill:1m"));
    settle(&mut app);
    for (times, file) in [(0, "a.csv"), (1, "a.json"), (2, "a.ndjson"), (2, "a.xlsx"), (1, "a.parquet")] {
        press(&mut app, &"f".repeat(times));
        press(&mut app, "a");
        assert!(shown(&app).contains(file.trim_start_matches('a')), "{file} is proposed");
        answer(&mut app, &dir.path().join(file).display().to_string());
        assert!(app.message.text.contains("read back, equal"), "{file}: {}", app.message.text);
        assert!(std::fs::metadata(dir.path().join(file)).unwrap().len() > 1000);
    }
}

#[test]
fn lines_change_as_the_layout_is_changed_and_the_layout_can_be_saved() {
    let (dir, mut app) = on_demo();
    at(&mut app, '8', "NOKSEK@quill:1m");
    wait(&mut app, "can be written");
    for _ in 0..3 {
        key(&mut app, KeyCode::Down);
    }
    press(&mut app, "..");
    wait(&mut app, "▸dates");
    wait(&mut app, "time,open");
    assert!(shown(&app).contains("day-first"), "{}", shown(&app));
    wait(&mut app, "25.02.2024 ");
    // A form is typed; one that loses the minutes is told before anything is written.
    press(&mut app, "e");
    answer(&mut app, "%d %b %H");
    wait(&mut app, "cannot hold");
    press(&mut app, "e");
    answer(&mut app, "%Y/%m/%d %H:%M");
    wait(&mut app, "can be written");
    press(&mut app, "w");
    answer(&mut app, "slashes");
    wait(&mut app, "the layout slashes is saved");
    let shelf = Shelf::open(dir.path()).unwrap();
    let saved = shelf.layouts().unwrap();
    let saved = saved.iter().find(|l| l.name.as_deref() == Some("slashes")).unwrap();
    assert_eq!(saved.writing.forms.moment.as_deref(), Some("%Y/%m/%d %H:%M"));
    press(&mut app, "x");
    wait(&mut app, "T18:00:00Z");
    press(&mut app, "v");
    wait(&mut app, "median spread in points");
    wait(&mut app, "a round turn of a lot by hour");
    press(&mut app, "y");
    let copied = app.copied.take().unwrap();
    assert!(copied.starts_with("table,what,value") && copied.contains("spread in points,all,"), "{copied}");
    // A month of spreads, and money in the currency of an account.
    assert!(shown(&app).contains("by month") && shown(&app).contains("2024-03"), "{}", shown(&app));
    wait(&mut app, "in SEK");
    press(&mut app, "e");
    answer(&mut app, "nok");
    wait(&mut app, "in NOK");
    wait(&mut app, "of a lot by hour");
    press(&mut app, "e");
    answer(&mut app, "zzz");
    wait(&mut app, "no pair on the shelf leads");
    press(&mut app, "vy");
    assert!(app.copied.take().unwrap().starts_with("time,open,high,low,close"));
}

/// What a feed has stands on one axis with what is here of it, and is fetched from there.
#[test]
fn feeds_are_seen_and_fetched_on_the_bench() {
    let (dir, mut app) = on_demo();
    app.open = 0;
    wait(&mut app, READ);
    press(&mut app, "n");
    assert!(app.message.text.contains("f shows what feeds have"), "{}", app.message.text);
    press(&mut app, "f");
    wait(&mut app, "No feed yet");
    let folder = tempfile::tempdir().unwrap();
    let wish = StandInWish {
        port: 0,
        first_day: days_from_civil(2024, 2, 26),
        folder: folder.path().to_owned(),
        switch: Switch { now: "2024-03-06T12:00:00Z".into(), per_second: 500, ..Switch::default() },
    };
    let service = start(&wish).unwrap();
    let text =
        std::fs::read_to_string(&service.feeds[0]).unwrap().replace("name = \"quill\"", "name = \"far\"");
    let text = text.replace("at_once = 4", "at_once = 4, tries = 1");
    std::fs::write(folder.path().join("far.toml"), text).unwrap();
    let shelf = Shelf::open_to_write(dir.path()).unwrap();
    stavel_work::add_feed(&shelf, &folder.path().join("far.toml")).unwrap();
    drop(shelf);
    press(&mut app, "ff");
    wait(&mut app, "NOKSEK ticks");
    wait(&mut app, "10 pieces");
    assert!(
        shown(&app).contains("nothing here") && shown(&app).contains("far  http://127.0.0.1"),
        "{}",
        shown(&app)
    );
    press(&mut app, "n");
    settle(&mut app);
    assert!(app.message.text.contains("9 pieces fetched"), "{}", app.message.text);
    wait(&mut app, "here until");
    wait(&mut app, "2024-03-06 11:59");
    wait(&mut app, "◐");
    // The next series, within the window only.
    key(&mut app, KeyCode::Down);
    wait(&mut app, "NOKSEK@far:1m");
    press(&mut app, "w");
    settle(&mut app);
    assert!(app.message.text.contains("NOKSEK@far:1m: 2 pieces fetched"), "{}", app.message.text);
    app.size = (80, 24);
    assert!(shown(&app).contains("NOKSEK ticks") && shown(&app).contains("to fetch"), "{}", shown(&app));
    app.size = (160, 47);
    // Nothing is new: an update says so. A service that is gone is told.
    press(&mut app, "p");
    settle(&mut app);
    assert!(app.message.text.contains("0 pieces fetched"), "{}", app.message.text);
    drop(service);
    press(&mut app, "ff");
    wait(&mut app, "refuses the connection");
    key(&mut app, KeyCode::Esc);
    wait(&mut app, "overlap");
}

#[test]
fn a_rehearsal_jumps_to_times_and_refuses_what_is_none() {
    let (_dir, mut app) = on_demo();
    at(&mut app, '9', "NOKSEK@quill:ticks");
    wait(&mut app, "recorded ticks");
    press(&mut app, "j");
    answer(&mut app, "yesterday");
    key(&mut app, KeyCode::Esc);
    assert!(app.message.text.contains("yesterday"), "{}", app.message.text);
    press(&mut app, "j");
    answer(&mut app, "2024-03-29 10:00");
    wait(&mut app, "2024-03-29 10:0");
    press(&mut app, "x");
    settle(&mut app);
    assert!(shown(&app).contains("position 0.00"), "{}", shown(&app));
    press(&mut app, "ss");
    app.tick(Duration::from_millis(50));
    assert!(shown(&app).contains("position -2.00"), "{}", shown(&app));
    press(&mut app, "x");
    app.tick(Duration::from_millis(50));
    assert!(shown(&app).contains("position 0.00"), "{}", shown(&app));
}

#[test]
fn every_size_draws_with_everything_that_can_lie_over_the_bench() {
    let (_dir, mut app) = on_demo();
    wait(&mut app, READ);
    for open in ["", ":", "?", "i", "S"] {
        press(&mut app, open);
        for size in
            [(1, 1), (79, 23), (80, 24), (81, 25), (120, 40), (160, 47), (400, 120), (80, 200), (500, 24)]
        {
            app.size = size;
            for lens in 0..app.lenses.len() {
                app.open = lens;
                let screen = shown(&app);
                assert_eq!(screen.lines().count(), usize::from(size.1), "{open} {size:?}");
            }
        }
        app.size = (160, 47);
        app.overlay = None;
    }
}

/// Keys of every kind, as somebody presses who does not read.
fn any_key(rng: &mut fastrand::Rng) -> KeyEvent {
    let letters: Vec<char> = "123456789abcdefghijlmnoprstuvwxyzAFLMSTUVWZ,.<>[]+-0:?/ ".chars().collect();
    let code = match rng.u8(0..20) {
        0..12 => KeyCode::Char(letters[rng.usize(0..letters.len())]),
        12 | 13 => KeyCode::Enter,
        14 => KeyCode::Esc,
        15 => KeyCode::Tab,
        16 => KeyCode::Up,
        17 => KeyCode::Down,
        18 => KeyCode::Left,
        _ => KeyCode::Right,
    };
    KeyEvent::new(code, if rng.u8(0..30) == 0 { KeyModifiers::CONTROL } else { KeyModifiers::NONE })
}

#[test]
fn no_keys_break_the_bench_and_the_shelf_stays_sound() {
    let start = tempfile::tempdir().unwrap();
    crate::tests::demo_shelf(start.path());
    for seed in 0..6 {
        let mut rng = fastrand::Rng::with_seed(seed);
        // Where files may be written to, and nowhere else.
        let dir = tempfile::tempdir().unwrap();
        copy(start.path(), &dir.path().join("shelf"));
        let mut app = App::new(dir.path().join("shelf"));
        wait(&mut app, READ);
        let mut pressed = Vec::new();
        for _ in 0..120 {
            let key = any_key(&mut rng);
            // What is answered to a question is nothing that could be a path out of here.
            if app.overlay.is_some() && key.code == KeyCode::Enter {
                app.overlay = None;
                continue;
            }
            pressed.push(key.code);
            app.key(key);
            app.quit = false;
            app.tick(Duration::from_millis(rng.u64(0..30)));
            app.size = [(160, 47), (80, 24), (120, 40)][rng.usize(0..3)];
            let screen = shown(&app);
            assert_eq!(screen.lines().count(), usize::from(app.size.1), "after {pressed:?}");
            assert!(!app.message.text.contains("broke"), "{} after {pressed:?}", app.message.text);
        }
        app.overlay = None;
        press(&mut app, "\x1b");
        settle(&mut app);
        let shelf = Shelf::open(&dir.path().join("shelf")).unwrap();
        let verified = shelf.verify(None, &stavel_core::job::Job::unwatched()).unwrap();
        assert!(verified.faults.is_empty(), "{:?} after {pressed:?}", verified.faults);
    }
}

fn copy(from: &std::path::Path, to: &std::path::Path) {
    std::fs::create_dir_all(to).unwrap();
    for entry in std::fs::read_dir(from).unwrap() {
        let (path, name) = entry.map(|e| (e.path(), e.file_name())).unwrap();
        if path.is_dir() {
            copy(&path, &to.join(name));
        } else {
            std::fs::copy(path, to.join(name)).unwrap();
        }
    }
}

#[test]
fn the_whole_job_is_asked_for_on_an_empty_shelf_and_done() {
    let dir = tempfile::tempdir().unwrap();
    let mut app = App::new(dir.path().join("shelf"));
    wait(&mut app, "does the whole job in one go");
    let demo = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo");
    press(&mut app, "A");
    press(&mut app, "/nowhere\n");
    assert!(app.overlay.is_some() && shown(&app).contains("there is no /nowhere"), "{}", shown(&app));
    answer(&mut app, &demo.join("quill/NOKSEK_1m").display().to_string());
    wait(&mut app, "files or folders of the broker");
    answer(&mut app, &demo.join("tarn/NOKSEK_1m.csv").display().to_string());
    wait(&mut app, "folder for the files and the recipe");
    answer(&mut app, &dir.path().join("out").display().to_string());
    assert!(app.message.text.contains("9 steps done"), "{}", app.message.text);
    assert!(dir.path().join("out/recipe.toml").exists());
    assert!(shown(&app).contains("joined:1m"));
    press(&mut app, "z");
    settle(&mut app);
    assert!(app.snapshot.series.is_empty(), "one act: {}", app.message.text);
}

#[test]
fn hours_are_painted_kept_and_left_as_they_were_by_esc() {
    let (dir, mut app) = on_demo();
    at(&mut app, '7', "NOKSEK@tarn:1m");
    let before = value(&dir, "NOKSEK", "hours");
    press(&mut app, " ");
    assert!(app.message.text.contains("p begins to paint"), "{}", app.message.text);
    press(&mut app, "px");
    wait(&mut app, "painting hours in");
    press(&mut app, "\x1b");
    assert!(!shown(&app).contains("painting") && value(&dir, "NOKSEK", "hours") == before);
    press(&mut app, "p");
    (0..7).for_each(|_| {
        press(&mut app, "x");
        key(&mut app, KeyCode::Down);
    });
    (0..7).for_each(|_| key(&mut app, KeyCode::Up));
    press(&mut app, "p");
    assert!(app.message.text.contains("never open"), "{}", app.message.text);
    press(&mut app, "    dp");
    settle(&mut app);
    assert_eq!(
        value(&dir, "NOKSEK", "hours"),
        "mon-tue 09:00-11:00 America/New_York",
        "{}",
        app.message.text
    );
}

#[test]
fn the_mouse_paints_hours_whose_rows_are_counted_and_single_days_are_said() {
    let (dir, mut app) = on_anchored_demo();
    at(&mut app, '7', "NOKSEK@quill:1m");
    wait(&mut app, "rows inside");
    let lens = crate::screen::places(&app, Rect { x: 0, y: 0, width: 160, height: 47 }).lens;
    let mouse = |app: &mut App, kind, column: u16, row: u16| {
        let (column, row) = (lens.x + column, lens.y + row);
        crate::terminal::handle_mouse(app, MouseEvent { kind, column, row, modifiers: KeyModifiers::NONE });
        settle(app);
    };
    let count = |app: &App| {
        let screen = shown(app);
        let line = screen.lines().find(|l| l.contains("rows inside")).unwrap().to_owned();
        let inside = line.split(" rows inside").next().unwrap().rsplit("  ").next().unwrap();
        inside.chars().filter(char::is_ascii_digit).collect::<String>().parse::<u64>().unwrap()
    };
    let before = count(&app);
    // The grid stands at column 70 of the lens; its first hour is at 6, Tuesday in its second line.
    mouse(&mut app, MouseEventKind::Down(MouseButton::Left), 70 + 6 + 18, 1 + 2 + 1);
    mouse(&mut app, MouseEventKind::Drag(MouseButton::Left), 70 + 6 + 19, 1 + 2 + 1);
    wait(&mut app, "painting hours in America/New_York");
    assert!(count(&app) < before, "an hour less is open");
    press(&mut app, "t");
    answer(&mut app, "Europe/Oslo");
    wait(&mut app, "painting hours in Europe/Oslo");
    press(&mut app, "p");
    settle(&mut app);
    let hours = value(&dir, "NOKSEK", "hours");
    // In the weeks of March in which only America has summer time.
    assert_eq!(hours, "tue 15:00 - fri 22:00, sun 22:00 - tue 14:00 Europe/Oslo");
    press(&mut app, "e");
    answer(&mut app, "2024-12-24 -13:00");
    press(&mut app, "e");
    answer(&mut app, "2024-12-25 closed");
    let days = || value(&dir, "NOKSEK", "holidays");
    assert!(days().ends_with("2024-01-01, 2024-12-24 -13:00, 2024-12-25"), "{}", days());
    press(&mut app, "e");
    answer(&mut app, "2024-12-24 open");
    assert!(days().ends_with("2024-01-01, 2024-12-25"), "{}", days());
    press(&mut app, "e");
    answer(&mut app, "soon");
    assert!(app.message.text.contains("soon"), "{}", app.message.text);
}

#[test]
fn a_variant_is_made_named_and_made_again_on_the_bench() {
    let (dir, mut app) = on_anchored_demo();
    at(&mut app, '7', "NOKSEK@quill:1m");
    press(&mut app, "n");
    answer(&mut app, "NOKSEK.early");
    press(&mut app, "m");
    answer(&mut app, "days=mon-thu shift=1h add-spread=3");
    let made = || edition(&dir, "NOKSEK.early@quill:1m");
    assert_eq!(made(), Some(1), "{}", app.message.text);
    wait(&mut app, "made of NOKSEK@quill:1m");
    wait(&mut app, "moved by 1 h");
    press(&mut app, "a");
    settle(&mut app);
    assert_eq!(made(), Some(2), "{}", app.message.text);
    press(&mut app, "m");
    answer(&mut app, "sideways=3");
    assert!(app.message.text.contains("--sideways"), "{}", app.message.text);
}

#[test]
fn frames_of_both_sides_of_counts_and_sets_are_built_and_long_bars_compared() {
    let (dir, mut app) = on_anchored_demo();
    Shelf::open_to_write(dir.path()).unwrap().save_frame_set("swing", &["4h".parse().unwrap()]).unwrap();
    at(&mut app, '6', "NOKSEK@tarn:1m");
    press(&mut app, "s");
    assert!(app.message.text.contains("bars have one side"), "{}", app.message.text);
    press(&mut app, "o");
    answer(&mut app, "swing");
    assert_eq!(edition(&dir, "NOKSEK@tarn:4h"), Some(1), "{}", app.message.text);
    press(&mut app, "o");
    answer(&mut app, "ticks");
    assert_eq!(edition(&dir, "NOKSEK@tarn:ticks"), Some(1), "{}", app.message.text);
    press(&mut app, "c");
    settle(&mut app);
    assert!(shown(&app).contains("no longer bars of its own"), "{}", shown(&app));
    press(&mut app, "\x1bo");
    answer(&mut app, "500t");
    assert!(app.message.text.contains("bars of 500t cannot be made of"), "{}", app.message.text);
}

#[test]
fn the_chosen_frame_is_seen_before_it_is_built() {
    let (_dir, mut app) = on_anchored_demo();
    app.select(name("NOKSEK@quill:1m"));
    press(&mut app, "6");
    key(&mut app, KeyCode::Down);
    settle(&mut app);
    wait(&mut app, "bars of 5m");
    assert_eq!(app.snapshot.series_of("NOKSEK").filter(|s| s.edition.provenance.made.is_framed()).count(), 0);
}

#[test]
fn a_chart_shows_its_whole_window_with_and_without_gaps() {
    let (_dir, mut app) = on_demo();
    at(&mut app, '2', "NOKSEK@tarn:1m");
    for size in [(160, 47), (120, 40), (80, 24)] {
        app.size = size;
        for zoom in ["0", "+", "+", "+", "+", "+"] {
            press(&mut app, zoom);
            for gaps in ["", "t", "t"] {
                press(&mut app, gaps);
                settle(&mut app);
                // The first bar that is drawn is the first of the window: the cursor goes no farther back.
                press(&mut app, &",".repeat(400));
                let first = app.lens().cursor().unwrap();
                let from =
                    app.window.from.max(app.snapshot.find(&name("NOKSEK@tarn:1m")).unwrap().edition.first);
                let bars = (app.window.length() / i64::from(size.0)).max(stavel_core::model::time::DAY * 4);
                assert!(first - from < bars, "{size:?} {zoom}{gaps}: {first} {from}\n{}", shown(&app));
                assert!(
                    shown(&app).contains('┊')
                        || crate::tests::drawn(&app).content.iter().any(|c| c.bg == crate::theme::CURSOR),
                    "the cursor is in view: {size:?} {zoom}{gaps}\n{}",
                    shown(&app)
                );
            }
        }
    }
}

#[test]
fn a_frame_of_another_length_is_built_and_listed_and_partial_ends_are_marked() {
    let (_dir, mut app) = on_anchored_demo();
    app.select("NOKSEK@quill:1m".parse().unwrap());
    press(&mut app, "6o");
    press(&mut app, "45m 1x\n");
    assert!(app.message.text.contains("'1x' is not a frame"), "{}", app.message.text);
    assert!(shown(&app).contains("45m 1x"), "what was typed stands again");
    press(&mut app, "\x1bo30m 500t\n");
    assert!(app.message.text.contains("bars of 500t cannot be made of 1m"), "{}", app.message.text);
    press(&mut app, "\x1bo45m, 2w\n");
    settle(&mut app);
    let screen = shown(&app);
    let line = |frame: &str| {
        screen.lines().find(|l| l.starts_with(&format!(" {frame} "))).unwrap_or_default().to_owned()
    };
    assert!(line("45m").contains("● built") && line("2w").contains("● built"), "{screen}");
    // Two weeks are more than the rows fill at either end; three quarters of an hour are not at the first.
    assert_eq!((line("2w").matches('◐').count(), line("1h").matches('◐').count()), (2, 0), "{screen}");
    assert!(screen.contains("◐ partial"), "{screen}");
    let order = ["30m", "45m", "1h", "1w", "2w", "1mo"]
        .map(|f| screen.lines().position(|l| l.starts_with(&format!(" {f} "))));
    assert!(order.is_sorted() && order[0].is_some(), "{order:?}");
}
