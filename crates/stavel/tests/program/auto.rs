//! The whole job in one go, and the questions at which it stops.

use serde_json::Value;
use stavel_core::model::Clock;
use stavel_core::model::time::{self, parse};

use crate::support::{Program, demo};

fn path(p: &str) -> String {
    demo().join(p).to_string_lossy().into_owned()
}

/// The arguments of the whole job on the demo's files.
fn whole(out: &str) -> Vec<String> {
    let (vendor, broker) = (path("quill/NOKSEK_1m"), path("tarn/NOKSEK_1m.csv"));
    ["auto", &vendor, "--source", "quill", "--broker", &broker, "--as", "tarn", "--out", out]
        .map(str::to_owned)
        .to_vec()
}

fn told(p: &Program, args: &[String]) -> (i32, Value, String) {
    let mut words: Vec<&str> = args.iter().map(String::as_str).collect();
    words.push("--json");
    let (code, out, err) = p.told(&words);
    let json = serde_json::from_str(&out).unwrap_or_else(|e| panic!("{e}: {out}{err}"));
    (code, json, err)
}

/// Does the answers to a question as they are told, with what a person fills in.
fn answer(p: &Program, command: &str, clock: &str) {
    let words = shlex::split(command).unwrap();
    let words: Vec<&str> = words[1..].iter().map(|w| if w == "CLOCK" { clock } else { w }).collect();
    let (code, _, err) = p.told(&words);
    assert_eq!(code, 0, "{command}: {err}");
}

#[test]
fn two_sources_become_one_proved_history_and_are_undone_as_one_act() {
    let p = Program::new();
    let (code, document, err) = told(&p, &whole("out"));
    assert_eq!((code, document.get("question")), (0, None), "{err} {document}");
    let acts: Vec<&str> =
        document["steps"].as_array().unwrap().iter().map(|s| s["act"].as_str().unwrap()).collect();
    assert_eq!(
        acts,
        ["intake", "intake", "check", "align", "compose", "splice", "frames", "deliver", "chart", "dossier"]
    );
    for name in ["joined.svg", "joined.html"] {
        assert!(p.dir.path().join("out").join(name).exists(), "{name}");
    }
    let dossier = std::fs::read_to_string(p.dir.path().join("out/joined.html")).unwrap();
    assert!(dossier.contains("mended in its source quill:1m: duplicate_time"), "the mends of the sources");
    assert_eq!(
        (&document["clock"], &document["joined"]),
        (&"America/New_York+7h".into(), &"NOKSEK@joined:1m".into())
    );
    let files = document["files"].as_array().unwrap();
    assert!(files.len() == 9 && files.iter().all(|f| f["proved"] == true), "{files:?}");
    // The same by hand gives the same rows.
    let q = Program::new().with_noksek();
    q.json(&["check", "NOKSEK@quill:1m", "--mend", "safe"]);
    q.json(&["align", "NOKSEK@tarn:1m", "--to", "NOKSEK@quill:1m", "--anchor"]);
    q.json(&["splice", "NOKSEK@tarn:1m", "NOKSEK@quill:1m", "--into", "joined"]);
    q.json(&["deliver", "NOKSEK@joined:1m", "--out", "by-hand.csv"]);
    let read = |p: &Program, name: &str| std::fs::read(p.dir.path().join(name)).unwrap();
    assert!(read(&p, "out/NOKSEK_joined_1m.csv") == read(&q, "by-hand.csv"));
    // Again, nothing has changed; the recipe gives the same on another shelf.
    let (code, again, _) = told(&p, &whole("out"));
    let done: Vec<&Value> = again["steps"].as_array().unwrap().iter().map(|s| &s["done"]).collect();
    assert!(code == 0 && done.iter().all(|d| *d == "before"), "{again}");
    let recipe = p.dir.path().join("out/recipe.toml").display().to_string();
    let other = Program::new();
    other.json(&["run", &recipe]);
    let series = |p: &Program| p.json(&["shelf"])["instruments"][0]["series"].as_array().unwrap().len();
    assert_eq!((series(&other), series(&p)), (11, 11));
    let (code, _, err) = p.told(&["undo"]);
    assert_eq!(code, 0, "{err}");
    assert_eq!(p.json(&["shelf"])["instruments"], Value::Array(Vec::new()), "all of it was one act");
}

