//! The styles of an OpenDocument workbook: how cells look, how wide columns are, how numbers are written.

use crate::sheet::surface::{Align, Edge, Look};
use std::collections::HashMap;
use std::fmt::Write as _;

/// The styles of all sheets, each with the name that it is used by.
#[derive(Default)]
pub(super) struct Styles {
    cells: HashMap<(Look, Option<u32>), usize>,
    numbers: HashMap<String, usize>,
    widths: Vec<u32>,
    pub(super) xml: String,
}

impl Styles {
    /// The name of the style of a look, with what stands behind the text.
    pub(super) fn cell(&mut self, look: &Look, behind: Option<u32>) -> usize {
        let key = (look.clone(), behind);
        if let Some(&known) = self.cells.get(&key) {
            return known;
        }
        let data = look.number_format.as_ref().map(|format| self.number(format));
        let number = self.cells.len() + 1;
        let mut xml = format!("<style:style style:name=\"ce{number}\" style:family=\"table-cell\"");
        if let Some(data) = data {
            let _ = write!(xml, " style:data-style-name=\"N{data}\"");
        }
        xml.push_str("><style:table-cell-properties");
        let vertical = if look.at_top { "top" } else { "bottom" };
        let _ = write!(xml, " style:vertical-align=\"{vertical}\"");
        if look.wrapped {
            xml.push_str(" fo:wrap-option=\"wrap\"");
        }
        if look.align != Align::Own {
            xml.push_str(" style:text-align-source=\"fix\"");
        }
        for (side, edge) in [("top", look.above), ("bottom", look.below)] {
            let line = match edge {
                Edge::None => continue,
                Edge::Soft => "0.5pt solid #cfd5db",
                Edge::Thin => "0.5pt solid #000000",
                Edge::Medium => "1.5pt solid #000000",
            };
            let _ = write!(xml, " fo:border-{side}=\"{line}\"");
        }
        if let Some(behind) = behind {
            let _ = write!(xml, " fo:background-color=\"#{behind:06x}\"");
        }
        xml.push_str("/>");
        let align = match look.align {
            Align::Own => None,
            Align::Left => Some("start"),
            Align::Center => Some("center"),
            Align::Right => Some("end"),
        };
        if let Some(align) = align {
            let _ = write!(xml, "<style:paragraph-properties fo:text-align=\"{align}\"/>");
        }
        xml.push_str("<style:text-properties");
        if look.bold {
            xml.push_str(" fo:font-weight=\"bold\"");
        }
        if look.italic {
            xml.push_str(" fo:font-style=\"italic\"");
        }
        if look.soft {
            xml.push_str(" fo:color=\"#55606b\"");
        }
        if look.size > 0 {
            let _ = write!(xml, " fo:font-size=\"{}pt\"", look.size);
        }
        xml.push_str("/></style:style>");
        self.xml.push_str(&xml);
        self.cells.insert(key, number);
        number
    }

    /// The name of the style of a number format.
    fn number(&mut self, format: &str) -> usize {
        if let Some(&known) = self.numbers.get(format) {
            return known;
        }
        let number = self.numbers.len() + 1;
        self.xml.push_str(&data_style(format, number));
        self.numbers.insert(format.to_owned(), number);
        number
    }

    /// The name of the style of a column that is so wide, in hundredths of a character.
    pub(super) fn width(&mut self, width: u32) -> usize {
        if let Some(known) = self.widths.iter().position(|&known| known == width) {
            return known + 1;
        }
        self.widths.push(width);
        let number = self.widths.len();
        let _ = write!(
            self.xml,
            "<style:style style:name=\"co{number}\" style:family=\"table-column\">\
             <style:table-column-properties style:column-width=\"{:.2}cm\"/></style:style>",
            centimetres(width)
        );
        number
    }
}

/// How wide so many hundredths of a character are.
pub(super) fn centimetres(width: u32) -> f64 {
    0.19 * f64::from(width) / 100.0 + 0.1
}

/// A text in XML.
pub(super) fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            // No character of XML.
            '\u{fffe}' | '\u{ffff}' => out.push('\u{fffd}'),
            c if c.is_control() && !matches!(c, '\n' | '\t' | '\r') => out.push('\u{fffd}'),
            c => out.push(c),
        }
    }
    out
}

/// A number format in the language of workbooks, part by part.
#[derive(Clone, Debug, PartialEq)]
enum Token {
    Text(String),
    /// Digits with their signs: `#,##0.00`.
    Digits(String),
    /// A letter of a date, and how often it stands.
    Date(char, usize),
    Percent,
}

fn tokens(format: &str) -> Vec<Vec<Token>> {
    let mut sections = Vec::new();
    let mut section: Vec<Token> = Vec::new();
    let mut chars = format.chars().peekable();
    while let Some(c) = chars.next() {
        let literal = match c {
            '"' => Some(chars.by_ref().take_while(|&c| c != '"').collect::<String>()),
            '\\' => chars.next().map(String::from),
            // A language: names are English.
            '[' => {
                chars.by_ref().take_while(|&c| c != ']').for_each(drop);
                None
            }
            ';' => {
                sections.push(std::mem::take(&mut section));
                None
            }
            '%' => {
                section.push(Token::Percent);
                None
            }
            '#' | '0' | ',' | '.' => {
                match section.last_mut() {
                    Some(Token::Digits(digits)) => digits.push(c),
                    _ => section.push(Token::Digits(c.to_string())),
                }
                None
            }
            'y' | 'm' | 'd' | 'h' | 's' => {
                match section.last_mut() {
                    Some(Token::Date(last, n)) if *last == c => *n += 1,
                    _ => section.push(Token::Date(c, 1)),
                }
                None
            }
            c => Some(c.to_string()),
        };
        if let Some(text) = literal {
            match section.last_mut() {
                Some(Token::Text(known)) => known.push_str(&text),
                _ => section.push(Token::Text(text)),
            }
        }
    }
    sections.push(section);
    sections
}

