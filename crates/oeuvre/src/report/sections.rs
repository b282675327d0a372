//! The keys of each section of a report file, but for those that are options.
//!
//! What is added here stands in docs/reports.md, too; a test sweeps that it does.

/// The keys of the file itself.
pub(super) const OF_FILE: &[&str] = &[
    "title", "text", "use", "data", "let", "format", "given", "table", "detail", "headline",
    "chart", "check",
];
/// Keys of a section that say which rows it is made of, beside the options.
pub(super) const OF_ROWS: &[&str] = &["files", "columns", "lookup"];
/// Keys of a table beside the options.
pub(super) const OF_TABLE: &[&str] =
    &["name", "title", "text", "show", "let", "format", "files", "columns", "lookup"];
/// Keys of a headline beside the options.
pub(super) const OF_HEADLINE: &[&str] =
    &["name", "text", "heading", "calc", "format", "beside", "files", "columns", "lookup"];
/// Keys of what a headline is compared with.
pub(super) const OF_BESIDE: &[&str] = &["heading", "calc", "where"];
/// Keys of a check beside the options.
pub(super) const OF_CHECK: &[&str] = &[
    "name",
    "that",
    "equals",
    "at-least",
    "at-most",
    "same-as",
    "tolerance",
    "in",
    "at",
    "unchanged-since",
    "files",
    "columns",
    "lookup",
];
/// Keys of the figure that another one must agree with, beside the options.
pub(super) const OF_SAME: &[&str] = &["calc", "files", "columns", "lookup"];
/// Keys of a lookup beside the options.
pub(super) const OF_LOOKUP: &[&str] = &["file", "name", "match", "no-match", "doubled", "columns"];
/// Keys of a file of several beside the options.
pub(super) const OF_FILES: &[&str] = &["file"];
/// Keys of a column.
pub(super) const OF_COLUMN: &[&str] = &["kind", "missing", "not-missing", "dates"];
/// Keys of a result.
pub(super) const OF_SHOW: &[&str] =
    &["heading", "calc", "format", "cell-bars", "cell-shade", "cell-line"];
/// Keys of a given value.
pub(super) const OF_GIVEN: &[&str] = &["default", "one-of", "kind"];
/// Keys of a chart beside the options.
pub(super) const OF_CHART: &[&str] =
    &["name", "title", "text", "caption", "show", "let", "format", "files", "columns", "lookup"];

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_key_is_in_the_docs() {
        let page = include_str!("../../../../docs/reports.md");
        let lists = [
            OF_FILE,
            OF_ROWS,
            OF_TABLE,
            OF_HEADLINE,
            OF_BESIDE,
            OF_CHECK,
            OF_SAME,
            OF_LOOKUP,
            OF_FILES,
            OF_COLUMN,
            OF_SHOW,
            OF_GIVEN,
            OF_CHART,
        ];
        for key in lists.into_iter().flatten() {
            assert!(page.contains(&format!("`{key}`")), "{key}");
        }
    }
}
