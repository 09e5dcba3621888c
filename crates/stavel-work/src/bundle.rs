//! A shelf, or a recipe with the files it reads, as one file for a colleague.
//!
//! A bundle is a ZIP archive. Its last entry, `stavel-bundle.json`, names every other one with its length and SHA-256;
//! taking it apart compares them, and writes nothing where one is not as it was put in.

use std::fs::File;
use std::io::{Read, Write};
use std::path::{Component, Path, PathBuf};

use serde::{Deserialize, Serialize};
use serde_json::json;
use zip::CompressionMethod;
use zip::write::SimpleFileOptions;

use crate::recipe::Recipe;
use crate::report::{StepReport, bytes_in_words};
use stavel_core::deliver::with_ending;
use stavel_core::fingerprint::Sha256;
use stavel_core::job::Job;
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};

const INDEX: &str = "stavel-bundle.json";

/// What bundles are written in now.
const VERSION: u32 = 1;

/// What a bundle holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum BundleKind {
    /// A whole shelf.
    Shelf,
    /// A recipe with the files it reads.
    Recipe,
}

#[derive(Debug, Serialize, Deserialize)]
struct BundleIndex {
    stavel_bundle: u32,
    kind: BundleKind,
    files: Vec<BundledFile>,
}

#[derive(Debug, Serialize, Deserialize)]
struct BundledFile {
    path: String,
    bytes: u64,
    sha256: String,
}

/// Puts a shelf that is open to write, so that nobody changes it meanwhile, into a bundle.
///
/// # Errors
/// Where the bundle is there already, or a file cannot be read or written.
pub fn bundle_shelf(shelf: &Shelf, out: &Path, job: &Job) -> Result<StepReport> {
    let room = tempfile::tempdir()?;
    let catalog = room.path().join("catalog.db");
    shelf.copy_catalog(&catalog)?;
    let mut files = vec![("catalog.db".to_owned(), catalog)];
    collect(shelf.root(), shelf.root(), &stays_behind, &mut files)?;
    write_bundle(BundleKind::Shelf, &files, out, job)
}

/// True for what does not go with a shelf: the catalog, which is copied whole, locks, and what is being written.
fn stays_behind(name: &str) -> bool {
    name.starts_with("catalog.db")
        || name == "writing"
        || name == "writer.lock"
        || name == "feeds/spool"
        || name.ends_with(".tmp")
}

/// The files below a folder, by their path from `root`, but for those that stay behind.
fn collect(
    root: &Path,
    folder: &Path,
    stays: &dyn Fn(&str) -> bool,
    files: &mut Vec<(String, PathBuf)>,
) -> Result<()> {
    let failed = |e: std::io::Error| Error::io("Cannot read", folder, &e);
    let inside = std::fs::read_dir(folder).map_err(failed)?.map(|entry| Ok(entry?.path()));
    let mut inside: Vec<PathBuf> = inside.collect::<std::io::Result<_>>().map_err(failed)?;
    inside.sort();
    for path in inside {
        let name = path.strip_prefix(root).unwrap_or(&path).to_string_lossy().replace('\\', "/");
        if stays(&name) {
            continue;
        }
        match path.is_dir() {
            true => collect(root, &path, stays, files)?,
            false => files.push((name, path)),
        }
    }
    Ok(())
}

/// Puts a recipe and the files it reads into a bundle, in which its paths lead to them.
///
/// # Errors
/// Where a file is missing, the bundle is there already, or it cannot be written.
pub fn bundle_recipe(recipe: &Path, out: &Path, job: &Job) -> Result<StepReport> {
    let mut parsed = Recipe::read(recipe)?;
    let mut files: Vec<(String, PathBuf)> = Vec::new();
    for step in &mut parsed.step {
        step.bring_inputs(&mut |path: &Path| {
            if let Some((name, _)) = files.iter().find(|(_, there)| there == path) {
                return Ok(PathBuf::from(name));
            }
            if !path.exists() {
                return Err(Error::input(format!(
                    "{} is not there, and the recipe reads it; a bundle without it would be of no use.",
                    path.display()
                )));
            }
            let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
            let inside = (1..)
                .map(|n| if n == 1 { format!("files/{name}") } else { format!("files/{n}-{name}") })
                .find(|inside| !files.iter().any(|(taken, _)| taken == inside))
                .unwrap_or(name);
            files.push((inside.clone(), path.to_owned()));
            Ok(PathBuf::from(inside))
        })?;
    }
    let room = tempfile::tempdir()?;
    let text = room.path().join("recipe.toml");
    std::fs::write(&text, parsed.to_text()?).map_err(|e| Error::io("Cannot write", &text, &e))?;
    // A folder that a step reads goes in file by file.
    let mut all = vec![("recipe.toml".to_owned(), text)];
    for (inside, path) in files {
        match path.is_dir() {
            true => {
                let mut within = Vec::new();
                collect(&path, &path, &|_| false, &mut within)?;
                all.extend(within.into_iter().map(|(name, path)| (format!("{inside}/{name}"), path)));
            }
            false => all.push((inside, path)),
        }
    }
    write_bundle(BundleKind::Recipe, &all, out, job)
}

