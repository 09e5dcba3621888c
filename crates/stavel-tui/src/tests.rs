//! The bench without a terminal: acts go in, the screen is read from a buffer.

use std::path::Path;
use std::time::{Duration, Instant};

use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use ratatui::layout::Rect;
use stavel_core::job::Job;
use stavel_core::model::Span;
use stavel_core::store::Shelf;
use stavel_work::{Recipe, Step, apply};

use crate::act::{Act, Common};
use crate::app::App;
use crate::{screen, terminal};

/// A shelf with the small demo's NOKSEK series, as a person has it after intake.
pub(crate) fn demo_shelf(folder: &Path) {
    let recipe = Recipe::read(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/noksek.toml")).unwrap();
    let mut shelf = Shelf::open_to_write(folder).unwrap();
    for step in recipe.step.iter().take_while(|s| matches!(s, Step::Compose(_) | Step::Intake(_))) {
        apply(&mut shelf, step, &Job::unwatched()).unwrap();
    }
}

/// On the screen once the shelf of the demo was read.
pub(crate) const READ: &str = "next ▸ g check ";

/// A bench on such a shelf, which lasts as long as its folder.
pub(crate) fn on_demo() -> (tempfile::TempDir, App) {
    let dir = tempfile::tempdir().unwrap();
    demo_shelf(dir.path());
    let app = App::new(dir.path().to_owned());
    (dir, app)
}

/// The screen as text.
pub(crate) fn shown(app: &App) -> String {
    text_of(&drawn(app))
}

/// The screen as it is drawn, before it gets its colours.
pub(crate) fn drawn(app: &App) -> Buffer {
    let area = Rect { x: 0, y: 0, width: app.size.0, height: app.size.1 };
    let mut buffer = Buffer::empty(area);
    screen::draw_bench(app, area, &mut buffer);
    buffer
}

/// A picture as lines of text.
pub(crate) fn text_of(buffer: &Buffer) -> String {
    let area = buffer.area;
    let line = |y: u16| (0..area.width).map(|x| buffer[(x, y)].symbol()).collect::<String>();
    (0..area.height).map(|y| line(y).trim_end().to_owned() + "\n").collect()
}

/// Lets threads answer until the screen shows some words; fails with the screen after a minute.
pub(crate) fn wait(app: &mut App, words: &str) {
    let end = Instant::now() + Duration::from_secs(60);
    while !shown(app).contains(words) {
        assert!(Instant::now() < end, "never saw '{words}' in\n{}", shown(app));
        app.tick(Duration::ZERO);
        std::thread::yield_now();
    }
}

/// Lets threads answer until none is at work, no step runs and nothing more is wanted.
pub(crate) fn settle(app: &mut App) {
    let end = Instant::now() + Duration::from_secs(60);
    let mut quiet = 0;
    while quiet < 3 {
        assert!(Instant::now() < end, "threads never came to rest");
        let is_idle = app.threads.is_idle();
        app.tick(Duration::ZERO);
        quiet = if is_idle && app.threads.is_idle() && app.running.is_none() { quiet + 1 } else { 0 };
        std::thread::yield_now();
    }
}

/// A bench on such a shelf whose broker's clock is found and taken.
pub(crate) fn on_anchored_demo() -> (tempfile::TempDir, App) {
    let (dir, mut app) = on_demo();
    wait(&mut app, READ);
    app.open_lens("align");
    wait(&mut app, "a stores it in UTC");
    press(&mut app, "a");
    wait(&mut app, "anchored: stored in UTC");
    settle(&mut app);
    (dir, app)
}

pub(crate) fn press(app: &mut App, keys: &str) {
    for c in keys.chars() {
        let code = match c {
            '\n' => KeyCode::Enter,
            '\x1b' => KeyCode::Esc,
            '\t' => KeyCode::Tab,
            c => KeyCode::Char(c),
        };
        app.key(KeyEvent::new(code, KeyModifiers::NONE));
    }
}

pub(crate) fn key(app: &mut App, code: KeyCode) {
    app.key(KeyEvent::new(code, KeyModifiers::NONE));
}

/// Answers what is asked, in the place of what is proposed.
pub(crate) fn answer(app: &mut App, text: &str) {
    app.key(KeyEvent::new(KeyCode::Char('u'), KeyModifiers::CONTROL));
    press(app, &format!("{text}\n"));
    settle(app);
}

#[test]
fn an_answer_is_offered_again_where_the_same_is_asked() {
    let (dir, mut app) = on_demo();
    wait(&mut app, READ);
    let key = |app: &mut App, code| app.key(KeyEvent::new(code, KeyModifiers::NONE));
    let path = dir.path().join("mine.toml").display().to_string();
    press(&mut app, "S");
    app.key(KeyEvent::new(KeyCode::Char('u'), KeyModifiers::CONTROL));
    press(&mut app, &format!("{path}\n"));
    wait(&mut app, "mine.toml");
    press(&mut app, "S");
    wait(&mut app, "recipe.toml");
    wait(&mut app, "earlier answers");
    key(&mut app, KeyCode::Up);
    wait(&mut app, &path);
    key(&mut app, KeyCode::Down);
    wait(&mut app, "recipe.toml");
    key(&mut app, KeyCode::Esc);
    assert!(app.overlay.is_none());
}

#[test]
fn an_empty_shelf_says_what_to_do_and_wrong_files_are_told_in_the_form() {
    let dir = tempfile::tempdir().unwrap();
    let mut app = App::new(dir.path().join("shelf"));
    wait(&mut app, "The shelf is empty");
    for lens in 0..app.lenses.len() {
        app.act(Act::Open(lens));
        app.tick(Duration::ZERO);
        assert!(shown(&app).contains("g import files"), "{}", app.lens().word());
    }
    press(&mut app, "1i");
    press(&mut app, "/nowhere/x.csv\tquill");
    wait(&mut app, "There is no file /nowhere/x.csv");
    press(&mut app, "\n");
    wait(&mut app, "check the path");
    assert!(app.running.is_none());
}

#[test]
fn the_work_from_afloat_to_frames_by_keys_at_both_sizes() {
    let (_dir, mut app) = on_demo();
    wait(&mut app, READ);
    press(&mut app, "5");
    wait(&mut app, "its clock has to be found first");
    press(&mut app, "3");
    wait(&mut app, "trade begins and ends 1 h late");
    wait(&mut app, "◐ hours sun 17:00");
    app.open_lens("align");
    wait(&mut app, "midnight is 17:00 in New York");
    press(&mut app, "a");
    wait(&mut app, "anchored: stored in UTC");
    press(&mut app, "5");
    wait(&mut app, "✓ adds up");
    press(&mut app, "a");
    wait(&mut app, "joined:1m is edition 1");
    press(&mut app, "6a");
    wait(&mut app, "all up to date");
    wait(&mut app, "○ clock America/New_York+7h");
    app.size = (80, 24);
    for (lens, words) in [
        "rows",
        "O 1.0",
        "findings in",
        "New_York+7h",
        "overlap",
        "built",
        "tick_size",
        "can be written",
        "pace",
    ]
    .into_iter()
    .enumerate()
    {
        app.act(Act::Open(lens));
        wait(&mut app, words);
        for line in shown(&app).lines() {
            assert!(line.chars().count() <= 80);
        }
    }
    app.size = (79, 24);
    assert!(shown(&app).contains("Stavel needs 80x24; this is 79x24"));
}

/// What is next, with the bench at rest.
fn due(app: &mut App) -> String {
    settle(app);
    app.next_in_words()
}

#[test]
fn the_hint_leads_from_raw_rows_to_the_delivery_with_one_key() {
    let (dir, mut app) = on_demo();
    let mut told = Vec::new();
    loop {
        let next = due(&mut app);
        told.push(next.clone());
        if next.starts_with("deliver") {
            break;
        }
        assert!(told.len() < 40, "{told:?}");
        press(&mut app, "g");
    }
    let at = |words: &str| {
        told.iter().position(|t| t.starts_with(words)).unwrap_or_else(|| panic!("no {words} in {told:#?}"))
    };
    // Each series is checked, anchored and mended before they are joined, and joined before frames are built.
    assert!(
        at("check quill:1m") < at("join the sources")
            && at("check tarn:1m") < at("find the clock of tarn:1m")
    );
    assert!(at("accept the clock found for tarn:1m") < at("join the sources"));
    assert!(at("do the mends chosen") < at("write the joined history"));
    assert!(at("write the joined history") < at("build frames of joined:1m"));
    let shelf = Shelf::open(dir.path()).unwrap();
    for series in ["NOKSEK@joined:1m", "NOKSEK@joined:4h", "NOKSEK@joined:1d"] {
        assert!(shelf.find(&series.parse().unwrap()).is_ok(), "{series}");
    }
    // A bar of the joined history says by name whose it is.
    app.select("NOKSEK@joined:1m".parse().unwrap());
    press(&mut app, "2++++");
    wait(&mut app, "bars of");
    let line = shown(&app).lines().find(|l| l.contains("origin")).map(str::to_owned).unwrap_or_default();
    assert!(line.contains("tarn:1m") || line.contains("quill:1m"), "{line}");
    // What changes below is the next thing again: a mend undone makes the joined series stale.
    app.select("NOKSEK@quill:1m".parse().unwrap());
    press(&mut app, "u");
    let next = due(&mut app);
    assert!(next.contains("mend what is safe in quill:1m"), "{next}");
}

#[test]
fn what_is_wrong_is_told_at_length_on_a_small_screen() {
    let (_dir, mut app) = on_demo();
    app.size = (80, 24);
    wait(&mut app, READ);
    let words = |app: &App| shown(app).split_whitespace().collect::<Vec<_>>().join(" ");
    let sentence = "ten words of a sentence that no line of eighty columns holds ".repeat(5);
    app.say(sentence.trim_end(), crate::effect::Tone::Wrong);
    assert!(words(&app).contains(&format!("▲ {}", sentence.trim_end())), "{}", shown(&app));
    // The keys are still there, and so it is where an answer came to nothing.
    assert!(shown(&app).contains("q quit"));
    press(&mut app, "A/no/such/folder\n");
    assert!(words(&app).contains("there is no /no/such/folder"), "{}", shown(&app));
    assert!(shown(&app).lines().rev().nth(1).is_some_and(|l| l.contains("files or folders of the vendor")));
    app.say(sentence.trim_end(), crate::effect::Tone::Wrong);
    let (told, screen) = (words(&app), shown(&app));
    assert!(
        told.contains(sentence.trim_end()) && told.contains("files or folders of the vendor"),
        "{screen}"
    );
    // What went well is cut with a mark.
    press(&mut app, "\x1b");
    app.say(sentence, crate::effect::Tone::Good);
    assert!(
        shown(&app).lines().rev().nth(1).is_some_and(|l| l.starts_with(" ✓ ten words") && l.ends_with('…'))
    );
}

#[test]
fn what_was_checked_before_the_bench_was_opened_is_not_asked_for_again() {
    let (dir, mut app) = on_demo();
    let first = due(&mut app);
    assert!(first.starts_with("check quill:1m"), "{first}");
    {
        let shelf = Shelf::open(dir.path()).unwrap();
        let series = "NOKSEK@quill:1m".parse().unwrap();
        stavel_core::check::check_series(&shelf, &series, Span::ALL, &Job::unwatched()).unwrap();
    }
    let mut again = App::new(dir.path().to_owned());
    wait(&mut again, "next ▸ g ");
    let next = due(&mut again);
    assert!(next.starts_with("mend what is safe in quill:1m"), "{next}");
    assert!(shown(&again).contains("grade "));
    // The bench that was open all the while sees it too.
    app.tick(Duration::from_millis(500));
    wait(&mut app, "grade ");
}

#[test]
fn where_no_clock_is_known_one_is_said_with_the_weeks_as_evidence() {
    let dir = tempfile::tempdir().unwrap();
    demo_shelf(dir.path());
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    // Only the broker's minutes are left: nothing can be compared with them.
    for series in ["NOKSEK@quill:1m", "NOKSEK@quill:ticks"] {
        let step = format!("act = 'shelf'\nseries = '{series}'\nremove = true");
        apply(&mut shelf, &toml::from_str::<Step>(&step).unwrap(), &Job::unwatched()).unwrap();
    }
    drop(shelf);
    let mut app = App::new(dir.path().to_owned());
    wait(&mut app, "next ▸ g tarn:1m has no clock: set it");
    press(&mut app, "g");
    wait(&mut app, "by it 4 of 4 weeks close when");
    // It closes at midnight, the whole year: the clock that explains all weeks stands first.
    let first = shown(&app).lines().find(|l| l.contains("  4 of 4")).map(str::to_owned).unwrap_or_default();
    assert!(first.contains("America/New_York+7h"), "{first}");
    // Friday is busy to its last quarter as written, and Saturday is silent.
    let screen = shown(&app);
    let of_day =
        |day: &str| screen.lines().find(|l| l.trim_start().starts_with(day)).unwrap_or_default().to_owned();
    let painted = |day: &str| of_day(day).chars().filter(|c| "█▓▒░".contains(*c)).count();
    assert_eq!((painted("fri "), painted("sat ")), (96, 0), "{screen}");
    // A clock that explains fewer is taken only when it is asked for twice.
    app.key(KeyEvent::new(KeyCode::Down, KeyModifiers::NONE));
    press(&mut app, "a");
    assert!(
        app.message.text.contains("a again takes it all the same") && app.running.is_none(),
        "{}",
        app.message.text
    );
    app.key(KeyEvent::new(KeyCode::Up, KeyModifiers::NONE));
    press(&mut app, "g");
    let screen = shown(&app);
    assert!(screen.contains("Which clock do the times of tarn:1m follow?"), "{screen}");
    assert!(screen.lines().any(|l| l.contains(" 1 ") && l.contains("America/New_York+7h")), "{screen}");
    press(&mut app, "\n");
    wait(&mut app, "is taken to be written in");
    settle(&mut app);
    let shelf = Shelf::open(dir.path()).unwrap();
    let clock = shelf.find(&"NOKSEK@tarn:1m".parse().unwrap()).unwrap().edition.clock;
    assert_eq!(clock.map(|c| c.to_string()).as_deref(), Some("America/New_York+7h"));
}

#[test]
fn what_a_command_does_beside_the_bench_is_seen() {
    let (dir, mut app) = on_demo();
    wait(&mut app, READ);
    settle(&mut app);
    let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
    let step = "act = 'shelf'\nseries = 'NOKSEK@quill:ticks'\nrename = 'NOKSEK@beside:ticks'";
    apply(&mut shelf, &toml::from_str::<Step>(step).unwrap(), &Job::unwatched()).unwrap();
    drop(shelf);
    assert!(!shown(&app).contains("beside:ticks"));
    // Half a second passes, and the answer of a thread.
    app.tick(Duration::from_millis(500));
    wait(&mut app, "beside:ticks");
}

#[test]
fn leaving_asks_while_a_job_runs_and_esc_leaves_the_innermost_first() {
    let (_dir, mut app) = on_anchored_demo();
    app.select("NOKSEK@tarn:1m".parse().unwrap());
    press(&mut app, "6a");
    assert!(app.running.is_some());
    press(&mut app, "q");
    assert!(!app.quit && app.message.text.contains("q again stops it"), "{}", app.message.text);
    // Any other key takes the question back.
    press(&mut app, "]q");
    assert!(!app.quit);
    press(&mut app, "q");
    assert!(app.quit);
    app.quit = false;
    settle(&mut app);
    press(&mut app, "1/");
    press(&mut app, "1m quill\n");
    wait(&mut app, "filter: 1m quill");
    press(&mut app, "h");
    wait(&mut app, "edition");
    press(&mut app, "\x1b");
    wait(&mut app, "filter: 1m quill");
    press(&mut app, "\x1b");
    assert!(!shown(&app).contains("filter: 1m"), "{}", shown(&app));
}

#[test]
fn what_was_typed_stands_again_where_it_came_to_nothing() {
    let (_dir, mut app) = on_demo();
    wait(&mut app, READ);
    press(&mut app, "1r");
    app.key(KeyEvent::new(KeyCode::Char('u'), KeyModifiers::CONTROL));
    press(&mut app, "no name\n");
    let screen = shown(&app);
    assert!(app.overlay.is_some() && screen.contains("no name▏") && screen.contains("▲ "), "{screen}");
    press(&mut app, "\x1b");
    // A file that cannot be written is told by the job, and asked for again.
    settle(&mut app);
    press(&mut app, "2");
    settle(&mut app);
    press(&mut app, "P");
    app.key(KeyEvent::new(KeyCode::Char('u'), KeyModifiers::CONTROL));
    press(&mut app, "picture.jpg\n");
    settle(&mut app);
    assert!(app.overlay.is_some() && shown(&app).contains("picture.jpg▏"), "{}", shown(&app));
}

#[test]
fn the_mouse_pans_zooms_and_marks_on_the_chart() {
    let (_dir, mut app) = on_demo();
    wait(&mut app, READ);
    press(&mut app, "2++");
    settle(&mut app);
    let before = app.window;
    let lens = screen::places(&app, Rect { x: 0, y: 0, width: 160, height: 47 }).lens;
    let mouse = |app: &mut App, kind, column: u16, row: u16| {
        let (column, row) = (lens.x + column, lens.y + row);
        terminal::handle_mouse(app, MouseEvent { kind, column, row, modifiers: KeyModifiers::NONE });
        settle(app);
    };
    mouse(&mut app, MouseEventKind::Down(MouseButton::Left), 60, 12);
    let marked = app.lens().cursor().unwrap();
    assert!(before.holds(marked));
    // The price that was pressed stands on the scale and the line of the cursor goes across.
    mouse(&mut app, MouseEventKind::Drag(MouseButton::Left), 40, 12);
    assert_eq!(app.window.length(), before.length());
    assert!(app.window.from > before.from, "dragged to the left, later time comes in");
    let dragged = app.window;
    mouse(&mut app, MouseEventKind::ScrollUp, 30, 12);
    assert!(app.window.length() < dragged.length() && app.window.from > dragged.from);
    let about = |w: Span| (w.from, w.to);
    mouse(&mut app, MouseEventKind::ScrollDown, 30, 12);
    assert_ne!(about(app.window), about(before));
    (0..40).for_each(|_| mouse(&mut app, MouseEventKind::ScrollDown, 30, 12));
    assert_eq!(app.window, app.whole());
}

#[test]
fn undo_steps_back_and_a_second_job_waits_its_turn() {
    let (_dir, mut app) = on_demo();
    wait(&mut app, READ);
    press(&mut app, "4");
    wait(&mut app, "a stores it in UTC");
    app.select("NOKSEK@tarn:1m".parse().unwrap());
    press(&mut app, "au");
    assert!(app.message.text.contains("align is still running"), "{}", app.message.text);
    wait(&mut app, "anchored: stored in UTC");
    press(&mut app, "u");
    wait(&mut app, "a stores it in UTC");
}

#[test]
fn palette_help_mouse_and_window() {
    let (_dir, mut app) = on_demo();
    wait(&mut app, READ);
    press(&mut app, ":oldest\x1b:integ\x1b:find the clock\n");
    assert_eq!(app.lens().word(), "align");
    press(&mut app, "?");
    assert!(shown(&app).contains("every key"));
    press(&mut app, "\x1b");
    let whole = app.window;
    press(&mut app, "++");
    assert_eq!(app.window.length(), whole.length() / 4);
    app.act(Act::Common(Common::PanBack));
    assert!(app.window.from < whole.from + whole.length() * 3 / 8);
    let click = |column, row| MouseEvent {
        kind: MouseEventKind::Down(MouseButton::Left),
        column,
        row,
        modifiers: KeyModifiers::NONE,
    };
    let places = screen::places(&app, Rect { x: 0, y: 0, width: 160, height: 47 });
    terminal::handle_mouse(&mut app, click(14, places.spine.y + 1));
    assert!(app.window.from < whole.from, "the window is centred on the first day");
    terminal::handle_mouse(&mut app, click(12, places.bar.y));
    assert_eq!(app.lens().word(), "chart");
    terminal::handle_mouse(
        &mut app,
        MouseEvent { kind: MouseEventKind::ScrollUp, ..click(60, places.spine.y + 1) },
    );
    assert!(app.window.length() < whole.length() / 4);
    press(&mut app, "0");
    assert_eq!(app.window, whole);
    press(&mut app, "q");
    assert!(app.quit);
}

#[test]
fn a_rehearsal_runs_deals_and_names_the_nearest_data() {
    let (_dir, mut app) = on_demo();
    wait(&mut app, READ);
    app.select("NOKSEK@quill:ticks".parse().unwrap());
    press(&mut app, "9");
    wait(&mut app, "recorded ticks");
    press(&mut app, "b>>> ");
    (0..40).for_each(|_| {
        app.tick(Duration::from_millis(50));
    });
    press(&mut app, " x");
    let shown = shown(&app);
    assert!(
        shown.contains("sold 1.00 at")
            && shown.contains("commission 35.00")
            && shown.contains("position 0.00"),
        "{shown}"
    );
    press(&mut app, &"d".repeat(40));
    settle(&mut app);
    press(&mut app, "d");
    assert!(app.message.text.contains("no later day has data"), "{}", app.message.text);
}

#[test]
fn what_comes_from_files_cannot_steer_the_terminal() {
    let dir = tempfile::tempdir().unwrap();
    let file = dir.path().join("x.csv");
    std::fs::write(&file, "time,open\u{1b}[31m\n".to_owned() + &"2024-01-01 00:00,1\n".repeat(20)).unwrap();
    let mut app = App::new(dir.path().join("shelf"));
    wait(&mut app, "The shelf is empty");
    press(&mut app, "i");
    app.paste(&format!("'{}'", file.display()));
    press(&mut app, "\tquill");
    wait(&mut app, "no prices");
    assert!(!shown(&app).contains('\u{1b}'));
}

/// The line of the screen that holds some words.
fn line_with(app: &App, words: &str) -> String {
    let screen = shown(app);
    screen
        .lines()
        .find(|l| l.contains(words))
        .unwrap_or_else(|| panic!("no '{words}' in\n{screen}"))
        .to_owned()
}

#[test]
fn a_cut_is_moved_with_live_numbers_and_a_stale_series_is_joined_again() {
    let (dir, mut app) = on_demo();
    wait(&mut app, READ);
    press(&mut app, "4");
    wait(&mut app, "a stores it in UTC");
    press(&mut app, "a");
    wait(&mut app, "anchored: stored in UTC");
    press(&mut app, "5");
    wait(&mut app, "✓ adds up");
    press(&mut app, "y");
    wait(&mut app, "1 quill:ticks");
    press(&mut app, "yp");
    wait(&mut app, "rows quill:1m");
    press(&mut app, "prrr");
    wait(&mut app, "rule cut 2");
    wait(&mut app, "+60 min");
    wait(&mut app, "rows tarn:1m");
    let seam = line_with(&app, "seam 2");
    let rows = line_with(&app, "rows tarn:1m");
    press(&mut app, ">");
    let end = Instant::now() + Duration::from_secs(60);
    while line_with(&app, "seam 2") == seam || line_with(&app, "rows tarn:1m") == rows {
        assert!(Instant::now() < end, "the cut stayed at {seam}");
        app.tick(Duration::ZERO);
    }
    press(&mut app, "a");
    wait(&mut app, "joined:1m is edition 1");
    assert!(shown(&app).contains("it is up to date"));
    press(&mut app, "\n");
    wait(&mut app, "⠒⠒ quill:1m");
    assert_eq!(app.lens().word(), "chart");

    press(&mut app, "3");
    app.select("NOKSEK@quill:1m".parse().unwrap());
    press(&mut app, "0");
    wait(&mut app, "findings in this window");
    press(&mut app, "M");
    wait(&mut app, "mends chosen");
    press(&mut app, "a");
    settle(&mut app);
    assert!(app.message.text.contains("mended"), "{}", app.message.text);
    press(&mut app, "1");
    wait(&mut app, "▲ stale");
    press(&mut app, "5");
    wait(&mut app, "stale: quill:1m");
    press(&mut app, "a");
    wait(&mut app, "joined:1m is edition 2");
    assert!(shown(&app).contains("it is up to date"));
    // Another bench goes on with the rule the series was joined by.
    let mut app = App::new(dir.path().to_owned());
    wait(&mut app, "joined:1m");
    press(&mut app, "5");
    wait(&mut app, "rule cut 2");
}

#[test]
fn hours_of_the_week_and_worst_days_lead_to_the_chart() {
    let (_dir, mut app) = on_demo();
    wait(&mut app, READ);
    app.select("NOKSEK@quill:1m".parse().unwrap());
    press(&mut app, "3v");
    wait(&mut app, "mon 00:00");
    press(&mut app, "..,");
    app.act(Act::Common(Common::Down));
    wait(&mut app, "tue 01:00");
    press(&mut app, "\n");
    assert_eq!(app.lens().word(), "chart");
    // Tuesday at one on the session's clock is in the middle of the window.
    let middle = (app.window.from + app.window.to) / 2;
    let clock = &app.snapshot.instrument("NOKSEK").unwrap().sheet.session.clock;
    let shown = stavel_core::model::time::wall(clock.to_wall(middle));
    let day = stavel_core::model::time::weekday(clock.day_of(middle));
    assert!(day == 1 && shown.ends_with("01:30"), "{shown}");
    press(&mut app, "3o");
    wait(&mut app, "worst days");
    press(&mut app, "\n");
    assert_eq!(app.lens().word(), "chart");
    wait(&mut app, "⠒⠒ quill:ticks");
}
