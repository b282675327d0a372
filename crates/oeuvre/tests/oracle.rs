//! Random files through the program, held against what a plain reading of the docs says.

mod common;
use common::Folder;
use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet};

type Labels = Vec<String>;

const MISSING: &str = "(missing)";

/// The labels that rows and lookup give to keys, and which keys are filled.
struct Keys<'a> {
    keys: Vec<&'a str>,
    filled: Vec<bool>,
    lookup: &'a [(String, String, String)],
    /// The labels of all rows.
    rows: Vec<Labels>,
}

fn of_lookup(key: &str) -> bool {
    key != "ch"
}

fn label_of(row: &(String, String, String), key: &str) -> String {
    match key {
        "code" => row.0.clone(),
        "grp" => row.1.clone(),
        _ => row.2.clone(),
    }
}

impl Keys<'_> {
    /// Whether nothing is missing and, of several keys of the lookup, one row has all labels.
    fn can_be(&self, keys: &[usize], labels: &[String]) -> bool {
        let fits = |row: &(String, String, String)| {
            keys.iter()
                .zip(labels)
                .all(|(&k, l)| !of_lookup(self.keys[k]) || label_of(row, self.keys[k]) == *l)
        };
        labels.iter().all(|l| l != MISSING)
            && (keys.iter().filter(|&&k| of_lookup(self.keys[k])).count() < 2
                || self.lookup.iter().any(fits))
    }

    /// The lines of an axis: every combination is tried. A new one is right where it leaves what is
    /// there at a key that is filled.
    fn axis(&self, keys: &[usize]) -> BTreeSet<Labels> {
        let here: BTreeSet<Labels> =
            self.rows.iter().map(|r| keys.iter().map(|&k| r[k].clone()).collect()).collect();
        let mut all: Vec<Labels> = vec![Vec::new()];
        for &k in keys {
            let labels: BTreeSet<String> = match of_lookup(self.keys[k]) {
                true => self.lookup.iter().map(|r| label_of(r, self.keys[k])).collect(),
                false => self.rows.iter().map(|r| r[k].clone()).collect(),
            };
            let longer =
                |t: &Labels| labels.iter().map(|l| [t.clone(), vec![l.clone()]].concat()).collect();
            all = all.iter().flat_map::<Vec<Labels>, _>(longer).collect();
        }
        let new = all.into_iter().filter(|t| {
            let leaves = (0..keys.len()).find(|&j| !here.iter().any(|h| h[..=j] == t[..=j]));
            self.can_be(keys, t) && leaves.is_some_and(|j| self.filled[keys[j]])
        });
        here.iter().cloned().chain(new).collect()
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 250, ..ProptestConfig::default() })]

    #[test]
    fn categories_without_rows_are_those_that_the_lookup_has(
        rows in proptest::collection::vec((0usize..8, 0usize..4), 1..9),
        lookup in proptest::collection::vec((0usize..3, 0usize..4), 1..6),
        by in proptest::sample::subsequence(vec!["ch", "code", "grp", "name"], 1..=4).prop_shuffle(),
        across in 0usize..4, every in 0usize..4,
    ) {
        let lookup: Vec<(String, String, String)> = lookup
            .iter()
            .enumerate()
            .map(|(i, (g, n))| (format!("c{i}"), format!("g{g}"), format!("n{n}")))
            .collect();
        let across = by.len() - across.min(by.len() - 1);
        let of: Vec<usize> = (0..by.len()).filter(|&k| of_lookup(by[k])).collect();
        // A column without any code has no kind that a lookup's could be.
        prop_assume!(!of.is_empty() && rows.iter().any(|r| r.0 < 7));
        let every = of[every % of.len()];
        // What stands behind the key on its own axis is not filled.
        let inner = if every < across { every + 1..across } else { every + 1..by.len() };
        let filled = (0..by.len()).map(|k| of_lookup(by[k]) && !inner.contains(&k)).collect();
        let cell = |text: &str| if text.is_empty() { MISSING.to_owned() } else { text.to_owned() };
        let asked: Vec<(String, String)> = rows
            .iter()
            .map(|&(c, ch)| (if c == 7 { String::new() } else { format!("c{c}") }, ["", "app", "desk", "web"][ch].to_owned()))
            .collect();
        let labelled = asked.iter().map(|(code, ch)| {
            let found = lookup.iter().find(|l| l.0 == *code);
            by.iter()
                .map(|key| match *key {
                    "ch" => cell(ch),
                    "code" => cell(code),
                    key => found.map_or(MISSING.to_owned(), |l| label_of(l, key)),
                })
                .collect()
        });
        let model = Keys { keys: by.clone(), filled, lookup: &lookup, rows: labelled.collect() };
        let (down, top): (Vec<usize>, Vec<usize>) = (0..by.len()).partition(|&k| k < across);
        let mut counts: BTreeMap<Labels, usize> = BTreeMap::new();
        model.rows.iter().for_each(|r| *counts.entry(r.clone()).or_default() += 1);

        let folder = Folder::with("a.csv", format!("code,ch\n{}", asked.iter().map(|(c, ch)| format!("{c},{ch}\n")).collect::<String>()));
        folder.write("l.csv", format!("code,grp,name\n{}", lookup.iter().map(|(c, g, n)| format!("{c},{g},{n}\n")).collect::<String>()));
        let (by_keys, top_keys) = (by[..across].join(","), by[across..].join(","));
        let mut options = vec!["--lookup", "l.csv", "--match", "code = code", "--every", by[every], "--by", &by_keys, "--long"];
        if !top.is_empty() {
            options.extend(["--columns-by", &top_keys]);
        }
        // In long form a line has the labels, those along the top after those down, the result and its value.
        let shown: BTreeMap<Labels, String> = folder
            .csv("a.csv", &options)
            .lines()
            .skip(1)
            .map(|line| {
                let cells: Vec<&str> = line.split(',').collect();
                (cells[..by.len()].iter().map(|c| cell(c)).collect(), cells[cells.len() - 1].to_owned())
            })
            .collect();
        let mut expected = BTreeMap::new();
        for line in model.axis(&down) {
            for column in model.axis(&top) {
                let labels = [line.clone(), column].concat();
                let everywhere: Vec<usize> = (0..by.len()).collect();
                let none = model.can_be(&everywhere, &labels).then_some(0);
                // One that cannot be is no line.
                if let Some(n) = counts.get(&labels).copied().or(none) {
                    expected.insert(labels, n.to_string());
                }
            }
        }
        prop_assert_eq!(shown, expected, "{:?} {:?} every {}", by_keys, top_keys, by[every]);
    }
}