#[test]
fn session_days_are_those_of_the_brokers_clock_wherever_it_is() {
    let p = Program::new();
    // The broker's rows as one writes them whose days begin at midnight in Oslo.
    let text = std::fs::read_to_string(demo().join("tarn/NOKSEK_1m.csv")).unwrap();
    let (from, to): (Clock, Clock) = ("America/New_York+7h".parse().unwrap(), "Europe/Oslo".parse().unwrap());
    let moved = |line: &str| {
        let (date, rest) = line.split_once(';').unwrap();
        let (clock, rest) = rest.split_once(';').unwrap();
        let written = parse(&format!("{} {clock}", date.replace('/', "-"))).unwrap();
        let wall = time::wall(to.to_wall(from.from_wall(written).settle()));
        format!("{};{};{rest}\n", wall[..10].replace('-', "/"), &wall[11..16])
    };
    let mut lines = text.lines();
    let header = format!("{}\n", lines.next().unwrap());
    let rows: String = lines.map(moved).collect();
    std::fs::write(p.dir.path().join("NOKSEK_1m.csv"), header + &rows).unwrap();
    let mut args = whole("out");
    args[5] = p.dir.path().join("NOKSEK_1m.csv").display().to_string();
    let (mut code, mut document, mut err) = told(&p, &args);
    // Weeks between the changes of two zones are few here: a person is asked, and what is answered counts as well.
    if code == 3 {
        assert!(document.get("answers").is_some(), "{err} {document}");
        answer(&p, "stavel align NOKSEK@tarn:1m --clock Europe/Oslo --anchor", "");
        (code, document, err) = told(&p, &args);
    }
    // The question is answered by hand on a shelf of its own too.
    let q = Program::new();
    q.json(&["intake", &path("quill/NOKSEK_1m"), "--source", "quill"]);
    q.json(&["intake", &args[5], "--source", "tarn"]);
    answer(&q, "stavel align NOKSEK@tarn:1m --clock Europe/Oslo --anchor", "");
    let by_hand = told(&q, &args);
    assert_eq!((code, by_hand.0), (0, 0), "{err} {}", by_hand.2);
    let read = |p: &Program| std::fs::read(p.dir.path().join("out/NOKSEK_joined_1d.csv")).unwrap();
    assert!(read(&p) == read(&q));
    assert_eq!((&document["clock"], &by_hand.1["clock"]), (&"Europe/Oslo".into(), &"Europe/Oslo".into()));
    let days = std::fs::read_to_string(p.dir.path().join("out/NOKSEK_joined_1d.csv")).unwrap();
    // Each begins at midnight in Oslo, or where the market opens on a Sunday.
    let begin = |line: &str| {
        let wall = to.to_wall(parse(&line[..20]).unwrap());
        (time::weekday(time::day_of(wall)), wall.rem_euclid(time::DAY))
    };
    let begins: Vec<(i64, i64)> = days.lines().skip(3).map(begin).collect();
    assert!(begins.len() > 20 && begins.iter().all(|(day, at)| *day == 6 || *at == 0), "{begins:?}");
}

