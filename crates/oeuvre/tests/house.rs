//! How the house stands: uses run one way, and what is added stands in one file and one row.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

fn crates() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("..")
}

/// The source files of a crate, by their path in it without the ending, and without tests.
fn sources(name: &str) -> BTreeMap<String, String> {
    fn walk(folder: &Path, base: &Path, out: &mut BTreeMap<String, String>) {
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                walk(&path, base, out);
            } else if path.extension().is_some_and(|e| e == "rs") {
                let text = std::fs::read_to_string(&path).unwrap();
                let module = path.strip_prefix(base).unwrap().with_extension("");
                let module = module.to_str().unwrap().replace('\\', "/");
                let module = module.strip_suffix("/mod").unwrap_or(&module).to_owned();
                out.insert(module, text);
            }
        }
    }
    let mut out = BTreeMap::new();
    let base = crates().join(name).join("src");
    walk(&base, &base, &mut out);
    // Files that are tests alone are declared so: `#[cfg(test)]`, then `mod name;`.
    const TESTS: &str = "#[cfg(test)]\nmod ";
    let mut only_tests = BTreeSet::new();
    for (module, text) in &mut out {
        let folder = if module == "lib" { String::new() } else { format!("{module}/") };
        while let Some((before, (name, after))) =
            text.split_once(TESTS).and_then(|(b, a)| Some((b, a.split_once(';')?)))
            && name.chars().all(|c| c.is_alphanumeric() || c == '_')
        {
            only_tests.insert(format!("{folder}{name}"));
            *text = format!("{before}{after}");
        }
        let plain = text.split("#[cfg(test)]").next().unwrap_or_default();
        let lines = plain.lines().map(|l| l.split("//").next().unwrap_or_default());
        *text = lines.collect::<Vec<_>>().join("\n");
    }
    out.retain(|module, _| !only_tests.contains(module));
    out
}

/// The paths that a file uses, as `crate::a::b`, `super::a` or `self::a`.
fn paths(text: &str) -> BTreeSet<Vec<String>> {
    let mut out = BTreeSet::new();
    for start in ["crate::", "super::", "self::"] {
        for (at, _) in text.match_indices(start) {
            let mut path = Vec::new();
            let mut rest = &text[at..];
            loop {
                let end =
                    rest.find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(rest.len());
                if end > 0 {
                    path.push(rest[..end].to_owned());
                }
                let Some(after) = rest[end..].strip_prefix("::") else { break };
                rest = after;
                if let Some(list) = rest.strip_prefix('{') {
                    let list = list.split(';').next().unwrap_or_default();
                    for name in list.split(|c: char| !c.is_alphanumeric() && c != '_') {
                        out.insert([path.as_slice(), &[name.to_owned()]].concat());
                    }
                    break;
                }
            }
            out.insert(path);
        }
    }
    out
}

/// Which files of a crate use which.
fn uses(files: &BTreeMap<String, String>) -> BTreeMap<String, BTreeSet<String>> {
    let mut out = BTreeMap::new();
    for (module, text) in files {
        let here: Vec<String> = module.split('/').map(str::to_owned).collect();
        let mut used = BTreeSet::new();
        for path in paths(text) {
            let up = path.iter().take_while(|p| *p == "super").count();
            let base = match path[0].as_str() {
                "crate" => Vec::new(),
                "self" => here.clone(),
                _ => here[..here.len().saturating_sub(up)].to_vec(),
            };
            let rest = &path[up.max(1)..];
            let target: Vec<String> = base.into_iter().chain(rest.iter().cloned()).collect();
            let found = (1..=target.len()).rev().map(|n| target[..n].join("/"));
            if let Some(found) = found.into_iter().find(|t| files.contains_key(t)) {
                // A folder's table of contents may name its files.
                if found != *module && !found.starts_with(&format!("{module}/")) {
                    used.insert(found);
                }
            }
        }
        out.insert(module.clone(), used);
    }
    out
}

/// What can be reached from each, by one use or more.
fn reached(edges: &BTreeMap<String, BTreeSet<String>>) -> BTreeMap<String, BTreeSet<String>> {
    let mut out = BTreeMap::new();
    for start in edges.keys() {
        let (mut seen, mut waiting) = (BTreeSet::new(), vec![start]);
        while let Some(one) = waiting.pop() {
            for next in edges.get(one).into_iter().flatten() {
                if seen.insert(next.clone()) {
                    waiting.push(next);
                }
            }
        }
        out.insert(start.clone(), seen);
    }
    out
}

fn in_circles(edges: &BTreeMap<String, BTreeSet<String>>) -> Vec<String> {
    let reached = reached(edges);
    reached.iter().filter(|(file, all)| all.contains(*file)).map(|(file, _)| file.clone()).collect()
}

