//! The order of the modules, and of the crates: what is used stands before what uses it.

#![expect(clippy::unwrap_used, reason = "a test fails by panicking")]

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

fn sources(folder: &Path) -> Vec<PathBuf> {
    let mut all = Vec::new();
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        match path.is_dir() {
            true => all.extend(sources(&path)),
            false if path.extension().is_some_and(|extension| extension == "rs") => all.push(path),
            false => {}
        }
    }
    all
}

/// The words behind each `crate::` of a file, its tests left out: they may look anywhere.
fn used(text: &str) -> BTreeSet<String> {
    let code = text.split("#[cfg(test)]").next().unwrap_or_default();
    let lines = code.lines().filter(|line| !line.trim_start().starts_with("//"));
    let word = |rest: &str| rest.chars().take_while(|c| c.is_ascii_alphanumeric() || *c == '_').collect::<String>();
    lines
        .flat_map(|line| line.split("crate::").skip(1).map(word).collect::<Vec<_>>())
        .filter(|word| !word.is_empty())
        .collect()
}

#[test]
fn each_module_uses_only_modules_before_it() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let root = std::fs::read_to_string(folder.join("lib.rs")).unwrap();
    let order: Vec<&str> =
        root.lines().filter_map(|line| line.strip_prefix("//! - order: ")).flat_map(str::split_whitespace).collect();
    let declared: BTreeSet<&str> = root
        .lines()
        .filter_map(|line| line.trim_start_matches("pub ").strip_prefix("mod ")?.strip_suffix(';'))
        .collect();
    assert_eq!(order.iter().copied().collect::<BTreeSet<_>>(), declared, "the order names every module once");
    assert_eq!(order.len(), declared.len());
    let place = |module: &str| order.iter().position(|each| *each == module);
    let mut wrong = Vec::new();
    for path in sources(&folder) {
        let inside = path.strip_prefix(&folder).unwrap();
        let module = inside.iter().next().unwrap().to_string_lossy().trim_end_matches(".rs").to_owned();
        let is_test = path.file_stem().is_some_and(|stem| stem == "tests" || stem == "brute");
        let Some(own) = place(&module).filter(|_| !is_test) else { continue };
        for other in used(&std::fs::read_to_string(&path).unwrap()) {
            if place(&other).is_some_and(|other| other > own) {
                wrong.push(format!("{} uses {other}, which stands behind {module}", inside.display()));
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn each_crate_depends_only_on_crates_below_it() {
    // From below; none uses one beside it in its own row.
    let rows: [&[&str]; 6] = [
        &["core", "plot"],
        &["store", "simulate", "hsm", "join"],
        &["ward"],
        &["serve", "rig"],
        &["guard", "desk"],
        &["cli"],
    ];
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
    let found: BTreeSet<String> = std::fs::read_dir(folder)
        .unwrap()
        .map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned())
        .collect();
    assert_eq!(found, rows.concat().into_iter().map(str::to_owned).collect(), "every crate has a row");
    for (row, crates) in rows.iter().enumerate() {
        for name in *crates {
            let manifest = std::fs::read_to_string(folder.join(name).join("Cargo.toml")).unwrap();
            let mut section = "";
            for line in manifest.lines() {
                section = if line.starts_with('[') { line } else { section };
                let Some(line) = line.strip_prefix("tidy-warden-") else { continue };
                let other = line.split(['.', ' ', '=']).next().unwrap();
                // What tests stand on makes wards, for tests of whatever crate, and is in none.
                if other == "rig" {
                    assert_eq!(section, "[dev-dependencies]", "{name} uses {other}");
                    continue;
                }
                let below = rows[..row].iter().any(|row| row.contains(&other));
                assert!(below, "{name} uses {other}, which is not below it");
            }
        }
    }
}