#[test]
fn a_vendor_without_a_zone_is_asked_about_and_the_way_goes_on_from_there() {
    let p = Program::new();
    let zoneless = |name: &str| {
        let folder = p.dir.path().join(name);
        std::fs::create_dir(&folder).unwrap();
        for entry in std::fs::read_dir(demo().join("quill/NOKSEK_1m")).unwrap() {
            let entry = entry.unwrap();
            let text = std::fs::read_to_string(entry.path()).unwrap().replace("UTC", "").replace("Z,", ",");
            std::fs::write(folder.join(entry.file_name()), text).unwrap();
        }
        folder.display().to_string()
    };
    let mut args = whole("out");
    args[1] = zoneless("NOKSEK_1m");
    let (code, document, _) = told(&p, &args);
    assert_eq!(code, 3, "{document}");
    assert!(document["question"].as_str().unwrap().contains("Which clock do the times of NOKSEK@quill:1m"));
    assert!(
        !p.dir.path().join("out/NOKSEK_joined_1m.csv").exists(),
        "nothing is delivered before it is answered"
    );
    let say = |a: &Value| a["command"].as_str().unwrap().to_owned();
    let answers = document["answers"].as_array().unwrap();
    let utc = answers.iter().find(|a| say(a).contains("--clock UTC")).unwrap();
    assert!(utc["evidence"].as_str().unwrap().contains("weeks close when the session does"), "{utc}");
    assert_eq!(document["done"].as_array().unwrap().len(), 2, "both are taken in");
    answer(&p, &say(utc), "");
    let (code, document, err) = told(&p, &args);
    assert_eq!((code, document.get("question")), (0, None), "{err} {document}");
    assert!(p.dir.path().join("out/NOKSEK_joined_1m.csv").exists());
    // The recipe has the answer in it: it goes through without a question.
    let recipe = p.dir.path().join("out/recipe.toml").display().to_string();
    let text = std::fs::read_to_string(&recipe).unwrap();
    assert!(text.contains("clock = \"UTC\""), "{text}");
    let other = Program::new();
    let (code, _, err) = other.told(&["run", &recipe]);
    assert_eq!(code, 0, "{err}");
}

#[test]
fn dates_that_can_be_read_twice_are_asked_about_with_a_command_for_each_reading() {
    let p = Program::new();
    let mut text = String::from("Date,Time,Open,High,Low,Close\n");
    for day in 1..=9 {
        for hour in 0..24 {
            text += &format!("{day:02}/02/2024,{hour:02}:00,0.98,0.99,0.97,0.98\n");
        }
    }
    let vendor = p.file("NOKSEK_1h.csv", text);
    let args: Vec<String> = ["auto", &vendor, "--broker", &path("tarn/NOKSEK_1m.csv"), "--out", "out"]
        .map(str::to_owned)
        .to_vec();
    let (code, document, _) = told(&p, &args);
    let answers = document["answers"].as_array().unwrap();
    assert_eq!((code, answers.len()), (3, 2), "{document}");
    let commands: Vec<&str> = answers.iter().map(|a| a["command"].as_str().unwrap()).collect();
    assert!(
        commands[0].ends_with("--dates day-first") && commands[1].ends_with("--dates month-first"),
        "{commands:?}"
    );
    assert!(document["then"].as_str().unwrap().starts_with("stavel auto "));
    answer(&p, commands[0], "");
    // It goes on, and says in one sentence what it cannot do: the two have no bars of one frame.
    let (code, out, err) = p.told(&args.iter().map(String::as_str).collect::<Vec<_>>());
    assert_eq!(code, 1, "{out}");
    assert!(
        err.contains("no bars of one instrument at one frame") && err.trim().lines().count() == 1,
        "{err}"
    );
}

