//! The documentation is what the program does.

mod common;
use common::Folder;

fn page(name: &str) -> String {
    std::fs::read_to_string(format!("{}/../../{name}", env!("CARGO_MANIFEST_DIR"))).unwrap()
}

#[test]
fn the_page_of_functions_is_made_by_the_program_with_every_example_worked_out() {
    let made = Folder::new().run(&["functions", "--markdown"]).ok();
    assert_eq!(
        page("docs/functions.md"),
        made,
        "make it again: oeuvre functions --markdown > docs/functions.md"
    );
}

#[test]
fn a_function_is_explained_and_a_misspelt_one_is_found() {
    let folder = Folder::new();
    assert!(folder.run(&["functions"]).ok().contains("weighted_mean"));
    assert!(folder.run(&["functions", "AVG"]).ok().contains("mean(fare) gives 23.377325"));
    assert!(folder.run(&["functions", "medain"]).error().contains("did you mean `median`?"));
}

/// The shell blocks of a page.
fn blocks(page: &str) -> Vec<String> {
    page.split("```sh\n").skip(1).map(|b| b.split("```").next().unwrap().to_owned()).collect()
}

/// The text block right behind a shell block: what it writes.
fn shown_after(page: &str, block: usize) -> Option<String> {
    let rest = page.split("```sh\n").nth(block + 1)?.split_once("```\n")?.1;
    let shown = rest.trim_start_matches('\n').strip_prefix("```text\n")?;
    Some(shown.split("```").next()?.to_owned())
}

#[test]
fn every_block_of_the_guide_runs_on_the_demo_data() {
    let folder = Folder::new();
    folder.run(&["demo"]).fine();
    let path = std::env::join_paths(
        std::iter::once(common::program().parent().unwrap().to_owned())
            .chain(std::env::split_paths(&std::env::var_os("PATH").unwrap())),
    )
    .unwrap();
    // The report file that is shown, under the name that it is run by below.
    let reports = page("docs/reports.md");
    let file = reports.split("```toml\n").nth(1).unwrap().split("```").next().unwrap();
    folder.write("oeuvre-demo/company.toml", "[let]\nfares = 'sum(fare)'\n");
    folder.write("oeuvre-demo/shown.toml", file);
    let shown = "```sh\noeuvre report shown.toml\n```\n";
    let guide = page("docs/guide.md") + &page("docs/charts.md") + &reports + shown;
    let all = blocks(&guide);
    assert!(all.len() > 13);
    for (i, block) in all.into_iter().enumerate() {
        let output = std::process::Command::new("sh")
            .args(["-e", "-c", &block])
            .current_dir(folder.path("oeuvre-demo"))
            .env("PATH", &path)
            .output()
            .unwrap();
        let said = String::from_utf8_lossy(&output.stderr);
        assert!(output.status.success(), "{block}\n{said}");
        let written = block.contains("--to") || block.contains("END");
        assert!(!output.stdout.is_empty() || written, "{block}");
        if let Some(shown) = shown_after(&guide, i) {
            assert_eq!(String::from_utf8_lossy(&output.stdout), shown, "{block}");
        }
    }
}

#[test]
fn the_request_of_the_readme_runs_on_the_demo_data() {
    let folder = Folder::new();
    folder.run(&["demo"]).fine();
    let readme = page("README.md");
    let block = blocks(&readme).into_iter().find(|b| b.contains("oeuvre summary")).unwrap();
    let block =
        block.replace("oeuvre summary", &format!("{} summary", common::program().display()));
    let output = std::process::Command::new("sh")
        .args(["-e", "-c", &block])
        .current_dir(folder.path("oeuvre-demo"))
        .output()
        .unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    // The mean of fares that are worked out with other means: see the demo's own test.
    assert!(String::from_utf8_lossy(&output.stdout).contains("1,151,535.00"));
}

/// What the program says of itself: the help of every command, and the page of words.
fn helps() -> Vec<(String, String)> {
    let folder = Folder::new();
    let commands = [
        "demo",
        "profile",
        "summary",
        "detail",
        "trace",
        "explain",
        "report",
        "chart",
        "compare",
        "functions",
        "completions",
        "manual",
    ];
    let mut all: Vec<(String, String)> =
        commands.iter().map(|c| (format!("{c} --help"), folder.run(&[c, "--help"]).ok())).collect();
    all.push(("functions".into(), folder.run(&["functions"]).ok()));
    all
}

