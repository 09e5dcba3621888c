//! The table of acts, and the lenses behind it.

use std::time::{Duration, Instant};

use stavel_core::model::Span;

use crate::act::{Act, Common, TableRow};
use crate::app::App;
use crate::canvas::Canvas;
use crate::effect::{Effect, Effects, ask, say};
use crate::lens::{self, FactLine, Lens};
use crate::paint::Theme;
use crate::settings::Settings;
use crate::tests::{on_anchored_demo, press, settle, shown, wait};
use crate::theme;
use crate::view::View;

/// All that an act may change, as text.
fn state(app: &App) -> String {
    let running = app.running.as_ref().map(|r| r.step.command_line());
    format!("{} {:?} {} {running:?}\n{}", app.open, app.window, app.quit, shown(app))
}

/// Does an act, and waits until something is to be seen of it.
fn must_do_something(app: &mut App, act: Act, name: &str) {
    app.say("nothing yet", crate::effect::Tone::Plain);
    let before = state(app);
    app.act(act);
    let end = Instant::now() + Duration::from_secs(20);
    while state(app) == before {
        assert!(Instant::now() < end, "'{name}' does nothing in\n{}", shown(app));
        app.tick(Duration::from_millis(10));
        std::thread::yield_now();
    }
    app.overlay = None;
    app.quit = false;
    settle(app);
}

#[test]
fn every_row_of_the_table_does_something() {
    let (_dir, mut app) = on_anchored_demo();
    let words = [
        ("shelf", "reaches back to"),
        ("chart", "bar of"),
        ("check", "completeness"),
        ("align", "anchored: stored in UTC"),
        // Its order and its spreads are rows of the table: together they may ask for what cannot be joined.
        ("splice", "next rule"),
        ("frames", "built from"),
        ("compose", "what it means"),
        ("deliver", "be written"),
        ("rehearse", "spec sheet"),
    ];
    assert_eq!(words.map(|w| w.0).to_vec(), app.lenses.iter().map(|l| l.word()).collect::<Vec<_>>());
    let lines: Vec<(Act, String, usize)> = (app.table.lines.iter())
        .map(|line| (line.act, format!("{} {}", line.lens_word(), line.about), line.lens.map_or(7, |l| l.0)))
        .collect();
    assert!(lines.len() > 80, "{}", lines.len());
    for (act, name, place) in lines {
        app.select("NOKSEK@tarn:1m".parse().unwrap());
        let whole = app.whole();
        // A window that can be moved, narrowed and widened.
        app.window = Span::new(whole.from + whole.length() / 4, whole.to - whole.length() / 4);
        app.open = place;
        // What a row before has opened over the lens is left.
        if !shown(&app).contains(words[place].1) {
            app.lenses[place].let_go();
        }
        wait(&mut app, words[place].1);
        // A lens that is open already cannot be opened.
        app.open = if act == Act::Open(place) { 1 } else { place };
        must_do_something(&mut app, act, &name);
    }
}

/// The smallest lens that does something: what it takes to add one.
#[derive(Default)]
struct CountLens(u32);

#[derive(Debug, Clone, Copy)]
enum CountAct {
    Add,
    Type,
}

impl Lens for CountLens {
    type Act = CountAct;
    const WORD: &'static str = "count";
    const ABOUT: &'static str = "count: series, and whatever else";
    const ROWS: &'static [TableRow<CountAct>] = &[
        TableRow::new(CountAct::Add, "a", "add", "add one"),
        TableRow::new(CountAct::Type, "t", "type", "type the count"),
    ];

    fn act(&mut self, act: CountAct, view: &View<'_>) -> Effects {
        match act {
            CountAct::Add => self.0 += 1,
            CountAct::Type => return ask("count", self.0.to_string()),
        }
        say(format!("{} of {} series", self.0, view.snapshot.series.len()))
    }

    fn answer(&mut self, text: &str, _view: &View<'_>) -> Effects {
        text.parse().map(|n| self.0 = n).map_or_else(|_| vec![Effect::Open("shelf")], |()| Effects::new())
    }

    fn draw(&self, _view: &View<'_>, mut canvas: Canvas<'_>) {
        canvas.put(1, 0, &format!("counted {}", self.0), theme::words());
    }

    fn facts(&self, _view: &View<'_>) -> Vec<FactLine> {
        vec![FactLine::Pair("counted", self.0.to_string())]
    }
}

