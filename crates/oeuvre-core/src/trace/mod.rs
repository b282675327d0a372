//! Where a cell comes from: its rows, the calculation made again on these rows alone, and for what looks at
//! other cells the cells that entered.
//!
//! The rows are found by their keys in a pass of their own, and the calculation is made again by a plan of its
//! own over nothing but these rows, without any grouping: two ways to one figure. The cost is that of the table
//! and of one more pass.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("route", Kind::Text), ("fare", Kind::Number { scale: 2 })],
//! #     &[&["SKE", "12.50"], &["KEL", "8.00"], &["SKE", "7.00"]],
//! # )?;
//! use oeuvre_core::{AtLabel, Plan, Request, SourceText, trace};
//!
//! // route, fare: SKE 12.50; KEL 8.00; SKE 7.00
//! let request = Request::of(&["route"], &["mean(fare)"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let at = [(SourceText::new("--at", "route"), AtLabel { text: "SKE".into(), quoted: false })];
//! let cell = trace(&plan, &request, &rows, 1, &at, &|_, _| None)?;
//! assert_eq!(cell.rows.lines.len(), 2);
//! assert_eq!(cell.results[0].in_table.to_string(), "9.75");
//! assert!(cell.results[0].parts.iter().all(|part| part.agrees()));
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

mod cell;
mod in_table;
mod rows;

pub use in_table::cell_named;

use crate::error::{Error, SourceText};
use crate::grid::{Grid, Heading, Line, LineKind, Lines, ResultColumn};
use crate::grouping::{fill, gather_one, second_pass};
use crate::plan::TableInput;
use crate::plan::{Plan, ResultPlan};
use crate::request::{AtLabel, Request, Show};
use crate::rows::program::Operand;
use crate::table;
use crate::table::{EnteredCells, Levels, MISSING, ReadsAs, Trees, ranks};
use cell::{Cell, Located, cell_of, find, keys_named, position_in_table};
use oeuvre_columns::column::Column;
use oeuvre_columns::value::{Kind, Value};
use oeuvre_columns::{InMemory, Source};
use rows::{hidden_labels, rows};
use std::collections::BTreeMap;
use std::sync::Arc;

/// A cell, taken apart.
#[derive(Clone, Debug)]
pub struct Trace {
    /// The keys of the cell with their labels, in the order of the table.
    pub at: Vec<(String, String)>,
    /// Whether the table shows it; else its line was left out.
    pub shown: bool,
    /// The results of the cell.
    pub results: Vec<Traced>,
    /// The rows: file, line, and the columns that were used.
    pub rows: Grid,
}

/// A result of the cell.
#[derive(Clone, Debug)]
pub struct Traced {
    /// Its heading.
    pub heading: String,
    /// Whether it reads in percent.
    pub share: bool,
    /// What it is.
    pub kind: Kind,
    /// What the table shows.
    pub in_table: Value,
    /// Results of rows: what the calculation gives on the rows alone, part by part. Of a result that
    /// looks at no other cells the only part is the result itself.
    pub parts: Vec<Part>,
    /// What looks at other cells: the cells that entered.
    pub entered: Vec<Entered>,
}

/// A result of rows in a calculation.
#[derive(Clone, Debug)]
pub struct Part {
    /// The calculation.
    pub calc: String,
    /// What it is.
    pub kind: Kind,
    /// What the table has.
    pub in_table: Value,
    /// What the rows alone give.
    pub from_rows: Value,
}

impl Part {
    /// Whether both ways come to the same.
    pub fn agrees(&self) -> bool {
        self.in_table == self.from_rows
    }
}

/// The cells that entered a calculation across cells.
#[derive(Clone, Debug)]
pub struct Entered {
    /// The calculation.
    pub calc: String,
    /// The cells with what was taken from each, in the order in which they were walked or compared.
    pub cells: Grid,
}