#[test]
fn sources_that_are_not_alike_leave_the_clock_to_a_person() {
    let p = Program::new();
    // The broker's rows in another order of days are no market that the vendor knows.
    let text = std::fs::read_to_string(path("tarn/NOKSEK_1m.csv")).unwrap();
    let mut lines: Vec<&str> = text.lines().collect();
    let prices: Vec<String> =
        lines[1..].iter().rev().map(|l| l.splitn(3, ';').nth(2).unwrap_or("").to_owned()).collect();
    let rows: Vec<String> = lines
        .drain(1..)
        .zip(prices)
        .map(|(l, rest)| l.splitn(3, ';').take(2).collect::<Vec<_>>().join(";") + ";" + &rest)
        .collect();
    let broker = p.file("NOKSEK_1m.csv", format!("{}\n{}\n", text.lines().next().unwrap(), rows.join("\n")));
    let mut args = whole("out");
    args[5] = broker;
    let (code, document, _) = told(&p, &args);
    assert_eq!(code, 3, "{document}");
    assert_eq!(document["question"], "Which clock does NOKSEK@tarn:1m keep?");
    let answers = document["answers"].as_array().unwrap();
    assert!(answers.iter().any(|a| a["command"].as_str().unwrap().contains("--clock CLOCK")), "{answers:?}");
    assert!(p.json(&["shelf"]).to_string().contains("NOKSEK@quill:1m"), "what was done before it stays");
}

#[test]
fn a_file_that_has_grown_is_taken_in_again_and_others_on_the_shelf_are_left_alone() {
    let p = Program::new();
    let text = std::fs::read_to_string(path("tarn/NOKSEK_1m.csv")).unwrap();
    let lines: Vec<&str> = text.lines().collect();
    let broker = p.file("NOKSEK_1m.csv", lines[..lines.len() - 500].join("\n") + "\n");
    // Another instrument of the same two sources lies on the shelf already: it is none of this command's.
    p.json(&["intake", &path("quill/NZDSEK_1m"), "--source", "quill", "--clock", "UTC"]);
    let mut args = whole("out");
    args[5] = broker;
    let (code, document, err) = told(&p, &args);
    assert_eq!((code, &document["joined"]), (0, &"NOKSEK@joined:1m".into()), "{err}");
    assert!(document.get("all_joined").is_none() && !document.to_string().contains("NZDSEK"), "{document}");
    let rows = |document: &Value| {
        let files = document["files"].as_array().unwrap();
        files.iter().find(|f| f["series"] == "NOKSEK@joined:1m").unwrap()["rows"].as_u64().unwrap()
    };
    let before = rows(&document);
    p.file("NOKSEK_1m.csv", &text);
    let (_, document, err) = told(&p, &args);
    let intake = &document["steps"][0]["report"]["series"][0];
    assert_eq!((&intake["series"], &intake["rows_kept"]), (&"NOKSEK@tarn:1m".into(), &500.into()), "{err}");
    assert!(rows(&document) >= before, "what was delivered has the new rows");
    // The recipe is the same, in an order that goes through on an empty shelf.
    assert_eq!(document["recipe"], "out/recipe.toml");
    assert!(!p.dir.path().join("out/recipe-2.toml").exists());
    Program::new().json(&["run", &p.dir.path().join("out/recipe.toml").display().to_string()]);
}

#[test]
fn a_series_of_the_broker_without_a_partner_is_told() {
    let p = Program::new();
    let folder = p.dir.path().join("tarn");
    std::fs::create_dir(&folder).unwrap();
    std::fs::copy(path("tarn/NOKSEK_1m.csv"), folder.join("NOKSEK_1m.csv")).unwrap();
    let mut hours = String::from("Time,Open,High,Low,Close,Volume\n");
    for hour in 0..240 {
        hours += &format!("2024-03-{:02} {:02}:00,0.64,0.65,0.63,0.64,7\n", 4 + hour / 24, hour % 24);
    }
    std::fs::write(folder.join("NZDSEK_1h.csv"), hours).unwrap();
    let mut args = whole("out");
    args[5] = folder.display().to_string();
    let words: Vec<&str> = args.iter().map(String::as_str).collect();
    let (code, out, err) = p.told(&words);
    assert_eq!(code, 3, "{out}{err}");
    assert!(out.contains("▲ NZDSEK@tarn:1h has no partner and is left as it is"), "{out}");
    assert!(out.contains("NOKSEK_joined_1m.csv"), "the others are joined: {out}");
}
