//! Errors as a person sees them: a calculation with its place marked, a file with its line, and the ways out.

use crate::environment;
use crate::environment::Color;
use crate::failure::Failure;
use crate::progress;
use annotate_snippets::renderer::DecorStyle;
use annotate_snippets::{AnnotationKind, Element, Group, Level, Renderer, Snippet};
use oeuvre_core::{Diagnostic, Error};
use oeuvre_render::escape_controls;
use std::fmt::Write as _;
use std::io::Write as _;
use std::process::ExitCode;

/// Writes a failure to standard error and gives the exit status.
pub(crate) fn report(failure: &Failure, color: Color) -> ExitCode {
    let error = match failure {
        // Who reads the output has had enough of it.
        Failure::BrokenPipe => return ExitCode::SUCCESS,
        Failure::Check => return ExitCode::from(3),
        Failure::Error(error) => error,
    };
    let color = environment::color(color, &std::io::stderr());
    let text = draw(error, color);
    // Nothing is left to do when standard error is closed too.
    let _ = tell(text.as_bytes());
    ExitCode::from(1)
}

/// Tells something on standard error, on a line of its own.
pub(crate) fn tell_line(text: &str) {
    let text = escape_controls(text);
    // Nothing is left to do when standard error is closed.
    let _ = tell(format!("{text}\n").as_bytes());
}

/// Writes to standard error, where the line on what takes long goes away before.
pub(crate) fn tell(text: &[u8]) -> std::io::Result<()> {
    progress::clear();
    std::io::stderr().write_all(text)
}

/// The text of an error.
fn draw(error: &Error, color: bool) -> String {
    let renderer = if color { Renderer::styled() } else { Renderer::plain() };
    let renderer = renderer.decor_style(DecorStyle::Ascii);
    match error {
        Error::Diagnostics(mistakes) => {
            let mut out = String::new();
            for (i, mistake) in mistakes.iter().enumerate() {
                if i > 0 {
                    out.push('\n');
                }
                out.push_str(&mistake_text(&renderer, mistake));
            }
            out
        }
        Error::Data(problem) => {
            let mut title = String::new();
            if let Some(file) = &problem.file {
                title.push_str(if file == "-" { "standard input" } else { file });
                if problem.line.is_some() {
                    let _ = write!(title, ", {}", problem.place());
                }
                if let Some(column) = &problem.column {
                    let _ = write!(title, ", column `{column}`");
                }
                title.push_str(": ");
            }
            title.push_str(&problem.message);
            plain(&renderer, &title, &problem.help)
        }
        Error::Request { message, help, .. } => plain(&renderer, message, help),
        other => plain(&renderer, &format!("this should not happen: {other}"), &[]),
    }
}

fn plain(renderer: &Renderer, title: &str, help: &[String]) -> String {
    let title = escape_controls(title);
    let help: Vec<String> = help.iter().map(|h| escape_controls(h)).collect();
    let elements: Vec<Element<'_>> =
        help.iter().map(|h| Element::from(Level::HELP.message(h.as_str()))).collect();
    let group = Group::with_title(Level::ERROR.primary_title(title.as_str())).elements(elements);
    format!("{}\n", renderer.render(&[group]))
}

/// A mistake drawn under the calculation it stands in.
fn mistake_text(renderer: &Renderer, mistake: &Diagnostic) -> String {
    let written = &mistake.written;
    let mut text = &written.text;
    let mut origin = written.origin.as_str();
    let mut span = mistake.span.clone();
    if let Some(within) = &written.within {
        span = within.range(&span);
        (text, origin) = (&within.file.text, within.file.name.as_str());
    }
    if span.is_empty() && span.start > 0 && span.start >= text.len() {
        // The end of the text: a place of its own behind it.
        span = text.len()..text.len();
    }
    let title = escape_controls(&mistake.message);
    let label = escape_controls(&mistake.label);
    let annotation = AnnotationKind::Primary.span(span).label(label.as_str());
    let snippet = Snippet::source(text.as_str()).path(origin).annotation(annotation);
    let help: Vec<String> = mistake.help.iter().map(|h| escape_controls(h)).collect();
    let mut group = Group::with_title(Level::ERROR.primary_title(title.as_str())).element(snippet);
    for line in &help {
        group = group.element(Level::HELP.message(line.as_str()));
    }
    format!("{}\n", renderer.render(&[group]))
}