const PAGES: [&str; 12] = [
    "README.md",
    "CHANGELOG.md",
    "docs/charts.md",
    "docs/files.md",
    "docs/guide.md",
    "docs/language.md",
    "docs/options.md",
    "docs/parts.md",
    "docs/reading.md",
    "docs/reports.md",
    "docs/scale.md",
    "docs/tables.md",
];

/// Options in a help: `--name` at the start of a line.
fn options(help: &str) -> Vec<&str> {
    help.lines()
        .filter_map(|l| l.trim_start().strip_prefix("-h, ").or(Some(l.trim_start())))
        .filter(|l| l.starts_with("--"))
        .map(|l| l.split([' ', '[', '=']).next().unwrap())
        .collect()
}

#[test]
fn every_option_and_every_word_is_in_the_docs() {
    let docs: String = PAGES[2..].iter().map(|p| page(p)).collect();
    for (command, help) in helps() {
        for option in options(&help).into_iter().filter(|o| *o != "--help") {
            assert!(docs.contains(&format!("`{option}")), "{option} of {command}");
        }
    }
    let words = page("docs/functions.md");
    for f in oeuvre_core::language::functions::all() {
        assert!(words.contains(&format!("{}(", f.name)), "{}", f.name);
    }
    let clauses = page("docs/language.md") + &page("docs/tables.md");
    for c in oeuvre_core::language::clauses::CLAUSES {
        assert!(clauses.contains(c.word) && words.contains(c.word), "{}", c.word);
    }
}

#[test]
fn no_name_of_elsewhere_is_left_in_help_and_docs() {
    use oeuvre_core::language::elsewhere;
    let mut texts = helps();
    texts.extend(PAGES.iter().map(|p| (p.to_string(), page(p))));
    texts.push(("docs/functions.md".into(), page("docs/functions.md")));
    let word = |c: Option<char>| c.is_some_and(|c| c.is_alphanumeric() || c == '_' || c == '-');
    // Where a word stands as such: not as a part of another.
    let stands = |text: &str, needle: &str| {
        text.match_indices(needle).any(|(at, _)| {
            !word(text[..at].chars().next_back())
                && (needle.ends_with('(') || !word(text[at + needle.len()..].chars().next()))
        })
    };
    let ours = |option: &str| texts.iter().any(|(_, t)| options(t).contains(&option));
    for (place, text) in &texts {
        for (option, _) in elsewhere::OPTIONS.iter().filter(|(o, _)| !ours(o)) {
            assert!(!stands(text, option), "{option} in {place}");
        }
        for (name, _) in elsewhere::FUNCTIONS.iter().filter(|(n, _)| *n != "distinct") {
            assert!(!stands(text, &format!("{name}(")), "{name} in {place}");
        }
        for (name, _) in elsewhere::TIES {
            assert!(!stands(text, &format!("ties {name}")), "ties {name} in {place}");
        }
        for phrase in ["taking sum partial", "using sum", "using max", "business year", "ISO form"]
        {
            assert!(!text.contains(phrase), "{phrase} in {place}");
        }
    }
}

#[test]
fn the_words_of_elsewhere_are_answered_with_ours() {
    let folder = Folder::with("b.csv", "d,x\n2025-01-01,1\n");
    for (asked, said) in [
        ("distinct(x)", "write count(distinct x)"),
        ("rate(x = 1)", "write portion(condition)"),
        ("days_between(d, d)", "write b - a"),
        ("running(x using max)", "write `taking`"),
        ("moving(x, 3 partial)", "write `at least 1`"),
        ("rank(x ties dense)", "write `ties close`"),
        ("moving(x, 3 at least 4)", "a whole number from 1 to 3"),
        ("at_max(distinct d, x)", "`at_max` does not take `distinct`"),
        ("rank(distinct x)", "`rank` does not take `distinct`"),
        ("d + 0.5", "write round(0.5), floor(0.5) or ceiling(0.5)"),
        ("count(*)", "count()"),
        ("sum(x) as total", "write the name before it"),
        ("count(where d like '2%')", "write contains(t, part)"),
        ("case when x = 1 then 2 end", "write if(condition"),
        ("sumif(x, x > 1)", "write sum(x where condition)"),
        ("prev(sum(x))", "write lag(x)"),
        ("d + d", "do not go together with `+`"),
    ] {
        let error = folder.run(&["summary", "b.csv", "--by", "d", "--show", asked]).error();
        assert!(error.contains(said), "{asked}\n{error}");
    }
    for (option, ours) in [("--across", "--columns-by"), ("--having", "--lines-where")] {
        let run = folder.run(&["summary", "b.csv", option, "x"]).no_panic();
        assert!(run.code == 2 && run.stderr.contains(&format!("write {ours}")), "{}", run.stderr);
    }
    for word in
        ["along", "within", "ties", "taking", "per", "where", "method", "distinct", "at least"]
    {
        let said = folder.run(&["functions", word]).ok();
        assert!(said.contains("gives"), "{said}");
    }
    assert!(folder.run(&["functions", "at", "least"]).ok().contains("moving"));
}

