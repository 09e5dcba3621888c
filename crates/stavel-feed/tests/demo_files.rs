//! The committed demo files are what the generator writes, and small enough.

use std::path::{Path, PathBuf};

use stavel_feed::{DemoSpans, demo::SEED, write_demo};

fn files_below(folder: &Path) -> Vec<PathBuf> {
    let mut out = Vec::new();
    for entry in std::fs::read_dir(folder).unwrap().map(Result::unwrap) {
        if entry.file_type().unwrap().is_dir() {
            out.extend(files_below(&entry.path()));
        } else {
            out.push(entry.path());
        }
    }
    out.sort();
    out
}

#[test]
fn the_demo_is_regenerated_byte_for_byte() {
    let made = tempfile::tempdir().unwrap();
    write_demo(made.path(), &DemoSpans::small(), SEED).unwrap();
    let committed = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo");
    let inside = |folder: &Path| -> Vec<PathBuf> {
        let all = files_below(folder).into_iter().map(|p| p.strip_prefix(folder).unwrap().to_owned());
        all.filter(|p| !p.starts_with("out")).collect()
    };
    assert_eq!(inside(made.path()), inside(&committed));
    let mut total = 0;
    for file in inside(made.path()) {
        let bytes = std::fs::read(made.path().join(&file)).unwrap();
        assert!(bytes == std::fs::read(committed.join(&file)).unwrap(), "{} differs", file.display());
        assert!(bytes.len() <= 3_000_000, "{} is too large", file.display());
        total += bytes.len();
    }
    assert!(total <= 12_000_000, "the demo has {total} bytes");
}

#[test]
fn another_seed_is_another_market() {
    let (a, b) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    write_demo(a.path(), &DemoSpans::small(), 1).unwrap();
    write_demo(b.path(), &DemoSpans::small(), 2).unwrap();
    let file = "quill/NOKSEK_1m/NOKSEK_1m_2024.csv";
    assert_ne!(std::fs::read(a.path().join(file)).unwrap(), std::fs::read(b.path().join(file)).unwrap());
}
