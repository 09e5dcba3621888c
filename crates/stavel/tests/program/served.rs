//! Rehearsals that are served to a person's own program: the example client, the same as a script, and by lines.

use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use serde_json::Value;

use super::support::Program;

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// A shelf with the ticks and minutes of the vendor, of which the clock is known.
fn with_ticks() -> Program {
    let p = Program::new();
    for path in ["quill/NOKSEK_1m", "quill/NOKSEK_ticks"] {
        let path = super::support::demo().join(path).display().to_string();
        p.told(&["intake", &path, "--source", "quill", "--clock", "UTC"]);
    }
    p.json(&["compose", "NOKSEK", "--set", "spread=14"]);
    p
}

fn python(args: &[&str]) -> (bool, String, String) {
    let out = Command::new("python3")
        .arg(root().join("examples/crossing.py"))
        .args(args)
        .env("PYTHONPATH", root().join("target/engines"))
        .output()
        .unwrap();
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    (out.status.success(), text(&out.stdout), text(&out.stderr))
}

#[test]
fn the_example_client_trades_as_the_script_does_served_and_by_lines() {
    let p = with_ticks();
    let span = ["--from", "2024-03-11", "--to", "2024-03-15"];
    let script = root().join("examples/crossing.orders").display().to_string();
    let run = [&["rehearse", "NOKSEK@quill:1m", "--script", &script, "--json"], &span[..]].concat();
    let (_, out, err) = p.told(&run);
    let told: Value = serde_json::from_str(&out).unwrap_or_else(|e| panic!("{e}: {err}"));
    let text = |fill: &Value, key: &str| fill[key].as_str().unwrap().to_owned();
    let keys = ["time", "side", "lots", "price", "reason"];
    let scripted: Vec<String> = told["fills"]
        .as_array()
        .unwrap()
        .iter()
        .map(|fill| keys.map(|key| text(fill, key)).join(" "))
        .collect();
    assert!(scripted.len() > 50, "{} fills are no test", scripted.len());
    let served = [&["rehearse", "NOKSEK@quill:1m", "--serve", "127.0.0.1:0", "--json"], &span[..]].concat();
    let mut child = p.command(&served).stdout(Stdio::piped()).spawn().unwrap();
    let mut line = String::new();
    BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
    let told: Value = serde_json::from_str(&line).unwrap();
    let (good, out, err) = python(&[told["address"].as_str().unwrap()]);
    let _ = child.kill();
    let _ = child.wait();
    assert!(good, "make test puts the package there (scripts/engines.sh): {err}");
    assert_eq!(out.lines().collect::<Vec<_>>(), scripted, "{err}");
    let program = env!("CARGO_BIN_EXE_stavel");
    let shelf = p.shelf().display().to_string();
    let by_lines = ["-", program, "--shelf", &shelf, "rehearse", "NOKSEK@quill:1m", "--serve", "-"];
    let (good, out, err) = python(&[&by_lines[..], &span[..]].concat());
    assert!(good, "{err}");
    assert_eq!(out.lines().collect::<Vec<_>>(), scripted, "{err}");
}

#[test]
fn what_cannot_be_served_is_refused_with_one_sentence() {
    let p = with_ticks();
    for (args, why) in [
        (vec!["--serve", "here"], "is no address and port"),
        (vec!["--serve", "0.0.0.0:0"], "STAVEL_SERVE_TOKEN"),
        (vec!["--serve", "-", "--pace", "60"], "leave --pace away"),
        (vec!["--serve", "127.0.0.1:0", "--pace", "fast"], "is no pace"),
        (vec!["--serve", "127.0.0.1:0", "--from", "2030-01-01"], "has nothing to play in that span"),
        (vec!["--serve", "127.0.0.1:0", "--latency", "soon"], "is not a latency"),
    ] {
        let (code, _, err) = p.told(&[&["rehearse", "NOKSEK@quill:1m"], &args[..]].concat());
        assert!(code != 0 && err.contains(why), "{args:?}: {code} {err}");
    }
}

#[test]
fn orders_of_all_types_are_played_compared_and_written() {
    let p = with_ticks();
    let orders = "time,instrument,side,type,lots,price,stop,target,until\n\
        2024-03-28T08:00Z,NOKSEK,buy,market,1,,120pt,240pt,\n\
        2024-03-28T09:00Z,NOKSEK,sell,limit,0.5,1.50000,,,day\n\
        2024-03-28T10:00Z,NOKSEK,sell,stop,0.5,1.50000,,,\n\
        2024-03-28T11:00Z,NOKSEK,buy,trailing,0.5,80pt,,,2024-03-29T11:00Z\n";
    let path = p.file("orders.csv", orders);
    let run = ["rehearse", "NOKSEK@quill:ticks", "--orders", &path, "--to", "2024-03-30", "--json"];
    let (code, out, err) = p.told(&run);
    assert_eq!(code, 3, "a refused and an expired order are told: {err}");
    let told: Value = serde_json::from_str(&out).unwrap();
    assert_eq!(told["expired"].as_array().unwrap().len(), 1, "{told}");
    assert!(told["refused"][0]["why"].as_str().unwrap().contains("must lie below the bid"), "{told}");
    assert_eq!(told["fills"][0]["instrument"], "NOKSEK");
    assert_eq!(
        told["statistics"]["trades"],
        told["fills"]
            .as_array()
            .unwrap()
            .iter()
            .map(|f| f["closed"].as_array().unwrap().len())
            .sum::<usize>()
    );
    let earlier = p.file("run.json", &out);
    let same = p.told(&[&run[..], &["--against", &earlier]].concat());
    let same: Value = serde_json::from_str(&same.1).unwrap();
    assert_eq!(same["against"]["same"], true);
    let slower = p.told(&[&run[..], &["--against", &earlier, "--latency", "3s", "--slippage", "2"]].concat());
    let slower: Value = serde_json::from_str(&slower.1).unwrap();
    assert_eq!(
        (slower["against"]["same"].as_bool(), slower["against"]["first"]["fill"].as_u64()),
        (Some(false), Some(1))
    );
    for name in ["run.html", "run.pdf", "run.csv"] {
        let (_, _, err) = p.told(&[&run[..], &["--out", name]].concat());
        let bytes = std::fs::read(p.dir.path().join(name)).unwrap_or_else(|e| panic!("{name}: {e} {err}"));
        assert!(bytes.len() > 200, "{name}");
    }
    let pdf = p.dir.path().join("run.pdf").display().to_string();
    assert!(Command::new("qpdf").args(["--check", &pdf]).output().unwrap().status.success());
    let text = Command::new("pdftotext").args([&pdf, "-"]).output().unwrap();
    assert!(String::from_utf8_lossy(&text.stdout).contains("what it came to"));
    // Money of two currencies is asked for, and counted by the pair that is played.
    let (code, _, err) = p.told(&["rehearse", "NOKSEK@quill:ticks", "--orders", &path, "--account", "EUR"]);
    assert!(code != 0 && err.contains("No pair on the shelf leads from SEK"), "{err}");
    let in_nok = p.told(&[&run[..], &["--account", "NOK", "--balance", "50000"]].concat());
    let in_nok: Value = serde_json::from_str(&in_nok.1).unwrap();
    assert_eq!(in_nok["currency"], "NOK");
    let number = |of: &Value, key: &str| of[key].as_str().unwrap().parse::<f64>().unwrap();
    let rate = number(&told, "realised") / number(&in_nok, "realised");
    assert!((0.9..1.1).contains(&rate), "a krone of one is about a krona of the other: {rate}");
}