/// Options with their values as they stand in a text: after `--name` a value in quotes, or a bare one.
fn examples(text: &str) -> Vec<String> {
    let mut out = Vec::new();
    for (at, _) in text.match_indices("--") {
        let rest = &text[at..];
        let name = rest.find(|c: char| !c.is_ascii_lowercase() && c != '-').unwrap_or(rest.len());
        let Some(value) = rest[name..].strip_prefix(' ') else { continue };
        let len = match value.chars().next() {
            Some(q @ ('\'' | '"')) => value[1..].find(q).map(|end| end + 2),
            Some(c) if c.is_alphanumeric() => {
                let end = value.find(|c: char| !c.is_alphanumeric() && !"/.,_=-".contains(c));
                let bare = &value[..end.unwrap_or(value.len())];
                // A sentence goes on: only what looks like a value is one.
                let is_value = bare.contains(['.', '/', '=', '_']) && !bare.ends_with('.');
                is_value.then_some(bare.len())
            }
            _ => None,
        };
        out.extend(
            len.map(|len| rest[..name + 1 + len].split_whitespace().collect::<Vec<_>>().join(" ")),
        );
    }
    out
}

/// Every example that the help prints runs when it is pasted.
#[test]
fn every_example_of_the_help_runs_on_the_demo_data() {
    let folder = Folder::new();
    folder.run(&["demo", "."]).fine();
    let (mut tried, mut failed) = (0, Vec::new());
    for command in ["summary", "detail", "trace", "explain", "profile"] {
        let help = folder.run(&[command, "--help"]).ok();
        let whole = help.split_whitespace().collect::<Vec<_>>().join(" ");
        if let Some((_, example)) = whole.split_once("Example: oeuvre ") {
            let example = example.split(" Usage:").next().unwrap();
            let line = format!("{} {example}", common::program().display());
            let output = std::process::Command::new("sh")
                .args(["-c", &line])
                .current_dir(folder.path("."))
                .output()
                .unwrap();
            assert!(output.status.success(), "{line}");
        }
        for example in examples(&help) {
            let has = |option: &str| example.starts_with(option);
            let of_lookup = example.contains("targets") && (command == "profile" || has("--kind"));
            if has("--headings") || of_lookup {
                continue;
            }
            let mut line = format!("{} {command} bookings.csv", common::program().display());
            if command != "profile" {
                if !has("--let") {
                    line += " --let 'revenue: sum(fare * passengers)'";
                }
                if !has("--match") {
                    line += " --match 'route = code'";
                }
                if !has("--lookup") {
                    let name = if example.contains("targets") { "targets=" } else { "" };
                    line += &format!(" --lookup {name}routes.csv");
                }
            }
            if matches!(command, "summary" | "explain" | "trace") && !has("--by") {
                line += " --by route,coast,name --show revenue --sort route";
            }
            if matches!(command, "summary" | "explain" | "trace") && !has("--columns-by") {
                line += " --columns-by 'year(sailed_on),month(sailed_on)'";
            }
            if has("--at") {
                line = line
                    .replace("--by route,coast,name", "--by route")
                    .replace("year(sailed_on),", "");
            }
            line += &format!(" {example}");
            let output = std::process::Command::new("sh")
                .args(["-c", &line])
                .current_dir(folder.path("."))
                .output()
                .unwrap();
            let said = String::from_utf8_lossy(&output.stderr);
            if !matches!(output.status.code(), Some(0 | 3)) {
                failed.push(format!("{line}\n{said}"));
            }
            tried += 1;
        }
    }
    assert!(tried > 50 && failed.is_empty(), "{tried}\n{}", failed.join("\n"));
}