/// A number format as a style of the standard (part 3, 16.29).
fn data_style(format: &str, number: usize) -> String {
    if format == "General" {
        return format!(
            "<number:number-style style:name=\"N{number}\">\
             <number:number number:min-integer-digits=\"1\"/></number:number-style>"
        );
    }
    let sections = tokens(format);
    let is_date = sections[0].iter().any(|t| matches!(t, Token::Date(..)));
    if is_date {
        let named = sections[0].iter().any(|t| matches!(t, Token::Date('m' | 'd', 3..)));
        let language = if named { " number:language=\"en\" number:country=\"US\"" } else { "" };
        return format!(
            "<number:date-style style:name=\"N{number}\"{language}>{}</number:date-style>",
            date_parts(&sections[0])
        );
    }
    let kind = match sections.iter().flatten().any(|t| *t == Token::Percent) {
        true => "percentage-style",
        false => "number-style",
    };
    let style = |name: String, attributes: &str, section: &[Token], map: &str| {
        format!(
            "<number:{kind} style:name=\"{name}\"{attributes}>{}{map}</number:{kind}>",
            number_parts(section)
        )
    };
    match sections.as_slice() {
        [positive, negative, ..] => {
            let first = style(format!("N{number}P0"), " style:volatile=\"true\"", positive, "");
            let map = format!(
                "<style:map style:condition=\"value()&gt;=0\" style:apply-style-name=\"N{number}P0\"/>"
            );
            first + &style(format!("N{number}"), "", negative, &map)
        }
        _ => style(format!("N{number}"), "", &sections[0], ""),
    }
}

fn text_part(text: &str) -> String {
    format!("<number:text>{}</number:text>", escaped(text))
}

fn number_parts(section: &[Token]) -> String {
    let part = |token: &Token| match token {
        Token::Text(text) => text_part(text),
        Token::Percent => text_part("%"),
        Token::Digits(digits) => {
            let (whole, fraction) = digits.split_once('.').unwrap_or((digits, ""));
            let grouped = if whole.contains(',') { " number:grouping=\"true\"" } else { "" };
            format!(
                "<number:number number:decimal-places=\"{}\" number:min-decimal-places=\"{}\" \
                 number:min-integer-digits=\"{}\"{grouped}/>",
                fraction.len(),
                fraction.matches('0').count(),
                whole.matches('0').count(),
            )
        }
        Token::Date(..) => String::new(),
    };
    section.iter().map(part).collect()
}

fn date_parts(section: &[Token]) -> String {
    let mut out = String::new();
    let mut in_time = false;
    for token in section {
        let (letter, n) = match token {
            Token::Text(text) => {
                out.push_str(&text_part(text));
                continue;
            }
            Token::Digits(digits) => {
                out.push_str(&text_part(digits));
                continue;
            }
            Token::Percent => continue,
            Token::Date(letter, n) => (*letter, *n),
        };
        in_time |= letter == 'h';
        let long = if n == 2 || n == 4 { " number:style=\"long\"" } else { "" };
        let part = match (letter, n) {
            ('y', 2) => "<number:year/>".to_owned(),
            ('y', _) => "<number:year number:style=\"long\"/>".to_owned(),
            ('m', _) if in_time => format!("<number:minutes{long}/>"),
            ('m', 3..) => format!("<number:month number:textual=\"true\"{long}/>"),
            ('m', _) => format!("<number:month{long}/>"),
            ('d', 3..) => format!("<number:day-of-week{long}/>"),
            ('d', _) => format!("<number:day{long}/>"),
            ('h', _) => format!("<number:hours{long}/>"),
            _ => format!("<number:seconds{long}/>"),
        };
        out.push_str(&part);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(
        "#,##0.00",
        "decimal-places=\"2\" number:min-decimal-places=\"2\" number:min-integer-digits=\"1\" number:grouping=\"true\"/>"
    )]
    #[case(
        "0.0#%",
        "<number:percentage-style style:name=\"N1\"><number:number number:decimal-places=\"2\" number:min-decimal-places=\"1\" number:min-integer-digits=\"1\"/><number:text>%</number:text>"
    )]
    #[case(
        "yyyy-mm-dd hh:mm:ss",
        "<number:hours number:style=\"long\"/><number:text>:</number:text><number:minutes number:style=\"long\"/>"
    )]
    #[case("[$-409]d\" \"mmm\" \"yy", "number:language=\"en\"")]
    #[case("#,##0\" €\";(#,##0\" €\")", "style:apply-style-name=\"N1P0\"")]
    #[case("General", "<number:number number:min-integer-digits=\"1\"/>")]
    fn number_formats_are_styles(#[case] format: &str, #[case] part: &str) {
        let style = data_style(format, 1);
        assert!(style.contains(part), "{style}");
    }
}
