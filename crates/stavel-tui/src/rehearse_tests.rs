//! The rehearsal lens by keys: orders, time, panes, what is kept.

use std::time::Duration;

use ratatui::crossterm::event::{KeyCode, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use ratatui::layout::Rect;
use stavel_core::model::time::{MINUTE, parse};

use crate::app::App;
use crate::tests::{READ, answer, key, on_demo, press, settle, shown, wait};

/// A bench that rehearses ticks, held at the opening of a day with deals in it.
pub fn rehearsing() -> (tempfile::TempDir, App) {
    let (dir, mut app) = on_demo();
    rehearse(&mut app, "NOKSEK@quill:ticks");
    jump(&mut app, "2024-03-28 10:00");
    (dir, app)
}

pub fn rehearse(app: &mut App, series: &str) {
    wait(app, READ);
    app.select(series.parse().unwrap());
    press(app, "9");
    settle(app);
    wait(app, "position 0.00");
}

fn jump(app: &mut App, to: &str) {
    press(app, "j");
    answer(app, to);
    wait(app, "ask");
}

/// Some beats at the pace that is set.
fn run(app: &mut App, beats: usize) {
    press(app, " ");
    (0..beats).for_each(|_| {
        app.tick(Duration::from_millis(50));
    });
    press(app, " ");
    settle(app);
}

/// The text after some words on the screen, up to the next gap.
fn after(app: &App, words: &str) -> String {
    let screen = shown(app);
    let at = screen.find(words).unwrap_or_else(|| panic!("no '{words}' in\n{screen}")) + words.len();
    screen[at..].trim_start().split("  ").next().unwrap_or_default().trim().to_owned()
}

fn number(text: &str) -> f64 {
    text.split_whitespace().next().unwrap().parse().unwrap_or_else(|_| panic!("'{text}' is no number"))
}

#[test]
fn a_bracket_stands_on_the_chart_moves_by_keys_and_goes_with_the_position() {
    let (_dir, mut app) = rehearsing();
    press(&mut app, "K");
    answer(&mut app, "tight stop 2000pt target 3000pt");
    press(&mut app, "b");
    settle(&mut app);
    let screen = shown(&app);
    assert!(screen.contains("bracket tight") && screen.contains("bought 1.00 at"), "{screen}");
    assert_eq!(after(&app, "orders  "), "2", "{screen}");
    // Two thousand points away both are beyond the scale: that is told.
    assert!(screen.contains("beyond the scale: stop 1.00"), "{screen}");
    press(&mut app, "H");
    let before = shown(&app);
    key(&mut app, KeyCode::Up);
    settle(&mut app);
    assert!(shown(&app).contains("order 2 now"), "{before}\n{}", shown(&app));
    press(&mut app, "D");
    settle(&mut app);
    assert!(shown(&app).contains("taken back"), "{}", shown(&app));
    assert_eq!(after(&app, "orders  "), "1");
    press(&mut app, "x");
    settle(&mut app);
    assert_eq!(after(&app, "orders  "), "0");
    assert!(shown(&app).contains("position 0.00"));
}

#[test]
fn orders_are_typed_as_words_and_bad_ones_are_refused_in_words() {
    let (_dir, mut app) = rehearsing();
    let bid = number(&after(&app, "bid "));
    press(&mut app, "o");
    answer(&mut app, &format!("sell 0.5 limit {:.5} with stop 300pt until day", bid + 0.001));
    assert!(shown(&app).contains("sell 0.50 at"), "{}", shown(&app));
    press(&mut app, "o");
    answer(&mut app, &format!("sell 0.5 stop {:.5}", bid + 0.001));
    assert!(app.message.text.contains("must lie below the bid"), "{}", app.message.text);
    key(&mut app, KeyCode::Esc);
    press(&mut app, "o");
    answer(&mut app, "hold 3");
    key(&mut app, KeyCode::Esc);
    assert!(app.message.text.contains("the side must be buy or sell"), "{}", app.message.text);
    press(&mut app, "l");
    answer(&mut app, "1%");
    assert!(shown(&app).contains("size 1%"));
    press(&mut app, "b");
    settle(&mut app);
    assert!(app.message.text.contains("say its balance"), "{}", app.message.text);
    press(&mut app, "m");
    answer(&mut app, "balance 10000, latency 50ms, hedged, call 50");
    wait(&mut app, "equity");
    assert!(shown(&app).contains("10000.00 SEK"), "{}", shown(&app));
    press(&mut app, "m");
    answer(&mut app, "balance much");
    key(&mut app, KeyCode::Esc);
    assert!(app.message.text.contains("'balance much' is not understood"), "{}", app.message.text);
}

#[test]
fn back_in_time_everything_is_as_it_was() {
    let (_dir, mut app) = rehearsing();
    press(&mut app, "B");
    answer(&mut app, "before the deal");
    let before = (after(&app, "bid "), after(&app, "realised"));
    press(&mut app, "b");
    run(&mut app, 60);
    press(&mut app, "x");
    settle(&mut app);
    assert!(shown(&app).contains("sold 1.00 at"), "{}", shown(&app));
    assert_ne!(before.1, after(&app, "realised"));
    let later = app.message.text.clone();
    press(&mut app, "G");
    answer(&mut app, "1");
    wait(&mut app, "the journal is empty");
    assert_eq!(before, (after(&app, "bid "), after(&app, "realised")), "{later}");
    press(&mut app, "j");
    answer(&mut app, "2024-01-01 00:00");
    key(&mut app, KeyCode::Esc);
    assert!(app.message.text.contains("this rehearsal began at"), "{}", app.message.text);
}

#[test]
fn steps_go_by_a_quote_a_minute_and_a_bar() {
    let (_dir, mut app) = rehearsing();
    let time = |app: &App| parse(&after(app, "‖ held 60x")[..19]).unwrap();
    let start = time(&app);
    press(&mut app, "t");
    assert!(time(&app) - start < MINUTE);
    let start = time(&app);
    press(&mut app, "M");
    assert_eq!(time(&app) - start, MINUTE);
    press(&mut app, "T");
    assert_eq!(time(&app) - start, 2 * MINUTE);
    press(&mut app, "h");
    settle(&mut app);
    assert_eq!(time(&app) - start, MINUTE);
}

#[test]
fn panes_of_other_frames_and_instruments_go_in_step() {
    let (_dir, mut app) = rehearsing();
    press(&mut app, "i");
    answer(&mut app, "1h");
    wait(&mut app, "quill:ticks 1h");
    press(&mut app, "i");
    answer(&mut app, "NZDSEK@quill:ticks");
    settle(&mut app);
    wait(&mut app, "NOKSEK");
    let screen = shown(&app);
    assert!(screen.contains("quill:ticks 1m"), "{screen}");
    press(&mut app, "i");
    answer(&mut app, "500t");
    key(&mut app, KeyCode::Esc);
    assert!(app.message.text.contains("cannot grow out of"), "{}", app.message.text);
    press(&mut app, "I");
    settle(&mut app);
    press(&mut app, "i");
    answer(&mut app, "-");
    press(&mut app, "i");
    answer(&mut app, "-");
    key(&mut app, KeyCode::Esc);
    assert!(app.message.text.contains("one pane has to stay"), "{}", app.message.text);
    run(&mut app, 5);
    assert!(shown(&app).contains("bid"));
}

#[test]
fn the_calendar_shows_what_can_be_played_and_begins_there() {
    let (_dir, mut app) = rehearsing();
    press(&mut app, "C");
    let screen = shown(&app);
    assert!(screen.contains("what can be played") && screen.contains("NOKSEK@quill:1m"), "{screen}");
    assert!(screen.contains("▒ bars rebuilt to ticks"), "{screen}");
    press(&mut app, ",");
    wait(&mut app, "2024-03-27: Enter plays from here on");
    // Only days with rows are offered: the ticks begin here.
    press(&mut app, ",");
    assert!(app.message.text.contains("has no rows before that"), "{}", app.message.text);
    press(&mut app, "B");
    wait(&mut app, "2024-03-27: Enter plays from here up to 2024-03-27");
    press(&mut app, "\n");
    settle(&mut app);
    wait(&mut app, "2024-03-27 03:00");
    wait(&mut app, "position 0.00");
    // Nothing is played after that day.
    press(&mut app, "j");
    answer(&mut app, "2024-03-28 10:00");
    assert!(app.message.text.contains("nothing to play"), "{}", app.message.text);
    key(&mut app, KeyCode::Esc);
    press(&mut app, "C");
    key(&mut app, KeyCode::Down);
    press(&mut app, "\n");
    settle(&mut app);
    wait(&mut app, "p sets the spread");
    // The ticks of the same source have spreads: g replays with them, marked as assumed.
    wait(&mut app, "measured on quill:ticks");
    press(&mut app, "g");
    settle(&mut app);
    wait(&mut app, "spread assumed");
}

#[test]
fn the_journal_adds_up_and_a_report_is_written() {
    let (dir, mut app) = rehearsing();
    press(&mut app, "bM");
    run(&mut app, 20);
    press(&mut app, "x");
    settle(&mut app);
    press(&mut app, "A");
    answer(&mut app, "too early #impatient");
    press(&mut app, "J");
    let screen = shown(&app);
    for words in ["1, won", "a trade in the mean", "what was closed and paid", "note (impatient): too early"]
    {
        assert!(screen.contains(words), "no '{words}' in\n{screen}");
    }
    let page = dir.path().join("out.html");
    press(&mut app, "R");
    answer(&mut app, &page.display().to_string());
    let text = std::fs::read_to_string(&page).unwrap();
    assert!(text.contains("what it came to") && text.contains("too early"), "{}", &text[..300]);
    press(&mut app, "R");
    answer(&mut app, &dir.path().join("out.doc").display().to_string());
    key(&mut app, KeyCode::Esc);
    assert!(app.message.text.contains("must end in .html or .pdf"), "{}", app.message.text);
}

#[test]
fn a_rehearsal_that_was_cut_off_is_taken_up_again_just_as_it_was() {
    let (dir, mut app) = rehearsing();
    press(&mut app, "b");
    settle(&mut app);
    run(&mut app, 60);
    press(&mut app, "s");
    settle(&mut app);
    press(&mut app, "b");
    settle(&mut app);
    let journal = |app: &App| {
        let screen = shown(app);
        let from = screen.find("journal").or(screen.find("bracket")).unwrap_or(0);
        screen[from..]
            .lines()
            .filter(|l| l.contains(" at ") && !l.contains('✓'))
            .map(|l| l[..100.min(l.len())].to_owned())
            .collect::<Vec<_>>()
    };
    let (was, clock) = (journal(&app), after(&app, "‖ held 60x"));
    let money = after(&app, "realised");
    // As after a kill: nothing is said to the first bench.
    let mut again = App::new(dir.path().to_owned());
    rehearse(&mut again, "NOKSEK@quill:ticks");
    press(&mut again, "Q");
    key(&mut again, KeyCode::Enter);
    settle(&mut again);
    wait(&mut again, "taken up again");
    wait(&mut again, "bought 1.00");
    assert_eq!((journal(&again), after(&again, "realised")), (was, money));
    assert_eq!(after(&again, "‖ held 60x"), clock);
    press(&mut again, "Q");
    key(&mut again, KeyCode::Esc);
    assert!(shown(&again).contains("position 1.00"));
}

#[test]
fn nothing_moves_without_a_reason_that_is_told() {
    let (_dir, mut app) = rehearsing();
    jump(&mut app, "2024-03-29 20:55");
    press(&mut app, ">>>>");
    (0..4).for_each(|_| run(&mut app, 3));
    press(&mut app, "M");
    let screen = shown(&app);
    assert!(
        screen.contains("it opens")
            || screen.contains("no rows for")
            || screen.contains("the rows end here")
            || screen.contains("2024-04"),
        "{screen}"
    );
    // A market order in a closed market is refused with the opening.
    jump(&mut app, "2024-04-04 20:00");
    press(&mut app, &">".repeat(12));
    run(&mut app, 30);
    press(&mut app, " ");
    assert!(shown(&app).contains("the rows end here"), "{}", shown(&app));
}

/// A bench on minutes of some days; from a minute on prices are moved by so many points.
fn on_minutes(moved_from: usize, by: i64) -> (tempfile::TempDir, App) {
    let dir = tempfile::tempdir().unwrap();
    let mut text = "Time (UTC),Open,High,Low,Close,Volume,Spread\n".to_owned();
    for minute in 0..3 * 1440usize {
        let wave = ((minute * 7) % 113) as i64 - 56 + (minute as i64 % 997) / 9;
        let open = 98_000 + wave + if minute >= moved_from { by } else { 0 };
        let close = open + (minute as i64 % 5) - 2;
        let price = |points: i64| format!("{}.{:05}", points / 100_000, points % 100_000);
        text += &format!(
            "2024-03-{:02} {:02}:{:02},{},{},{},{},{},12\n",
            5 + minute / 1440,
            minute / 60 % 24,
            minute % 60,
            price(open),
            price(open.max(close) + 3),
            price(open.min(close) - 3),
            price(close),
            1 + minute % 9
        );
    }
    let file = dir.path().join("NOKSEK.csv");
    std::fs::write(&file, text).unwrap();
    let folder = dir.path().join("shelf");
    let mut shelf = stavel_core::store::Shelf::open_to_write(&folder).unwrap();
    let step = stavel_work::IntakeStep {
        paths: vec![file],
        source: "quill".into(),
        clock: Some("UTC".parse().unwrap()),
        ..Default::default()
    };
    stavel_work::apply(&mut shelf, &stavel_work::Step::Intake(step), &stavel_core::job::Job::unwatched())
        .unwrap();
    let app = App::new(folder);
    (dir, app)
}

#[test]
fn nothing_on_the_screen_depends_on_prices_that_lie_ahead() {
    let at = 1440 + 613;
    let benches = [on_minutes(usize::MAX, 0), on_minutes(at, 700), on_minutes(at, -900)];
    let screens = benches.map(|(_dir, mut app)| {
        wait(&mut app, "NOKSEK");
        app.select("NOKSEK@quill:1m".parse().unwrap());
        press(&mut app, "9");
        settle(&mut app);
        wait(&mut app, "position 0.00");
        jump(&mut app, "2024-03-06 09:40");
        let mut seen = Vec::new();
        press(&mut app, "i");
        answer(&mut app, "1h");
        press(&mut app, "o");
        answer(&mut app, "buy 1 with stop 900pt target 900pt");
        for _ in 0..12 {
            press(&mut app, "M");
            settle(&mut app);
            seen.push(shown(&app));
        }
        press(&mut app, "h");
        settle(&mut app);
        seen.push(shown(&app));
        for keys in ["TM", "J", "J", "F", "F", "II"] {
            press(&mut app, keys);
            settle(&mut app);
            seen.push(shown(&app));
        }
        // The minute at which prices part is open: its open is known when it begins, nothing else.
        let last = seen.last().unwrap();
        assert!(last.contains("10:1") || last.contains("09:5"), "{last}");
        seen
    });
    for (i, screen) in screens[0].iter().enumerate() {
        for other in &screens[1..] {
            assert_eq!(*screen, other[i], "screen {i}");
        }
    }
}

/// Takes hours of NZDSEK in beside; the one of 10:00 on the second day ends so many points away from where it begins.
fn add_hours(dir: &tempfile::TempDir, by: i64) {
    let mut text = "Time (UTC),Open,High,Low,Close,Volume,Spread\n".to_owned();
    for hour in 0..48 {
        let close = 64_000 + if hour < 34 { 0 } else { by };
        let open = if hour > 34 { close } else { 64_000 };
        let row =
            [open, open.max(close) + 9, open.min(close) - 9, close].map(|price| format!("6.{price:05}"));
        text += &format!("2024-03-{:02} {:02}:00,{},5,30\n", 5 + hour / 24, hour % 24, row.join(","));
    }
    let file = dir.path().join("NZDSEK.csv");
    std::fs::write(&file, text).unwrap();
    let mut shelf = stavel_core::store::Shelf::open_to_write(&dir.path().join("shelf")).unwrap();
    let step = stavel_work::IntakeStep {
        paths: vec![file],
        source: "quill".into(),
        clock: Some("UTC".parse().unwrap()),
        ..Default::default()
    };
    let step = stavel_work::Step::Intake(step);
    stavel_work::apply(&mut shelf, &step, &stavel_core::job::Job::unwatched()).unwrap();
}

#[test]
fn an_hour_that_is_open_where_it_comes_in_beside_minutes_shows_its_open_only() {
    let benches = [0, 20_000].map(|by| {
        let (dir, _) = on_minutes(usize::MAX, 0);
        add_hours(&dir, by);
        let mut app = App::new(dir.path().join("shelf"));
        wait(&mut app, "NZDSEK");
        rehearse(&mut app, "NOKSEK@quill:1m");
        jump(&mut app, "2024-03-06 10:12");
        press(&mut app, "i");
        answer(&mut app, "NZDSEK@quill:1h");
        wait(&mut app, "NZDSEK@quill:1h 1h");
        assert!(shown(&app).contains("▲ NOKSEK, NZDSEK: bars rebuilt to ticks"), "{}", shown(&app));
        let mut seen = vec![shown(&app)];
        for _ in 0..20 {
            press(&mut app, "M");
            settle(&mut app);
            seen.push(shown(&app));
        }
        // Its close is played, too, when it is over.
        jump(&mut app, "2024-03-06 11:00");
        (seen, shown(&app))
    });
    let [(one, after), (other, other_after)] = benches;
    assert!(one[20].contains("10:3"), "{}", one[20]);
    assert_eq!(one, other);
    assert_ne!(after, other_after);
}

#[test]
fn a_stop_is_filled_on_the_way_to_a_later_moment() {
    let (_dir, mut app) = on_minutes(1440 + 630, -900);
    wait(&mut app, "NOKSEK");
    rehearse(&mut app, "NOKSEK@quill:1m");
    jump(&mut app, "2024-03-06 10:12");
    press(&mut app, "o");
    answer(&mut app, "buy 1 with stop 300pt target 900pt");
    wait(&mut app, "position 1.00");
    press(&mut app, "j");
    answer(&mut app, "2024-03-06 12:00");
    wait(&mut app, "position 0.00");
    assert!(
        app.message.text.contains("at 2024-03-06 12:00; on the way there was one fill"),
        "{}",
        app.message.text
    );
    press(&mut app, "J");
    settle(&mut app);
    assert!(shown(&app).contains("10:30 sold 1.00 at 0.97078 by the stop of the bracket"), "{}", shown(&app));
    // Back in between it is held as it was.
    press(&mut app, "j");
    answer(&mut app, "2024-03-06 10:20");
    wait(&mut app, "position 1.00");
}

#[test]
fn the_mouse_takes_the_line_of_an_order_to_another_price() {
    let (_dir, mut app) = rehearsing();
    press(&mut app, "K");
    answer(&mut app, "near stop 40pt target 60pt");
    press(&mut app, "b");
    settle(&mut app);
    let lens = crate::screen::places(&app, Rect { x: 0, y: 0, width: 160, height: 47 }).lens;
    let row = shown(&app).lines().position(|l| l.contains(" stop 1.00 ")).unwrap() as u16;
    let price = |app: &App| {
        let screen = shown(app);
        let line = screen.lines().find(|l| l.contains("stop 1.00 ")).unwrap().to_owned();
        line.split("stop 1.00 ").nth(1).unwrap().split(' ').next().unwrap().parse::<f64>().unwrap()
    };
    let before = price(&app);
    let mouse = |app: &mut App, kind, row: u16| {
        let event = MouseEvent { kind, column: lens.x + 60, row, modifiers: KeyModifiers::NONE };
        crate::terminal::handle_mouse(app, event);
        settle(app);
    };
    mouse(&mut app, MouseEventKind::Down(MouseButton::Left), row);
    assert!(app.message.text.contains("drag it to its new price"), "{}", app.message.text);
    mouse(&mut app, MouseEventKind::Drag(MouseButton::Left), row + 1);
    mouse(&mut app, MouseEventKind::Up(MouseButton::Left), row + 1);
    assert!(app.message.text.contains("order 2 now"), "{}", app.message.text);
    assert!(price(&app) < before, "{} is not below {before}", price(&app));
}

#[test]
fn blind_practice_shows_neither_name_nor_date_until_it_is_revealed() {
    let (_dir, mut app) = rehearsing();
    press(&mut app, "V");
    settle(&mut app);
    wait(&mut app, "blind practice");
    wait(&mut app, "day 1");
    press(&mut app, "b");
    settle(&mut app);
    let mut screens = Vec::new();
    for (keys, refusal) in [
        ("C", "the calendar would tell"),
        ("R", "a report would tell"),
        ("P", "a picture would tell"),
        ("w", "draws nothing"),
        ("\n", "draws nothing"),
    ] {
        press(&mut app, keys);
        settle(&mut app);
        assert!(app.message.text.contains(refusal), "{keys}: {}", app.message.text);
        screens.push(shown(&app));
    }
    for keys in ["", "M", "J", "J", "C", "C", "F", "F"] {
        press(&mut app, keys);
        settle(&mut app);
        screens.push(shown(&app));
    }
    press(&mut app, "V");
    settle(&mut app);
    let told = app.message.text.strip_prefix("it was ").unwrap_or_else(|| panic!("{}", app.message.text));
    let (name, source) = told.split_once(':').unwrap().0.split_once('@').unwrap();
    // Nothing that a person could do on the way would have told.
    for word in [name, source, "2024-0"] {
        for screen in &screens {
            assert!(!screen.contains(word), "'{word}' in\n{screen}");
        }
    }
    assert!(shown(&app).contains(name));
}

#[test]
fn neither_the_wheel_nor_an_arrow_ends_a_rehearsal_in_which_something_is_held() {
    let (_dir, mut app) = rehearsing();
    press(&mut app, "b");
    wait(&mut app, "position 1.00");
    let turn =
        MouseEvent { kind: MouseEventKind::ScrollDown, column: 30, row: 14, modifiers: KeyModifiers::NONE };
    crate::terminal::handle_mouse(&mut app, turn);
    settle(&mut app);
    assert!(shown(&app).contains("position 1.00"), "{}", shown(&app));
    key(&mut app, KeyCode::Down);
    settle(&mut app);
    assert!(app.message.text.contains("] [ choose another series"), "{}", app.message.text);
    assert!(shown(&app).contains("position 1.00"), "{}", shown(&app));
}

#[test]
fn a_key_that_comes_before_the_bars_are_read_loses_no_pane() {
    let (_dir, mut app) = rehearsing();
    press(&mut app, "i");
    answer(&mut app, "1h");
    // Nothing waits in between: the bars of each jump are asked for while those of the one before are still read.
    press(&mut app, "nnIh");
    settle(&mut app);
    let screen = shown(&app);
    assert!(screen.contains("quill:ticks 1m") && screen.contains("quill:ticks 1h"), "{screen}");
}

#[test]
fn a_named_bracket_is_there_the_next_time() {
    let (dir, mut app) = rehearsing();
    press(&mut app, "K");
    answer(&mut app, "tight stop 200pt target 300pt");
    press(&mut app, "K");
    answer(&mut app, "wide stop trail 900pt");
    drop(app);
    let mut app = App::new(dir.path().to_owned());
    rehearse(&mut app, "NOKSEK@quill:ticks");
    press(&mut app, "k");
    wait(&mut app, "bracket tight: stop 200pt target 300pt");
    press(&mut app, "K");
    answer(&mut app, "tight -");
    wait(&mut app, "no bracket");
    press(&mut app, "kk");
    let kept = std::fs::read_to_string(dir.path().join("rehearsals/brackets.toml")).unwrap();
    assert_eq!(kept, "wide = \"stop trail 900pt\"\n");
}