/// Traces the cell at some labels, each with its key as written. `plan` is that of the table, and the figure
/// that is compared is the one that the table shows; `request` is what the plan was made of.
///
/// # Errors
/// As [`crate::run`]; a key or a label that the table does not have.
pub fn trace(
    plan: &Plan,
    request: &Request,
    source: &dyn Source,
    threads: usize,
    at: &[(Arc<SourceText>, AtLabel)],
    reads_as: ReadsAs<'_>,
) -> Result<Trace, Error> {
    let texts: Vec<Arc<SourceText>> = at.iter().map(|(written, _)| written.clone()).collect();
    let (_, named) = Plan::with_keys(request, source.columns(), &texts)?;
    let keys = keys_named(&named, at)?;
    let (mut group_states, mut ledger) = gather_one(plan, source, threads)?;
    source.ensure_sound(&plan.inputs)?;
    fill(plan, &mut group_states[0])?;
    let second_pass = second_pass(plan, source, threads, &group_states)?;
    let trees = Trees::new(&group_states[0], plan.by_keys);
    let mut levels =
        Levels::new(plan, &group_states, second_pass.as_ref(), &trees, ranks(&group_states[0]));
    let table = table::table(plan, &group_states[0], &trees, &mut levels, &mut ledger)?;
    let cell = cell_of(plan, &group_states[0], &table, &keys, reads_as)?;
    let found = find(plan, &group_states[0], &trees, &mut levels, &table, &cell)?;
    let position = position_in_table(&trees, &table, &cell, &found);
    let number = found.level.cells.start.at(found.at);
    let hidden = hidden_labels(plan, &group_states[0], &table, &cell, number);
    let (rows, memory) = rows(plan, source, threads, &cell, hidden.as_ref())?;
    let parts: Vec<Vec<usize>> =
        plan.results.iter().map(|r| plan.group_inputs(r.built.operand)).collect();
    let mut from_rows = from_rows(plan, request, source, &parts, &memory)?.into_iter();
    let mut results = Vec::new();
    for (i, (result, inputs)) in plan.results.iter().zip(&parts).enumerate() {
        let shown = position
            .map(|(line, position)| table.grid.cell(line, position * plan.results.len() + i));
        // A rest line is compared with none.
        let windows = if cell.rest { Vec::new() } else { plan.windows_of(result.built.operand) };
        results.push(Traced {
            entered: entered(plan, &mut levels, &found, &windows)?,
            ..traced(plan, result, shown, inputs, &found, &mut from_rows)
        });
    }
    Ok(Trace { at: labels(plan, &cell), shown: position.is_some(), results, rows })
}

/// A result of a cell with its parts, of which the rows alone give the next values.
fn traced(
    plan: &Plan,
    result: &ResultPlan,
    shown: Option<Value>,
    inputs: &[usize],
    found: &Located<'_>,
    from_rows: &mut impl Iterator<Item = Value>,
) -> Traced {
    let (operand, kind) = (result.built.operand, result.built.kind);
    let mut parts = Vec::new();
    for &input in inputs {
        let (TableInput::Group(built), Some(calc)) =
            (&plan.table_inputs[input], &plan.table_calcs[input])
        else {
            continue;
        };
        parts.push(Part {
            calc: calc.to_string(),
            kind: built.kind,
            in_table: found.value(plan, Operand::Input(input), built.kind),
            from_rows: from_rows.next().unwrap_or(Value::Missing),
        });
    }
    let in_table = shown.unwrap_or_else(|| found.value(plan, operand, kind));
    // What the table shows of a result of rows is what the rows must give.
    if let ([only], Operand::Input(_)) = (parts.as_mut_slice(), operand)
        && plan.windows_of(operand).is_empty()
    {
        only.in_table = in_table.clone();
    }
    Traced {
        heading: result.heading.clone(),
        share: result.share,
        kind,
        in_table,
        parts,
        entered: Vec::new(),
    }
}

/// The cells that entered the calculations across cells.
fn entered(
    plan: &Plan,
    levels: &mut Levels<'_>,
    found: &Located<'_>,
    windows: &[usize],
) -> Result<Vec<Entered>, Error> {
    let mut out = Vec::new();
    for &input in windows {
        if let TableInput::Window(window) = &plan.table_inputs[input] {
            let cells = levels.entered(window, found.depths, found.at as u32)?;
            out.extend(cells.map(|cells| Entered {
                calc: window.text.to_string(),
                cells: cells_grid(plan, cells),
            }));
        }
    }
    Ok(out)
}

