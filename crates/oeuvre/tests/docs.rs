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
