//! How the code is divided: which module may name which. Imports are read as text, so these tests hold for code that
//! nobody has compiled yet.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// A module by the names that lead to it from its crate.
type Module = Vec<String>;

/// The modules of a crate with their code: without comments, and without tests.
fn modules(src: &Path) -> BTreeMap<Module, String> {
    let mut out = BTreeMap::new();
    let mut folders = vec![src.to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(&folder).unwrap() {
            let path = entry.unwrap().path();
            let relative = path.strip_prefix(src).unwrap().with_extension("");
            let mut module: Module = relative.iter().map(|part| part.to_str().unwrap().to_owned()).collect();
            let is_test = module.iter().any(|name| name.ends_with("tests") || name == "trials");
            if path.is_dir() {
                folders.push(path);
            } else if path.extension().is_some_and(|e| e == "rs") && !is_test {
                module.pop_if(|last| matches!(last.as_str(), "mod" | "lib" | "main"));
                out.insert(module, code_of(&std::fs::read_to_string(&path).unwrap()));
            }
        }
    }
    out
}

fn code_of(text: &str) -> String {
    let code = text.split("#[cfg(test)]\nmod tests").next().unwrap();
    code.lines().map(|l| l.split("//").next().unwrap().to_owned() + "\n").collect()
}

/// The paths that begin with `crate` or `super` in some code, each as its names; groups in braces are taken apart.
fn paths(code: &str) -> Vec<Vec<String>> {
    let mut out = Vec::new();
    let bytes = code.as_bytes();
    let is_name = |c: u8| c.is_ascii_alphanumeric() || c == b'_';
    for root in ["crate::", "super::"] {
        for (at, _) in code.match_indices(root) {
            // Not the end of a longer name, nor the second `super` of a path.
            if at > 0 && (is_name(bytes[at - 1]) || bytes[at - 1] == b':') {
                continue;
            }
            let mut names: Vec<String> = Vec::new();
            let mut rest = &code[at..];
            loop {
                let end = rest.bytes().position(|c| !is_name(c)).unwrap_or(rest.len());
                if end == 0 {
                    break;
                }
                names.push(rest[..end].to_owned());
                match rest[end..].strip_prefix("::") {
                    Some(after) => rest = after,
                    None => break,
                }
            }
            match rest.strip_prefix('{').and_then(|group| group.split('}').next()) {
                Some(group) => out.extend(group.split(',').map(|item| {
                    let first = item.trim().split("::").next().unwrap_or_default();
                    let first = first.split_whitespace().next().unwrap_or_default();
                    names.iter().cloned().chain([first.to_owned()]).collect()
                })),
                None => out.push(names),
            }
        }
    }
    out
}

/// For each module the names it gives on of its children.
fn given_on(modules: &BTreeMap<Module, String>) -> BTreeMap<(Module, String), Module> {
    let mut out = BTreeMap::new();
    for (module, code) in modules {
        for line in code.split(';') {
            let Some((_, used)) = line.split_once("use ").filter(|(before, _)| before.contains("pub")) else {
                continue;
            };
            let Some((child, names)) = used.trim_start_matches("self::").split_once("::") else { continue };
            let child: Module = module.iter().cloned().chain([child.trim().to_owned()]).collect();
            if modules.contains_key(&child) {
                for name in names.split(|c: char| !c.is_alphanumeric() && c != '_').filter(|n| !n.is_empty())
                {
                    out.insert((module.clone(), name.to_owned()), child.clone());
                }
            }
        }
    }
    out
}

/// The arrows between modules that lie in one folder: who names whom.
fn arrows(modules: &BTreeMap<Module, String>) -> BTreeMap<Module, BTreeSet<Module>> {
    let given = given_on(modules);
    let mut out: BTreeMap<Module, BTreeSet<Module>> = BTreeMap::new();
    for (module, code) in modules {
        for path in paths(code) {
            let ups = path.iter().take_while(|name| *name == "super").count();
            let from = if ups == 0 { 0 } else { module.len().saturating_sub(ups) };
            let mut named: Module = module[..from].to_vec();
            for name in path.iter().skip(ups.max(1)) {
                let child: Module = named.iter().cloned().chain([name.clone()]).collect();
                match (modules.contains_key(&child), given.get(&(named.clone(), name.clone()))) {
                    (true, _) => named = child,
                    (false, Some(child)) => named = child.clone(),
                    _ => break,
                }
            }
            // Two modules meet where their ways part.
            let same = module.iter().zip(&named).take_while(|(a, b)| a == b).count();
            if same < module.len() && same < named.len() {
                out.entry(module[..=same].to_vec()).or_default().insert(named[..=same].to_vec());
            }
        }
    }
    out
}