const CRATES: [&str; 6] =
    ["oeuvre-columns", "oeuvre-core", "oeuvre-data", "oeuvre-memory", "oeuvre-render", "oeuvre"];

#[test]
fn no_file_and_no_folder_uses_itself_by_way_of_others() {
    for name in CRATES {
        let edges = uses(&sources(name));
        assert!(edges.values().any(|used| !used.is_empty()), "{name}: no uses were found");
        assert_eq!(in_circles(&edges), Vec::<String>::new(), "files of {name}");
        let top = |file: &str| file.split('/').next().unwrap_or_default().to_owned();
        let mut folders: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
        for (from, used) in &edges {
            let of_folder = folders.entry(top(from)).or_default();
            let others = used.iter().map(|to| top(to)).filter(|to| *to != top(from));
            of_folder.extend(others.filter(|to| to != "lib" && to != "main"));
        }
        for outside in ["lib", "main"] {
            folders.remove(outside);
        }
        assert_eq!(in_circles(&folders), Vec::<String>::new(), "folders of {name}");
    }
}

#[test]
fn crates_use_each_other_one_way() {
    let may = |name: &str| -> &[&str] {
        match name {
            "oeuvre-columns" | "oeuvre-memory" => &[],
            "oeuvre-core" | "oeuvre-data" => &["oeuvre-columns"],
            "oeuvre-render" => &["oeuvre-columns", "oeuvre-core"],
            _ => {
                &["oeuvre-columns", "oeuvre-core", "oeuvre-data", "oeuvre-memory", "oeuvre-render"]
            }
        }
    };
    for name in CRATES {
        let manifest = std::fs::read_to_string(crates().join(name).join("Cargo.toml")).unwrap();
        // Tests may use what they like.
        let manifest = manifest.split("[dev-dependencies]").next().unwrap_or_default();
        for other in CRATES.iter().filter(|o| manifest.contains(&format!("\n{o}.workspace"))) {
            assert!(may(name).contains(other), "{name} uses {other}");
        }
    }
}

/// The names in a text that stand in quotes.
fn quoted(text: &str) -> BTreeSet<&str> {
    text.split('"').skip(1).step_by(2).collect()
}

#[test]
fn nothing_but_its_row_knows_a_function_by_name() {
    let files = sources("oeuvre-core");
    // What is foreign here is answered by name, and a state is named for what it keeps.
    let may = |file: &str| {
        file.starts_with("language/functions")
            || file.starts_with("aggregate/")
            || matches!(file, "language/elsewhere" | "language/clauses" | "window/calc")
            || file.starts_with("language/lexer")
    };
    // Words of prose, of headings and of the clause `at least`, which are functions, too.
    let plain = [
        "range", "number", "text", "date", "mean", "median", "count", "total", "end", "start",
        "largest", "smallest", "least", "first", "change", "growth",
    ];
    let mut knows = Vec::new();
    for function in oeuvre_core::language::functions::all() {
        let name = function.name;
        let inside = files.iter().filter(|(f, text)| !may(f) && quoted(text).contains(name));
        knows.extend(inside.map(|(file, _)| format!("{file} knows {name}")));
    }
    knows.retain(|k| !plain.iter().any(|word| k.ends_with(&format!(" {word}"))));
    assert_eq!(knows, Vec::<String>::new());
}

#[test]
fn every_file_that_is_added_has_its_row() {
    let core = sources("oeuvre-core");
    let rows = |file: &str| core[&format!("language/functions/{file}")].clone();
    let of = |folder: &str| -> Vec<String> {
        let inside = core.keys().filter_map(|f| f.strip_prefix(&format!("{folder}/")));
        inside.map(str::to_owned).collect()
    };
    for file in of("aggregate") {
        // A folder is a file by its name.
        let name = file.split('/').next().unwrap_or_default();
        let helper = matches!(
            name,
            "bits"
                | "encoding"
                | "exact_sums"
                | "float_sum"
                | "values"
                | "once"
                | "times"
                | "words"
        );
        assert!(helper || rows("aggregate").contains(&format!("::{file}::")), "aggregate/{file}");
    }
    for file in of("window") {
        // `first` and `last` over cells are the aggregates of these names.
        let helper = matches!(
            file.as_str(),
            "calc" | "order" | "partition" | "places" | "frame" | "first_last"
        );
        assert!(helper || rows("table").contains(&format!("::{file}::")), "window/{file}");
    }
    let render = sources("oeuvre-render");
    let registry = &render["writers"];
    for file in render.keys().filter_map(|f| f.strip_prefix("writers/")) {
        let helper = matches!(file, "page" | "trace");
        assert!(helper || registry.contains(&format!("&{file}::")), "writers/{file}");
    }
}
