//! Undo, redo, and acts that fail on their way.

use stavel_core::model::Field;
use stavel_work::what_was_done;

use crate::{Desk, quiet};

#[test]
fn every_act_is_undone_and_redone_as_a_whole() {
    let mut desk = Desk::new();
    desk.minutes("quill", &quiet(4..9, 0));
    let steps = [
        "act = 'check'\nseries = 'NOKSEK@quill:1m'\nmend = ['move=2024-03-05/2024-03-06=-1h']",
        "act = 'frames'\nseries = 'NOKSEK@quill:1m'\nframes = ['1h', '1d']\nclock = 'UTC'",
        "act = 'compose'\nname = 'NOKSEK'\n[set]\ncommission = '3'",
        "act = 'compose'\nname = 'MINE'\nlike = 'NOKSEK'\nfrom = 'NOKSEK@quill:1m'",
        "act = 'splice'\nseries = ['NOKSEK@quill:1m', 'NOKSEK@quill:1m']\ninto = 'j'",
        "act = 'shelf'\nseries = 'NOKSEK@quill:1h'\nremove = true",
        "act = 'shelf'\nseries = 'NOKSEK@quill:1d'\nrename = 'NOKSEK@q:1d'",
    ];
    let state = |desk: &Desk| {
        let sheets: Vec<String> = (desk.shelf.instruments().unwrap().into_iter())
            .map(|i| format!("{} {:?}", i.name, i.values))
            .collect();
        (desk.editions(), sheets)
    };
    let mut states = vec![state(&desk)];
    let mut done = 0;
    for step in steps {
        if desk.act(step).is_ok() {
            done += 1;
            states.push(state(&desk));
        }
        assert_eq!(states.last().unwrap(), &state(&desk), "what fails changes nothing: {step}");
    }
    assert!(done >= 6, "{done}");
    for at in (0..done).rev() {
        desk.done("act = 'undo'");
        assert_eq!(state(&desk), states[at], "undone to {at}");
    }
    for (at, after) in states.iter().enumerate().skip(1) {
        desk.done("act = 'redo'");
        assert_eq!(&state(&desk), after, "redone to {at}");
    }
    let told = desk.fails("act = 'redo'");
    assert!(told.contains("undone"), "{told}");
}

#[test]
fn a_series_steps_back_over_its_own_changes_only() {
    let mut desk = Desk::new();
    desk.minutes("quill", &quiet(4..6, 0));
    desk.minutes("tarn", &quiet(4..6, 0));
    desk.done("act = 'check'\nseries = 'NOKSEK@quill:1m'\nmend = ['rescale=2024-03-04/2024-03-06=2']");
    desk.done("act = 'check'\nseries = 'NOKSEK@tarn:1m'\nmend = ['rescale=2024-03-04/2024-03-06=3']");
    let first = |desk: &Desk, s: &str| desk.column(s, Field::Open)[0];
    let (quill, tarn) = (first(&desk, "NOKSEK@quill:1m"), first(&desk, "NOKSEK@tarn:1m"));
    desk.done("act = 'undo'\nseries = 'NOKSEK@quill:1m'");
    assert_eq!(first(&desk, "NOKSEK@quill:1m") * 2, quill);
    assert_eq!(first(&desk, "NOKSEK@tarn:1m"), tarn, "the other stays");
    desk.done("act = 'redo'\nseries = 'NOKSEK@quill:1m'");
    assert_eq!(first(&desk, "NOKSEK@quill:1m"), quill);
}

