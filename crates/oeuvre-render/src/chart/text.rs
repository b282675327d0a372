//! How wide text is. Widths are those of the widest font that a chart names (DejaVu Sans, 2.37), so that text never
//! takes more room than was left for it.

use unicode_width::UnicodeWidthChar;

/// Widths of the characters from the space to the tilde, in thousandths of the size of the type.
const REGULAR: [u16; 95] = [
    318, 401, 460, 838, 636, 950, 780, 275, 390, 390, 500, 838, 318, 361, 318, 337, 636, 636, 636,
    636, 636, 636, 636, 636, 636, 636, 337, 337, 838, 838, 838, 531, 1000, 684, 686, 698, 770, 632,
    575, 775, 752, 295, 295, 656, 557, 863, 748, 787, 603, 787, 695, 635, 611, 732, 684, 989, 685,
    611, 685, 390, 337, 390, 838, 500, 500, 613, 635, 550, 635, 615, 352, 635, 634, 278, 278, 579,
    278, 974, 634, 612, 635, 635, 411, 521, 392, 634, 592, 818, 592, 592, 525, 636, 337, 636, 838,
];

/// How much wider bold type is at most.
const BOLD: f64 = 1.23;

/// The width of a text in pixels.
pub(super) fn width(text: &str, size: f64, bold: bool) -> f64 {
    let thousandths: u64 = text
        .chars()
        .map(|c| match c {
            ' '..='~' => u64::from(REGULAR[c as usize - 32]),
            c => match c.width() {
                Some(0) | None => 0,
                Some(1) => 720,
                Some(_) => 1000,
            },
        })
        .sum();
    thousandths as f64 / 1000.0 * size * if bold { BOLD } else { 1.0 }
}

/// A text that is at most so wide: cut where it must be, with … for what was left out.
pub(super) fn fitting(text: &str, room: f64, size: f64) -> String {
    if width(text, size, false) <= room {
        return text.to_owned();
    }
    let room = room - width("\u{2026}", size, false);
    let (mut out, mut used) = (String::new(), 0.0);
    for c in text.chars() {
        used += width(c.encode_utf8(&mut [0; 4]), size, false);
        if used > room {
            break;
        }
        out.push(c);
    }
    out.truncate(out.trim_end().len());
    out + "\u{2026}"
}

/// A text in lines that are at most so wide, broken between words.
pub(super) fn lines(text: &str, room: f64, size: f64, bold: bool) -> Vec<String> {
    let mut lines: Vec<String> = vec![String::new()];
    for word in text.split_whitespace() {
        let word = fitting(word, room, size);
        let Some(last) = lines.last_mut() else { break };
        let longer = if last.is_empty() { word.clone() } else { format!("{last} {word}") };
        if width(&longer, size, bold) <= room || last.is_empty() {
            *last = longer;
        } else {
            lines.push(word);
        }
    }
    lines
}
