//! `oeuvre chart`: the figures of a summary, drawn.

use crate::args::ChartCommand;
use crate::chart::{correlation, doubts, ensure_drawn, in_words, request_of, runs_along_periods};
use crate::environment;
use crate::failure::Failure;
use crate::present::{deliver_document, settings, tell};
use crate::report::save;
use crate::run::planned;
use clap::ArgMatches;
use oeuvre_columns::{Note, Topic};
use oeuvre_core::{Plan, Show, run_all, run_with_checks};
use oeuvre_data::{files_named, open};
use oeuvre_render::{Document, PartType};

pub(crate) fn run(command: &ChartCommand, typed: &ArgMatches) -> Result<(), Failure> {
    let args = &command.summary;
    save::ensure_free(&command.save)?;
    let options = args.to_options()?;
    let (request, style) = args.to_request()?;
    let request = request_of(&command.chart, request);
    let mut look = command.chart.to_look()?;
    look.title.clone_from(&command.words.title);
    look.caption.clone_from(&command.words.caption);
    let threads = args.output.threads.map_or_else(environment::threads, usize::from);
    let settings = settings(&args.output, &style)?;
    let files = files_named(&args.files, None)?;
    let mut input = open(&files, options)?;
    let (grid, mut ledger, said) =
        planned(input.as_mut(), (&request, threads), &style, |plan, request, input, top| {
            ensure_drawn(&look, plan)?;
            let mut request = request.clone();
            request.every_period |= runs_along_periods(plan, request.by.len()) && !look.points;
            let plan = Plan::new(&request, input.columns())?;
            let (mut grid, mut ledger) = run_with_checks(&plan, &request, input, threads)?;
            top.arrange(&mut grid, &mut ledger);
            ledger.notes.extend(doubts(&look, &plan, &grid, &style));
            // How closely the points lie to a line is worked out over them, by the language.
            let calc = correlation(&request).filter(|_| look.points);
            let said = match calc {
                None => None,
                Some(calc) => {
                    let of_points = request.over_all(vec![Show { heading: None, calc }]);
                    let of_points = Plan::new(&of_points, input.columns())?;
                    let (figure, _) = run_all(&[&of_points], input, threads)?.swap_remove(0);
                    Some(in_words(&figure.cell(0, 0), &grid))
                }
            };
            Ok((grid, ledger, said))
        })?;
    save::save(&command.save, PartType::Chart, typed)?;
    if let Some(said) = said {
        look.caption =
            Some(look.caption.map_or(said.clone(), |caption| format!("{caption} {said}")));
    }
    // Where the figures are wanted and not the drawing, they are a table.
    let format = settings.format;
    let document = match format.shows_charts() {
        true => Document::of_chart(&grid, &ledger, &style, &look),
        false => Document::of_table(&grid, &ledger, &style),
    };
    let others =
        format.is_binary() && !oeuvre_render::charts_with_other_letters(&document).is_empty();
    deliver_document(args.output.to.as_deref(), &document, settings)?;
    if others {
        let text = "the picture has letters of other scripts, drawn with the types of this system where it has them";
        ledger.notes.push(Note::new(Topic::Other, text));
    }
    tell(&args.output, &ledger)
}