#[test]
fn a_new_lens_is_one_file_and_one_line() {
    let dir = tempfile::tempdir().unwrap();
    let mut lenses = lens::all();
    lenses.push(lens::boxed::<CountLens>());
    let mut app = App::with_lenses(dir.path().join("shelf"), lenses);
    wait(&mut app, "The shelf is empty");
    press(&mut app, ":add one\n");
    assert_eq!((app.lens().word(), app.message.text.as_str()), ("count", "1 of 0 series"));
    press(&mut app, "a");
    assert!(shown(&app).contains("counted 2") && shown(&app).contains("a add  t type"), "{}", shown(&app));
    press(&mut app, "t7\n");
    assert!(shown(&app).contains("counted 7"), "typing replaces the proposal: {}", shown(&app));
    press(&mut app, "tx\n");
    assert_eq!(app.lens().word(), "shelf");
    // It has a key of its own, and the key list names it.
    app.act(Act::Common(Common::Keys));
    assert!(app.table.key_list().contains("| count | `a` | add one |"));
}

fn settings_of(text: &str) -> Result<Settings, String> {
    Settings::of(text, &mut lens::table(&lens::all()))
}

fn key_of(settings: &Settings, about: &str) -> String {
    let mut table = lens::table(&lens::all());
    settings.bind(&mut table).unwrap();
    table.lines.iter().find(|l| l.about.starts_with(about)).unwrap().key.clone()
}

#[test]
fn keys_are_given_by_lens_and_may_be_swapped() {
    let text = "theme = 'light'\nmoney_decimals = 0\nclock = 'Europe/Oslo'\n\
                [keys.everywhere]\nq = 'Q'\n[keys.chart]\n',' = '.'\n'.' = ','\n";
    let settings = settings_of(text).unwrap();
    assert_eq!((settings.theme, settings.money_decimals()), (Some(Theme::Light), 0));
    assert_eq!(settings.clock.as_ref().unwrap().to_string(), "Europe/Oslo");
    assert_eq!(key_of(&settings, "leave the bench"), "Q");
    assert_eq!(key_of(&settings, "move the cursor a bar back"), ".");
    assert_eq!(key_of(&settings, "move the cursor a bar on"), ",");
}

#[test]
fn what_cannot_be_is_told_with_the_place() {
    for (text, told) in [
        ("theme = 'pink'", "line 1"),
        ("\ncolour = 'red'", "line 2"),
        ("money_decimals = 9", "from 0 to 8"),
        ("clock = 'Atlantis'", "line 1"),
        ("[keys.kitchen]\nq = 'Q'", "no lens 'kitchen'"),
        ("[keys.everywhere]\n'$' = 'Q'", "'$' is no key there"),
        ("[keys.everywhere]\nq = '?'", "'?' would mean two things"),
        ("[keys.everywhere]\nq = 'abc'", "'abc' is no key"),
    ] {
        let wrong = settings_of(text).unwrap_err();
        assert!(wrong.contains(told), "{text}: {wrong}");
    }
    let dir = tempfile::tempdir().unwrap();
    assert!(crate::read_settings(&dir.path().join("none.toml")).is_ok());
    let path = dir.path().join("settings.toml");
    std::fs::write(&path, "theme = 'pink'").unwrap();
    let sentence = crate::read_settings(&path).unwrap_err().to_string();
    assert!(sentence.contains("settings.toml") && sentence.lines().count() == 1, "{sentence}");
}