fn write_bundle(kind: BundleKind, files: &[(String, PathBuf)], out: &Path, job: &Job) -> Result<StepReport> {
    if out.exists() {
        return Err(Error::arguments(format!("{} is there already; name another file.", out.display())));
    }
    let failed = |e: std::io::Error| Error::io("Cannot write", out, &e);
    let folder = out.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    std::fs::create_dir_all(folder).map_err(|e| Error::io("Cannot make", folder, &e))?;
    // Only a whole bundle gets the name.
    let unfinished = with_ending(out, "unfinished");
    let index = write_archive(kind, files, &unfinished, job).inspect_err(|_| {
        let _ = std::fs::remove_file(&unfinished);
    })?;
    std::fs::rename(&unfinished, out).map_err(failed)?;
    let bytes = std::fs::metadata(out).map_err(failed)?.len();
    let line = format!("{}: {} files, {}", out.display(), index.files.len(), bytes_in_words(bytes));
    let json = json!({"bundle": out, "kind": kind, "files": index.files.len(), "bytes": bytes});
    Ok(StepReport { files: vec![out.to_owned()], ..StepReport::new(json, vec![line]) })
}

fn write_archive(
    kind: BundleKind,
    files: &[(String, PathBuf)],
    out: &Path,
    job: &Job,
) -> Result<BundleIndex> {
    let failed = |e: std::io::Error| Error::io("Cannot write", out, &e);
    let mut archive = zip::ZipWriter::new(File::create(out).map_err(failed)?);
    let zipped = |e: zip::result::ZipError| failed(std::io::Error::other(e));
    let total =
        files.iter().filter_map(|(_, path)| std::fs::metadata(path).ok()).map(|about| about.len()).sum();
    job.begin(format!("bundle {}", out.display()), total);
    let mut index = BundleIndex { stavel_bundle: VERSION, kind, files: Vec::new() };
    for (name, path) in files {
        // Data files are packed already.
        let method =
            if name.ends_with(".parquet") { CompressionMethod::Stored } else { CompressionMethod::Deflated };
        let options = SimpleFileOptions::default().compression_method(method).large_file(true);
        archive.start_file(name.as_str(), options).map_err(zipped)?;
        let from = File::open(path).map_err(|e| Error::io("Cannot read", path, &e))?;
        let (bytes, sha256) = copied(from, &mut archive, u64::MAX, job)?;
        index.files.push(BundledFile { path: name.clone(), bytes, sha256 });
    }
    archive.start_file(INDEX, SimpleFileOptions::default()).map_err(zipped)?;
    let text = serde_json::to_string_pretty(&index).unwrap_or_default();
    archive.write_all(text.as_bytes()).map_err(failed)?;
    let file = archive.finish().map_err(zipped)?;
    file.sync_all().map_err(failed)?;
    Ok(index)
}

/// Copies at most so many bytes; gives their number and their SHA-256.
fn copied(mut from: impl Read, to: &mut impl Write, most: u64, job: &Job) -> Result<(u64, String)> {
    let (mut hash, mut bytes, mut piece) = (Sha256::default(), 0u64, vec![0; 1 << 20]);
    loop {
        let got = from.read(&mut piece)?;
        bytes += got as u64;
        if got == 0 || bytes > most {
            return Ok((bytes, hash.hex()));
        }
        job.advance(got as u64)?;
        hash.update(&piece[..got]);
        to.write_all(&piece[..got])?;
    }
}

