//! Every lens on five kinds of shelf: each shows something, and one key goes on.

use std::path::Path;

use stavel_core::job::Job;
use stavel_core::store::Shelf;
use stavel_work::{AutoStep, IntakeStep, Step, apply};

use crate::act::Act;
use crate::app::App;
use crate::tests::{demo_shelf, press, settle, shown};

fn demo_file(name: &str) -> std::path::PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo").join(name)
}

fn import(folder: &Path, file: &Path, source: &str, clock: Option<&str>) {
    let mut shelf = Shelf::open_to_write(folder).unwrap();
    let step = IntakeStep {
        paths: vec![file.to_owned()],
        source: source.into(),
        clock: clock.map(str::to_owned),
        ..IntakeStep::default()
    };
    apply(&mut shelf, &Step::Intake(step), &Job::unwatched()).unwrap();
}

/// Opens all lenses, at both sizes: none is empty, and each names a next step.
fn look_at_all(what: &str, folder: &Path) {
    let mut app = App::new(folder.to_owned());
    settle(&mut app);
    for size in [(160, 47), (80, 24)] {
        app.size = size;
        for lens in 0..app.lenses.len() {
            app.act(Act::Open(lens));
            settle(&mut app);
            let screen = shown(&app);
            let word = app.lens().word();
            let below: Vec<&str> = screen
                .lines()
                .skip_while(|l| !l.contains("next ▸"))
                .skip(1)
                .filter(|l| !l.trim().is_empty())
                .collect();
            // Besides the rules and the line of keys there is text.
            let text = below.iter().filter(|l| l.chars().any(char::is_alphabetic)).count();
            assert!(text > 1, "{what}, {word}:\n{screen}");
            assert!(!app.next_in_words().is_empty(), "{what}, {word}");
        }
    }
}

/// `g` in every lens changes the screen.
fn press_g_in_all(what: &str, folder: &Path) {
    for lens in 0..9 {
        let mut app = App::new(folder.to_owned());
        settle(&mut app);
        app.act(Act::Open(lens));
        settle(&mut app);
        let before = shown(&app);
        press(&mut app, "g");
        settle(&mut app);
        assert_ne!(shown(&app), before, "{what}: g does nothing in {}", app.lens().word());
    }
}

#[test]
fn lenses_on_an_empty_shelf_and_on_one_file() {
    let dir = tempfile::tempdir().unwrap();
    Shelf::open_to_write(dir.path()).unwrap();
    look_at_all("empty", dir.path());
    press_g_in_all("empty", dir.path());
    import(dir.path(), &demo_file("tarn/NOKSEK_1m.csv"), "tarn", None);
    look_at_all("one file", dir.path());
    press_g_in_all("one file", dir.path());
}

#[test]
fn lenses_on_two_sources_without_clocks() {
    let dir = tempfile::tempdir().unwrap();
    import(dir.path(), &demo_file("tarn/NOKSEK_1m.csv"), "tarn", None);
    import(dir.path(), &demo_file("quill/NOKSEK_1m/NOKSEK_1m_2024.csv"), "quill", Some("afloat"));
    look_at_all("no clocks", dir.path());
    let mut app = App::new(dir.path().to_owned());
    settle(&mut app);
    let words = app.next_in_words();
    assert!(words.contains("quill:1m") && words.contains("tarn:1m") && words.contains("no clock"), "{words}");
}

#[test]
fn lenses_on_the_demo_and_after_the_whole_job() {
    let dir = tempfile::tempdir().unwrap();
    demo_shelf(dir.path());
    look_at_all("demo", dir.path());
    let auto = tempfile::tempdir().unwrap();
    {
        let mut shelf = Shelf::open_to_write(auto.path()).unwrap();
        let files = vec![demo_file("quill/NOKSEK_1m/NOKSEK_1m_2024.csv")];
        let step = AutoStep::of(files, vec![demo_file("tarn/NOKSEK_1m.csv")]);
        apply(&mut shelf, &Step::Auto(step), &Job::unwatched()).unwrap();
    }
    look_at_all("after auto", auto.path());
}
