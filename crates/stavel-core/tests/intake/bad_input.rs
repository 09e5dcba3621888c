//! What is damaged, dangerous or too much is told in one sentence, and nothing is taken.

use std::io::Write;

use proptest::prelude::*;
use stavel_core::intake::{Hints, plan};

use crate::support::{Desk, minutes, quill};

/// The sentence with which a file is refused; the shelf must be empty after it.
fn refused(desk: &mut Desk, name: &str, bytes: impl AsRef<[u8]>) -> String {
    let path = desk.file(name, bytes);
    let told =
        desk.take_all(&path, &Hints { instrument: Some("X".into()), ..quill() }).unwrap_err().to_string();
    assert!(desk.shelf.series().unwrap().is_empty(), "{told}");
    assert!(!told.contains(['\u{1b}', '\n', '\0']) && told.ends_with('.'), "{told:?}");
    told
}

#[test]
fn damaged_archives_and_tables() {
    let mut desk = Desk::new();
    let text = minutes("2024-03-05 10:00", 5000, 1000);
    let mut gz = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    gz.write_all(text.as_bytes()).unwrap();
    let gz = gz.finish().unwrap();
    assert!(refused(&mut desk, "cut.csv.gz", &gz[..gz.len() / 2]).contains("damaged or cut short"));
    let zst = zstd::encode_all(text.as_bytes(), 1).unwrap();
    assert!(refused(&mut desk, "cut.csv.zst", &zst[..zst.len() / 2]).contains("damaged or cut short"));
    assert!(refused(&mut desk, "x.zip", b"PK\x03\x04 and nothing more").contains("damaged"));
    assert!(refused(&mut desk, "x.parquet", b"PAR1 and nothing more").contains("damaged"));
    assert!(
        refused(&mut desk, "x.json", r#"[{"time":"2024-03-05 10:00","last":1.5},{"time":"#).contains("JSON")
    );
    assert!(refused(&mut desk, "x.html", "<html><p>no table here</p></html>").contains("without a table"));
    assert!(refused(&mut desk, "nul.csv", [0u8; 4096]).contains("not a table"));
    assert!(refused(&mut desk, "empty.csv", "").contains("empty"));
}

#[test]
fn archives_that_reach_out_or_never_end() {
    let mut desk = Desk::new();
    let zipped = |name: &str, text: &[u8]| {
        let mut bytes = std::io::Cursor::new(Vec::new());
        let mut zip = zip::ZipWriter::new(&mut bytes);
        zip.start_file(name, zip::write::SimpleFileOptions::default()).unwrap();
        zip.write_all(text).unwrap();
        zip.finish().unwrap();
        bytes.into_inner()
    };
    let text = minutes("2024-03-05 10:00", 50, 1000);
    for name in ["../X.csv", "/etc/X.csv", "a/../../X.csv"] {
        // The writer would not write such a name, so it is put in the place of a harmless one.
        let harmless = "b".repeat(name.len());
        let mut bytes = zipped(&harmless, text.as_bytes());
        let places: Vec<usize> = memchr::memmem::find_iter(&bytes, harmless.as_bytes()).collect();
        places.iter().for_each(|&at| bytes[at..at + name.len()].copy_from_slice(name.as_bytes()));
        assert!(refused(&mut desk, "out.zip", bytes).contains("outside itself"), "{name}");
    }
    // A gigabyte of one line over and over, in a few hundred kilobytes.
    let mut bomb = zstd::Encoder::new(Vec::new(), 1).unwrap();
    let block = "2024-03-05 10:00:00,1.5,1.6\n".repeat(40_000);
    (0..300).for_each(|_| bomb.write_all(block.as_bytes()).unwrap());
    let told = refused(&mut desk, "bomb.csv.zst", bomb.finish().unwrap());
    assert!(told.contains("250 times its size"), "{told}");
}

#[test]
fn a_line_without_end_and_marks_that_steer_a_terminal() {
    let mut desk = Desk::new();
    let mut long = minutes("2024-03-05 10:00", 200, 1000).into_bytes();
    long.extend(std::iter::repeat_n(b'1', 6 << 20));
    assert!(refused(&mut desk, "long.csv", &long).contains("line of more than"));
    let told =
        refused(&mut desk, "x\u{1b}[31m.csv", "\u{1b}[2Jhello\n".to_owned() + &"world of words\n".repeat(20));
    assert!(told.contains("recognises"), "{told}");
    let mut text = minutes("2024-03-05 10:00", 50, 1000);
    text.push_str("2024-03-05 11:00,\u{1b}[2J,1,1,1,1\n2224-03-05 11:00,1,1,1,1,1\n");
    text.push_str("2024-03-05 11:01,99999999999999999999,1,1,1,1\n");
    let taken = desk.take(&desk.dir.path().join(desk.file("X.csv", text)), quill()).unwrap();
    assert_eq!((taken.rows_kept, taken.rows_rejected, taken.rows_read), (50, 3, 53));
    let reasons: Vec<&str> = taken.reasons.keys().map(String::as_str).collect();
    assert_eq!(
        reasons,
        [
            "column 1 is not a time between 1900 and 2200",
            "column 2 is not a number",
            "column 2 is too large a number"
        ]
    );
    let rejects = stavel_core::intake::read_rejects(desk.shelf.root(), "X-quill-1m-1").unwrap();
    assert_eq!((rejects[0].line, rejects[1].line), (52, 53));
    assert_eq!(rejects[0].raw, "2024-03-05 11:00,\u{1b}[2J,1,1,1,1".as_bytes());
}

#[test]
#[cfg(unix)]
fn files_that_may_not_be_read_are_not_there_or_change() {
    let desk = Desk::new();
    let path = desk.file("X.csv", minutes("2024-03-05 10:00", 50, 1000));
    let gone = plan(&desk.shelf, &[desk.dir.path().join("y.csv")], &quill()).unwrap_err().to_string();
    assert!(gone.starts_with("There is no file"), "{gone}");
    let none = plan(&desk.shelf, &[desk.dir.path().join("*.json")], &quill()).unwrap_err().to_string();
    assert!(none.contains("No file matches"), "{none}");
    let mut desk = desk;
    let planned = plan(&desk.shelf, std::slice::from_ref(&path), &quill()).unwrap();
    desk.file("X.csv", minutes("2024-03-05 10:00", 60, 1000));
    let told = stavel_core::intake::take(&mut desk.shelf, &planned.plans[0], &Default::default())
        .unwrap_err()
        .to_string();
    assert!(told.contains("was changed while it was read"), "{told}");
    assert!(desk.shelf.series().unwrap().is_empty());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]
    #[test]
    fn no_bytes_make_it_panic(bytes in proptest::collection::vec(any::<u8>(), 0..300), head in 0usize..6) {
        let heads: [&[u8]; 6] = [b"", b"PK\x03\x04", b"PAR1", b"{\"a\":[", b"<table><tr><td>", b"time,open,high,low,close\n2024-03-05,"];
        let desk = Desk::new();
        let path = desk.file("x.csv", [heads[head], &bytes].concat());
        let _ = plan(&desk.shelf, &[path], &Hints { instrument: Some("X".into()), ..quill() });
    }
}