/// Takes a bundle apart into a folder that is new or empty, and compares every file with what was put in. A shelf is then
/// compared with its catalog.
///
/// # Errors
/// Where the file is no bundle, is damaged, or the folder holds something. Nothing is left of it then.
pub fn unbundle(bundle: &Path, to: &Path, job: &Job) -> Result<StepReport> {
    let is_free =
        !to.exists() || to.is_dir() && std::fs::read_dir(to).is_ok_and(|mut inside| inside.next().is_none());
    if !is_free {
        return Err(Error::arguments(format!(
            "{} holds something; name a folder that is new or empty.",
            to.display()
        )));
    }
    let no_bundle =
        |why: String| Error::input(format!("{} is no bundle of Stavel: {why}.", bundle.display()));
    let file = File::open(bundle).map_err(|e| Error::io("Cannot read", bundle, &e))?;
    let mut archive = zip::ZipArchive::new(file).map_err(|e| no_bundle(e.to_string()))?;
    let index = index_of(&mut archive).ok_or_else(|| no_bundle("it has no index".into()))?;
    if index.stavel_bundle > VERSION {
        return Err(Error::input(format!(
            "{} was written by a newer Stavel; update this one to take it apart.",
            bundle.display()
        )));
    }
    let folder = to.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    std::fs::create_dir_all(folder).map_err(|e| Error::io("Cannot make", folder, &e))?;
    // Within a folder of its own, so that it gets the rights that new folders have here.
    let room = tempfile::TempDir::new_in(folder).map_err(|e| Error::io("Cannot write into", folder, &e))?;
    let whole = room.path().join("whole");
    std::fs::create_dir(&whole).map_err(|e| Error::io("Cannot make", &whole, &e))?;
    job.begin(format!("take {} apart", bundle.display()), index.files.iter().map(|f| f.bytes).sum());
    for entry in &index.files {
        let inside = safe_path(&entry.path).ok_or_else(|| {
            no_bundle(format!("'{}' is no place in a folder", stavel_core::error::printable(&entry.path)))
        })?;
        let place = whole.join(inside);
        if let Some(folder) = place.parent() {
            std::fs::create_dir_all(folder).map_err(|e| Error::io("Cannot make", folder, &e))?;
        }
        let from = archive.by_name(&entry.path).map_err(|e| no_bundle(format!("{}: {e}", entry.path)))?;
        let mut out = File::create(&place).map_err(|e| Error::io("Cannot write", &place, &e))?;
        let (bytes, sha256) = copied(from, &mut out, entry.bytes, job)?;
        out.sync_all().map_err(|e| Error::io("Cannot write", &place, &e))?;
        if (bytes, &sha256) != (entry.bytes, &entry.sha256) {
            return Err(Error::input(format!(
                "{} in {} is not as it was put in; have the bundle sent again.",
                stavel_core::error::printable(&entry.path),
                bundle.display()
            )));
        }
    }
    if index.kind == BundleKind::Shelf {
        let verified = Shelf::open(&whole)?.verify(None, job)?;
        if let Some(fault) = verified.faults.first() {
            return Err(Error::input(format!("The shelf in {} is not whole: {fault}", bundle.display())));
        }
    }
    if to.exists() {
        std::fs::remove_dir(to).map_err(|e| Error::io("Cannot take the place of", to, &e))?;
    }
    std::fs::rename(&whole, to).map_err(|e| Error::io("Cannot name", to, &e))?;
    let next = match index.kind {
        BundleKind::Shelf => format!("stavel --shelf {} opens it", to.display()),
        BundleKind::Recipe => format!("stavel run {} does its steps", to.join("recipe.toml").display()),
    };
    let line = format!("{}: {} files, all as they were put in; {next}", to.display(), index.files.len());
    let json = json!({"to": to, "kind": index.kind, "files": index.files.len(), "verified": true});
    Ok(StepReport::new(json, vec![line]))
}

fn index_of(archive: &mut zip::ZipArchive<File>) -> Option<BundleIndex> {
    // An index of more than this many bytes is none.
    let mut text = String::new();
    archive.by_name(INDEX).ok()?.take(64 << 20).read_to_string(&mut text).ok()?;
    serde_json::from_str(&text).ok()
}

/// A path that stays within its folder.
fn safe_path(path: &str) -> Option<&Path> {
    let path = Path::new(path);
    let stays = path.components().all(|part| matches!(part, Component::Normal(_)));
    (stays && path.components().next().is_some()).then_some(path)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn bundle_with(dir: &Path, path: &str, text: &[u8], sha256: &str) -> PathBuf {
        let out = dir.join("x.zip");
        let mut archive = zip::ZipWriter::new(File::create(&out).unwrap());
        archive.start_file(path, SimpleFileOptions::default()).unwrap();
        archive.write_all(text).unwrap();
        archive.start_file(INDEX, SimpleFileOptions::default()).unwrap();
        let file = BundledFile { path: path.into(), bytes: text.len() as u64, sha256: sha256.into() };
        let index = BundleIndex { stavel_bundle: 1, kind: BundleKind::Recipe, files: vec![file] };
        archive.write_all(serde_json::to_string(&index).unwrap().as_bytes()).unwrap();
        archive.finish().unwrap();
        out
    }

    #[test]
    fn what_is_not_as_it_was_put_in_is_not_taken_apart() {
        let dir = tempfile::tempdir().unwrap();
        let to = dir.path().join("to");
        let told = |path: &str, sha256: &str| {
            let bundle = bundle_with(dir.path(), path, b"abc", sha256);
            let told = unbundle(&bundle, &to, &Job::unwatched())
                .map(|r| r.lines[0].clone())
                .map_err(|e| e.to_string());
            (told, to.exists())
        };
        let right = "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad";
        let (changed, there) = told("recipe.toml", &right.replace('b', "c"));
        assert!(changed.unwrap_err().contains("not as it was put in") && !there);
        for path in ["../up", "/abs", "a/../../b"] {
            let (outside, there) = told(path, right);
            assert!(outside.unwrap_err().contains("no place in a folder") && !there, "{path}");
        }
        let (whole, there) = told("recipe.toml", right);
        assert!(whole.unwrap().contains("1 files") && there);
        let (again, _) = told("recipe.toml", right);
        assert!(again.unwrap_err().contains("holds something"));
        std::fs::write(dir.path().join("no.zip"), "x").unwrap();
        let none =
            unbundle(&dir.path().join("no.zip"), &dir.path().join("b"), &Job::unwatched()).unwrap_err();
        assert!(none.to_string().contains("is no bundle"), "{none}");
    }
}
