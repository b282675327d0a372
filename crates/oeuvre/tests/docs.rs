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
    let guide = page("docs/guide.md");
    let all = blocks(&guide);
    assert!(all.len() > 10);
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