/// Cells of a column whose kind shows late or never.
const POOLS: [&[&str]; 6] = [
    &["", "", "1", "2.5"],
    &["", "2024-09-26", "2025-01-02"],
    &["", "", ""],
    &["", "hello", "Hello", "a"],
    &["yes", "no", ""],
    &["2024-09-26T10:00:00", "2024-12-31", ""],
];
const ASKED: [&str; 9] = [
    "count(where t = 'hello')",
    "count(where t >= '2024-10-01')",
    "count(t)",
    "max(t)",
    "count(distinct t)",
    "max(month(t))",
    "sum(t)",
    "max(length(t))",
    "count(where t > 1)",
];

proptest! {
    #![proptest_config(ProptestConfig { cases: 120, ..ProptestConfig::default() })]

    #[test]
    fn the_order_of_files_decides_nothing(
        first in (0usize..6, proptest::collection::vec(0usize..4, 0..6)),
        second in (0usize..6, proptest::collection::vec(0usize..4, 0..6)),
        ask in proptest::sample::select(&ASKED[..]), key in any::<bool>(),
    ) {
        let file = |(pool, cells): &(usize, Vec<usize>)| {
            let cell = |&c: &usize| format!("{},{c}\n", POOLS[*pool][c % POOLS[*pool].len()]);
            cells.iter().map(cell).collect::<String>()
        };
        let (first, second) = (file(&first), file(&second));
        let folder = Folder::with("a.csv", format!("t,n\n{first}"));
        folder.write("b.csv", format!("t,n\n{second}"));
        folder.write("ab.csv", format!("t,n\n{first}{second}"));
        folder.write("ba.csv", format!("t,n\n{second}{first}"));
        let mut answers = BTreeSet::new();
        for files in [&["a.csv", "b.csv"][..], &["b.csv", "a.csv"], &["ab.csv"], &["ba.csv"]] {
            let mut args = vec!["summary"];
            args.extend(files);
            args.extend(["--show", ask, "--show", "sum(n)", "--as", "csv", "--quiet", "--piece-bytes", "9"]);
            if key {
                args.extend(["--by", "t"]);
            }
            let run = folder.run(&args).no_panic();
            answers.insert((run.code, run.stdout));
        }
        prop_assert_eq!(answers.len(), 1, "{:?}\n{}\n{}", answers, first, second);
    }
}
