//! A chart as SVG: text stays text, every mark says its figure, and nothing is fetched or run.

use super::palette::{DASHES, INKS};
use super::scene::{Area, Hold, Ink, Scene, Shape, Sign};
use std::fmt::Write as _;

/// The type of texts, with what stands for it where it is not at hand.
const TYPE: &str = "'DejaVu Sans',Verdana,'Noto Sans',sans-serif";

/// The inks of what is no series, by day; on a page these are those of the page.
const STYLE: &str = ".b{stroke:#fff}.t{fill:#1c2127}.s{fill:#55606b}.g{stroke:#dde2e7}.a{stroke:#55606b}.m{stroke:#1c2127}";

/// Writes a chart; `alone` as a file of its own, with its page and its inks, else as a part of a page, whose style
/// knows the classes.
pub(crate) fn svg(scene: &Scene, alone: bool) -> String {
    let mut out = String::new();
    let (w, h) = (scene.width, scene.height);
    // Writing to memory does not fail.
    let _ = write!(out, "<svg xmlns=\"http://www.w3.org/2000/svg\"");
    if alone {
        let _ = write!(out, " width=\"{}\" height=\"{}\"", short(w), short(h));
    }
    let _ = write!(
        out,
        " viewBox=\"0 0 {} {}\" role=\"img\" font-family=\"{TYPE}\">",
        short(w),
        short(h)
    );
    let _ = write!(
        out,
        "<title>{}</title><desc>{}</desc>",
        plain(&scene.title),
        plain(&scene.description)
    );
    if alone {
        let _ = write!(
            out,
            "<style>{STYLE}</style><rect width=\"{}\" height=\"{}\" fill=\"#fff\"/>",
            short(w),
            short(h)
        );
    }
    out.push('\n');
    for shape in &scene.shapes {
        push(&mut out, shape);
    }
    out.push_str("</svg>\n");
    out
}

/// A number with as many digits as a screen can show.
fn short(value: f64) -> String {
    let text = format!("{value:.2}");
    let text = text.trim_end_matches('0').trim_end_matches('.');
    if text == "-0" { "0".to_owned() } else { text.to_owned() }
}

/// A text that is no markup.
fn plain(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in crate::escape_controls(text).chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            // What XML has no place for.
            '\u{fffe}' | '\u{ffff}' => out.push('\u{fffd}'),
            c => out.push(c),
        }
    }
    out
}

fn ink(series: usize) -> &'static str {
    INKS[series % INKS.len()]
}

/// The dashes of a line: those of its series, or those of what was planned.
fn dash_of(series: usize, planned: bool, dashes: &str) -> String {
    match if planned { dashes } else { DASHES[series % DASHES.len()] } {
        "" => String::new(),
        dashes => format!(" stroke-dasharray=\"{dashes}\""),
    }
}

fn push(out: &mut String, shape: &Shape) {
    let _ = match shape {
        Shape::Panel(_) => Ok(()),
        Shape::Bar { area, series, says, .. } => writeln!(
            out,
            "<rect class=\"b\" x=\"{}\" y=\"{}\" width=\"{}\" height=\"{}\" fill=\"{}\"><title>{}</title></rect>",
            short(area.x),
            short(area.y),
            short(area.w),
            short(area.h),
            ink(*series),
            plain(says)
        ),
        Shape::Mark { from, to, says } => writeln!(
            out,
            "<path class=\"m\" d=\"M{} {}L{} {}\" stroke-width=\"2.5\"><title>{}</title></path>",
            short(from.0),
            short(from.1),
            short(to.0),
            short(to.1),
            plain(says)
        ),
        Shape::Line { points, series, dashed } => {
            let path: Vec<String> =
                points.iter().map(|p| format!("{} {}", short(p.0), short(p.1))).collect();
            let dash = dash_of(*series, *dashed, "6 5");
            writeln!(
                out,
                "<path d=\"M{}\" fill=\"none\" stroke=\"{}\" stroke-width=\"2.5\" stroke-linejoin=\"round\"{dash}/>",
                path.join("L"),
                ink(*series)
            )
        }
        Shape::Dot { at, series, says } => writeln!(
            out,
            "<circle cx=\"{}\" cy=\"{}\" r=\"4\" fill=\"{}\"><title>{}</title></circle>",
            short(at.0),
            short(at.1),
            ink(*series),
            plain(says)
        ),
        Shape::Rule { from, to, ink } => writeln!(
            out,
            "<path class=\"{}\" d=\"M{} {}L{} {}\"/>",
            if *ink == Ink::Pale { "g" } else { "a" },
            short(from.0),
            short(from.1),
            short(to.0),
            short(to.1)
        ),
        Shape::Text { at, hold, size, bold, ink: of, text, .. } => {
            let anchor = match hold {
                Hold::Start => "",
                Hold::Middle => " text-anchor=\"middle\"",
                Hold::End => " text-anchor=\"end\"",
            };
            let weight = if *bold { " font-weight=\"bold\"" } else { "" };
            let fill = match of {
                Ink::Text => "class=\"t\"".to_owned(),
                Ink::Soft | Ink::Pale => "class=\"s\"".to_owned(),
                Ink::Series(series) => format!("fill=\"{}\"", ink(*series)),
            };
            writeln!(
                out,
                "<text {fill} x=\"{}\" y=\"{}\" font-size=\"{}\"{anchor}{weight}>{}</text>",
                short(at.0),
                short(at.1),
                short(*size),
                plain(text)
            )
        }
        Shape::Swatch { area, series, sign } => swatch(out, *area, *series, *sign),
    };
}

/// The sign of a series in the legend.
fn swatch(out: &mut String, area: Area, series: usize, sign: Sign) -> std::fmt::Result {
    let y = short(area.y + area.h / 2.0);
    let (from, to) = (short(area.x), short(area.x + area.w + 3.0));
    let (x, top, w, h) = (short(area.x), short(area.y), short(area.w), short(area.h));
    match sign {
        Sign::Bar => writeln!(
            out,
            "<rect x=\"{x}\" y=\"{top}\" width=\"{w}\" height=\"{h}\" fill=\"{}\"/>",
            ink(series)
        ),
        Sign::Mark => {
            writeln!(out, "<path class=\"m\" d=\"M{from} {y}L{to} {y}\" stroke-width=\"2.5\"/>")
        }
        Sign::Line { dashed } => writeln!(
            out,
            "<path d=\"M{from} {y}L{to} {y}\" stroke=\"{}\" stroke-width=\"3\"{}/>",
            ink(series),
            dash_of(series, dashed, "4 3")
        ),
    }
}