/// The labels of a cell as the trace names them.
fn labels(plan: &Plan, cell: &Cell) -> Vec<(String, String)> {
    let headings = plan.keys();
    let label = |v: &Value| if v.is_missing() { MISSING.to_owned() } else { v.to_string() };
    let mut at: Vec<(String, String)> =
        cell.keys.iter().map(|(k, v)| (headings[*k].heading.clone(), label(v))).collect();
    if cell.rest {
        let inner = cell.keys.iter().filter(|k| k.0 < plan.by_keys).count();
        at.insert(inner, (headings[inner].heading.clone(), plan.rest_label.clone()));
    }
    at
}

/// The parts of all results, worked out on the rows alone, without groups; they have passed the filter,
/// which is made again all the same.
fn from_rows(
    plan: &Plan,
    request: &Request,
    source: &dyn Source,
    parts: &[Vec<usize>],
    memory: &InMemory,
) -> Result<Vec<Value>, Error> {
    let of_results = parts.iter().zip(&plan.results);
    let calcs = of_results.flat_map(|(inputs, result)| {
        let calc = |&i: &usize| Some(result.written.derived(&*plan.table_calcs[i].clone()?));
        inputs.iter().filter_map(calc)
    });
    let show: Vec<Show> = calcs
        .enumerate()
        .map(|(i, calc)| Show { heading: Some(format!("part {i}")), calc })
        .collect();
    if show.is_empty() {
        return Ok(Vec::new());
    }
    let alone = Request {
        show,
        lets: request.lets.clone(),
        lookups: request.lookups.clone(),
        filters: request.filters.clone(),
        ..Request::default()
    };
    let plan = Plan::new(&alone, source.columns())?;
    let (grid, _) = crate::run(&plan, memory, 1)?;
    Ok((0..grid.columns.len()).map(|c| grid.cell(0, c)).collect())
}

/// Cells with what was taken from them: the labels of their keys, and the values.
fn cells_grid(plan: &Plan, cells: EnteredCells) -> Grid {
    let keys = plan.keys();
    let heading = |&k: &usize| Heading { name: keys[k].heading.clone(), kind: keys[k].kind };
    let line = Line { kind: LineKind::Group, depth: cells.kept.len() as u32 };
    Grid {
        by: cells.kept.iter().map(heading).collect(),
        lines: Lines::same(line, cells.x.data.len()),
        labels: cells.labels,
        positions: Lines::same(Line { kind: LineKind::Group, depth: 0 }, 1),
        columns: vec![column(cells.heading, cells.kind, 0, cells.x)],
        ..Grid::default()
    }
}

fn column(heading: String, kind: Kind, result: usize, cells: Column) -> ResultColumn {
    ResultColumn {
        calc: heading.clone(),
        heading,
        position: 0,
        result,
        plain: false,
        share: false,
        heading_mark: None,
        kind,
        cells: cells.into(),
        ratio: None,
        marks: BTreeMap::new(),
    }
}

#[cfg(test)]
mod tests {
    use crate::testing::{rows, shown};
    use crate::{AtLabel, Error, Plan, Request, SourceText, Totals, Trace};
    use oeuvre_columns::Source;
    use rstest::rstest;

    const DATA: &str =
        "route month:0 fare:2\nSKE|1|4.00\nSKE|2|8.00\nKEL|1|1.00\nKEL|2|2.00\n|1|3.00\nSKE|2|\n";

    fn traced(show: &str, at: &[(&str, &str)], change: fn(&mut Request)) -> Result<Trace, Error> {
        let rows = rows(DATA);
        let mut request =
            Request { totals: Totals::All, ..Request::of(&["route", "month"], &[show]) };
        change(&mut request);
        let plan = Plan::new(&request, rows.columns())?;
        let at: Vec<_> = at
            .iter()
            .map(|(key, label)| {
                let quoted = label.starts_with('\'');
                let text = label.trim_matches('\'').to_owned();
                (SourceText::new("--at", *key), AtLabel { text, quoted })
            })
            .collect();
        crate::trace(&plan, &request, &rows, 2, &at, &|_, _| None)
    }