/// A way along the arrows that ends where it began; none where there is no such way.
fn circle(arrows: &BTreeMap<Module, BTreeSet<Module>>) -> Option<Vec<String>> {
    fn walk(
        at: &Module,
        arrows: &BTreeMap<Module, BTreeSet<Module>>,
        way: &mut Vec<Module>,
        done: &mut BTreeSet<Module>,
    ) -> Option<Vec<Module>> {
        if let Some(begin) = way.iter().position(|m| m == at) {
            return Some(way[begin..].to_vec());
        }
        if !done.insert(at.clone()) {
            return None;
        }
        way.push(at.clone());
        let found = arrows.get(at).into_iter().flatten().find_map(|next| walk(next, arrows, way, done));
        way.pop();
        found
    }
    let mut done = BTreeSet::new();
    let found = arrows.keys().find_map(|start| walk(start, arrows, &mut Vec::new(), &mut done))?;
    Some(found.iter().map(|module| module.join("::")).collect())
}

fn crates() -> Vec<PathBuf> {
    let all = std::fs::read_dir(Path::new(env!("CARGO_MANIFEST_DIR")).join("..")).unwrap();
    all.map(|entry| entry.unwrap().path().join("src")).filter(|src| src.is_dir()).collect()
}

#[test]
fn modules_name_each_other_in_no_circle() {
    let mut arrows_seen = 0;
    for src in crates() {
        let arrows = arrows(&modules(&src));
        arrows_seen += arrows.values().map(BTreeSet::len).sum::<usize>();
        assert_eq!(circle(&arrows), None, "in {}", src.display());
    }
    assert!(arrows_seen > 300, "only {arrows_seen} arrows were read");
}

#[test]
fn a_circle_is_seen() {
    let of = |files: &[(&str, &str)]| -> BTreeMap<Module, String> {
        let module = |path: &str| path.split('/').map(str::to_owned).collect();
        files.iter().map(|(path, code)| (module(path), code_of(code))).collect()
    };
    let straight = [
        ("a", "pub mod x;\npub use x::Thing;"),
        ("a/x", "use super::y::Y;"),
        ("a/y", "// use super::x::X;\npub struct Y;"),
        ("b", "use crate::a::{Thing, x};"),
    ];
    assert_eq!(circle(&arrows(&of(&straight))), None);
    let mut round = straight;
    round[2].1 = "use crate::a::{Thing};";
    assert_eq!(circle(&arrows(&of(&round))), Some(vec!["a::x".into(), "a::y".into()]));
    round[2].1 = "fn f() { super::super::b::g() }";
    assert_eq!(circle(&arrows(&of(&round))), Some(vec!["a".into(), "b".into()]));
}

#[test]
fn stages_stand_on_the_store_and_the_store_on_the_model() {
    let core = modules(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../stavel-core/src"));
    let arrows = arrows(&core);
    let named_by = |module: &str| -> BTreeSet<String> {
        let named = arrows.get(&vec![module.to_owned()]).cloned().unwrap_or_default();
        named.into_iter().map(|m| m[0].clone()).collect()
    };
    let may = |names: &[&str]| names.iter().map(|n| (*n).to_owned()).collect::<BTreeSet<_>>();
    assert!(named_by("model").is_subset(&may(&["advice", "error"])), "{:?}", named_by("model"));
    // Levels are bars of rows; those know nothing of a store.
    assert!(named_by("bars").is_subset(&may(&["error", "model"])), "{:?}", named_by("bars"));
    assert!(
        named_by("store").is_subset(&may(&["advice", "bars", "error", "job", "model"])),
        "{:?}",
        named_by("store")
    );
}

#[test]
fn lenses_know_neither_the_bench_nor_each_other() {
    let tui = modules(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../stavel-tui/src"));
    let names_app = |code: &str| code.split(|c: char| !c.is_alphanumeric() && c != '_').any(|w| w == "App");
    let owners: Vec<String> =
        tui.iter().filter(|(_, code)| names_app(code)).map(|(module, _)| module.join("::")).collect();
    // The crate itself, the bench, what draws it and hands it keys, and what measures both.
    assert_eq!(owners, ["", "app", "app::guiding", "measure", "screen", "terminal"]);
    let lens_of = |module: &Module| module[1].split('_').next().unwrap().to_owned();
    for (from, to) in arrows(&tui).iter().flat_map(|(from, all)| all.iter().map(move |to| (from, to))) {
        if from[0] == "lens" && from.len() == 2 {
            let is_own = lens_of(from) == lens_of(to) || ["strokes", "drawer"].contains(&to[1].as_str());
            assert!(is_own, "{} names {}", from.join("::"), to.join("::"));
        }
    }
}

#[test]
fn a_type_has_a_name_of_its_own_in_the_whole_workspace() {
    let mut owners: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for src in crates() {
        for (module, code) in modules(&src) {
            let words: Vec<&str> = code.split_whitespace().collect();
            for pair in words.windows(2).filter(|pair| matches!(pair[0], "struct" | "enum" | "trait")) {
                let name = pair[1].split(|c: char| !c.is_alphanumeric()).next().unwrap();
                owners.entry(name.to_owned()).or_default().push(module.join("::"));
            }
        }
    }
    assert!(owners.len() > 250, "only {} types were read", owners.len());
    owners.retain(|_, modules| modules.len() > 1);
    assert!(owners.is_empty(), "{owners:?}");
}
