//! Bars and shades made of characters, for outputs that have nothing else to draw with.

/// How many characters a bar may take.
pub(crate) const BAR_WIDTH: usize = 10;
/// Blocks that fill so many eighths of a character from the left.
const EIGHTHS: [char; 9] = [' ', '▏', '▎', '▍', '▌', '▋', '▊', '▉', '█'];
/// From light to dark.
const SHADES: [char; 5] = [' ', '░', '▒', '▓', '█'];

/// A bar between two places of its width (0 to 1), as long as [`BAR_WIDTH`].
pub(crate) fn bar_text(from: f64, to: f64) -> String {
    let eighths = |part: f64| (part * (BAR_WIDTH * 8) as f64).round() as usize;
    // Characters fill from the left, so that a bar that ends at the zero line starts at a whole one.
    let start = (eighths(from) / 8).min(BAR_WIDTH);
    let end = eighths(to).max(start * 8);
    let mut out = " ".repeat(start);
    for place in start..BAR_WIDTH {
        out.push(EIGHTHS[end.saturating_sub(place * 8).min(8)]);
    }
    out
}

/// A small line, a block for each figure, and a blank for a gap.
pub(crate) fn trend_text(figures: &[Option<f64>]) -> String {
    const STEPS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    let step = |part: f64| STEPS[((part * 8.0) as usize).min(7)];
    figures.iter().map(|figure| figure.map_or(' ', step)).collect()
}

/// A shade for a strength from 0 to 1.
pub(crate) fn heat_text(strength: f64) -> char {
    SHADES[step(strength)]
}

/// Which of five steps a strength from 0 to 1 is.
pub(crate) fn step(strength: f64) -> usize {
    ((strength * SHADES.len() as f64) as usize).min(SHADES.len() - 1)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_small_line_rises_and_has_gaps() {
        assert_eq!(trend_text(&[Some(0.0), Some(0.5), None, Some(1.0)]), "▁▅ █");
    }

    #[test]
    fn bars_are_as_long_as_their_part_of_the_width() {
        assert_eq!(bar_text(0.0, 0.5), "█████     ");
        assert_eq!(bar_text(0.0, 0.55), "█████▌    ");
        assert_eq!(bar_text(0.25, 0.5), "  ███     ");
        assert_eq!(bar_text(0.5, 0.5), "          ");
        assert_eq!(bar_text(0.0, 1.0), "██████████");
    }
}