    #[rstest]
    #[case("sum(fare)", &[("route", "SKE"), ("month", "2")], "8.00", "SKE 2 8.00; SKE 2 -")]
    #[case("sum(fare)", &[("route", "SKE")], "12.00", "SKE 4.00; SKE 8.00; SKE -")]
    #[case("mean(fare)", &[("route", "(missing)"), ("month", "1")], "3", "- 1 3.00")]
    #[case("count()", &[], "6", "")]
    #[case("sum(fare)", &[("route", "'KEL'"), ("month", "Total")], "3.00", "KEL 1.00; KEL 2.00")]
    fn a_cell_is_its_rows(
        #[case] show: &str,
        #[case] at: &[(&str, &str)],
        #[case] value: &str,
        #[case] of: &str,
    ) {
        let trace = traced(show, at, |_| {}).unwrap();
        let result = &trace.results[0];
        assert_eq!(result.in_table.to_string(), value);
        assert!(trace.shown && result.parts.iter().all(super::Part::agrees), "{result:?}");
        if !of.is_empty() {
            let found = shown(&trace.rows);
            let labels = of.split("; ").count();
            assert_eq!(found.split("; ").count(), labels, "{found}");
        }
    }

    #[rstest]
    #[case("rank(sum(fare))", &[("route", "SKE"), ("month", "2")], "1 = 4.00; 2 = 8.00")]
    #[case("running(sum(fare) along month)", &[("route", "KEL"), ("month", "2")], "1 = 1.00; 2 = 2.00")]
    #[case("lag(sum(fare) along month)", &[("route", "KEL"), ("month", "2")], "1 = 1.00")]
    fn what_looks_at_other_cells_names_those_that_entered(
        #[case] show: &str,
        #[case] at: &[(&str, &str)],
        #[case] cells: &str,
    ) {
        let trace = traced(show, at, |_| {}).unwrap();
        let entered = &trace.results[0].entered;
        let found = shown(&entered[0].cells);
        assert!(cells.split("; ").all(|cell| found.contains(cell)), "{found}");
    }

    #[rstest]
    #[case(&[("route", "SKY")], "SKE")]
    #[case(&[("vessel", "Tern")], "vessel")]
    #[case(&[("month", "1")], "route")]
    #[case(&[("route", "SKE"), ("month", "9")], "9")]
    #[case(&[("route", "Rest")], "Rest")]
    #[case(&[("route", "Total"), ("month", "1")], "inside a total or a rest")]
    fn a_cell_that_is_not_there_is_refused_with_what_is(
        #[case] at: &[(&str, &str)],
        #[case] said: &str,
    ) {
        let error = traced("sum(fare)", at, |_| {}).err().unwrap();
        let told = format!("{error} {error:?}");
        assert!(told.contains(said), "{told}");
    }

    #[test]
    fn a_rest_is_the_rows_of_the_lines_that_are_not_shown() {
        let change = |request: &mut Request| {
            request.by = vec![SourceText::new("--by", "route")];
            request.totals = Totals::Grand;
            (request.top, request.sort) =
                (Some(1), Some(SourceText::new("--sort", "sum(fare) desc")));
        };
        let rest = traced("sum(fare)", &[("route", "Rest")], change).unwrap();
        assert_eq!(
            (rest.results[0].in_table.to_string().as_str(), rest.rows.lines.len()),
            ("6.00", 3)
        );
        // The rest of one group, below its own key.
        let inner = |request: &mut Request| {
            (request.top, request.sort) =
                (Some(1), Some(SourceText::new("--sort", "sum(fare) desc")));
        };
        let rest = traced("sum(fare)", &[("route", "SKE"), ("month", "Rest")], inner).unwrap();
        assert_eq!(rest.results[0].in_table.to_string(), "4.00");
        let hidden = traced("sum(fare)", &[("route", "KEL")], change).unwrap();
        assert!(!hidden.shown && hidden.results[0].in_table.to_string() == "3.00");
    }
}