#[test]
fn what_is_built_on_a_change_is_stale_after_it_and_fresh_after_undo() {
    let mut desk = Desk::new();
    desk.minutes("quill", &quiet(4..6, 0));
    desk.done("act = 'frames'\nseries = 'NOKSEK@quill:1m'\nframes = ['1h']\nclock = 'UTC'");
    let stale = |desk: &Desk| {
        let info = desk.shelf.find(&"NOKSEK@quill:1h".parse().unwrap()).unwrap();
        !desk.shelf.staleness(&info.edition).unwrap().is_empty()
    };
    assert!(!stale(&desk));
    desk.done("act = 'check'\nseries = 'NOKSEK@quill:1m'\nmend = ['rescale=2024-03-04/2024-03-06=2']");
    assert!(stale(&desk));
    let told = desk.fails("act = 'deliver'\nseries = ['NOKSEK@quill:1h']\nout = '~/x.csv'");
    assert!(told.contains("--stale-ok"), "{told}");
    assert!(!desk.path("x.csv").exists());
    desk.done("act = 'deliver'\nseries = ['NOKSEK@quill:1h']\nout = '~/x.csv'\nstale_ok = true");
    desk.done("act = 'undo'\nseries = 'NOKSEK@quill:1m'");
    assert!(!stale(&desk));
}

#[test]
fn what_was_done_is_a_recipe_that_does_it_again() {
    let mut desk = Desk::new();
    desk.minutes("quill", &quiet(4..6, 0));
    desk.done("act = 'check'\nseries = 'NOKSEK@quill:1m'\nmend = ['rescale=2024-03-04/2024-03-06=2']");
    desk.done("act = 'frames'\nseries = 'NOKSEK@quill:1m'\nframes = ['all']\nclock = 'UTC'");
    desk.done("act = 'check'\nseries = 'NOKSEK@quill:1m'");
    let recipe = what_was_done(&desk.shelf).unwrap();
    let acts: Vec<&str> = recipe.step.iter().map(stavel_work::Step::act).collect();
    assert_eq!(acts, ["intake", "check", "frames"], "what changed nothing is not in it");
    let mut other = Desk::new();
    for step in &recipe.step {
        stavel_work::apply(&mut other.shelf, step, &stavel_core::job::Job::unwatched()).unwrap();
    }
    assert_eq!(other.editions(), desk.editions());
    for field in [Field::Open, Field::Close, Field::Volume] {
        assert_eq!(other.column("NOKSEK@quill:4h", field), desk.column("NOKSEK@quill:4h", field));
    }
}

#[test]
fn a_job_that_is_stopped_leaves_the_shelf_as_it_was() {
    let mut desk = Desk::new();
    desk.minutes("quill", &quiet(4..9, 0));
    let before = desk.editions();
    for step in [
        "act = 'frames'\nseries = 'NOKSEK@quill:1m'\nframes = ['1h']\nclock = 'UTC'",
        "act = 'check'\nseries = 'NOKSEK@quill:1m'\nmend = ['rescale=2024-03-04/2024-03-06=2']",
        "act = 'compose'\nname = 'X'\nlike = 'NOKSEK'\nfrom = 'NOKSEK@quill:1m'",
    ] {
        let job = stavel_core::job::Job::unwatched();
        job.stop();
        let step: stavel_work::Step = toml::from_str(step).unwrap();
        let err = stavel_work::apply(&mut desk.shelf, &step, &job).err().unwrap();
        assert!(err.is_cancelled(), "{err}");
        assert_eq!(desk.editions(), before);
        assert!(!desk.shelf.has_instrument("X").unwrap());
    }
}

#[test]
fn tidying_takes_older_editions_and_says_how_many() {
    let mut desk = Desk::new();
    desk.minutes("quill", &quiet(4..6, 0));
    desk.done("act = 'check'\nseries = 'NOKSEK@quill:1m'\nmend = ['rescale=2024-03-04/2024-03-06=2']");
    desk.done("act = 'check'\nseries = 'NOKSEK@quill:1m'\nmend = ['rescale=2024-03-04/2024-03-06=2']");
    let rows = desk.column("NOKSEK@quill:1m", Field::Close);
    let told = desk.done("act = 'shelf'\ntidy = true");
    assert_eq!(told["editions"], 2, "{told}");
    assert!(told["bytes"].as_u64().unwrap() > 0);
    assert_eq!(desk.column("NOKSEK@quill:1m", Field::Close), rows);
    let told = desk.fails("act = 'undo'\nseries = 'NOKSEK@quill:1m'");
    assert!(!told.is_empty());
    assert_eq!(desk.done("act = 'shelf'\ntidy = true")["editions"], 0);
}
