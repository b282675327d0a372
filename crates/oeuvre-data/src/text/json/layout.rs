//! How objects stand in a text: in a list, on lines, one after the other; and which list, where a whole has several.

use super::tokens::{Cursor, Kind, Value, Wrong, unescape};
use crate::bytes::Bytes;
use oeuvre_columns::names::nearest;
use oeuvre_columns::{DataProblem, ReadError};

/// How records stand in a text.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Form {
    /// One on each line; blank lines are none.
    Lines,
    /// In a list, from behind its opening bracket.
    List,
    /// One after the other.
    Sequence,
}

/// Where the records are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Layout {
    pub(super) form: Form,
    /// Where the first one may start.
    pub(super) body: usize,
    /// Whether the text goes on behind the list.
    pub(super) inside: bool,
    /// Whether they are lines that Oeuvre wrote: what they are, and their cells.
    pub(super) written: bool,
}

impl Layout {
    /// Moves a cursor at a record to its cells; false for a line of totals, which is no row.
    pub(super) fn is_row(&self, cursor: &mut Cursor<'_>) -> Result<bool, Wrong> {
        if !self.written {
            return Ok(true);
        }
        cursor.take(b'{', "`{`")?;
        let mut is_total = false;
        loop {
            if cursor.peek()? != b'"' {
                return Err(Wrong::Expected(cursor.at, "a name in quotes"));
            }
            let name = cursor.string()?;
            cursor.take(b':', "`:`")?;
            match name.text(cursor.bytes) {
                b"cells" => {
                    cursor.peek()?;
                    return Ok(!is_total);
                }
                name => {
                    let value = cursor.value()?;
                    // Subtotals have a word of their own; whatever comes, it is no row.
                    is_total |=
                        name == b"role" && !matches!(value.text(cursor.bytes), b"line" | b"rest");
                }
            }
            cursor.take(b',', "`cells`")?;
        }
    }
}

/// Whether a text is JSON, by its beginning, and its name: files of records may begin with a bracket, too.
pub(crate) fn looks_like_json(head: &[u8], name: &str) -> bool {
    let head = head.strip_prefix(&[0xef, 0xbb, 0xbf]).unwrap_or(head);
    let mut bytes = head.iter().filter(|b| !b.is_ascii_whitespace());
    match (bytes.next(), bytes.next()) {
        (Some(b'{'), Some(b'"' | b'}')) => true,
        (Some(b'['), Some(b'{' | b']' | b'[')) => true,
        (Some(b'{' | b'['), _) => {
            let name = name.to_lowercase();
            [".json", ".jsonl", ".ndjson"].iter().any(|end| name.contains(end))
        }
        _ => false,
    }
}

/// Finds out how records stand in a text.
///
/// # Errors
/// A text without records, or with several lists of them and none named.
pub(super) fn find(name: &str, bytes: &Bytes, table: Option<&str>) -> Result<Layout, ReadError> {
    let body = if bytes.head(3) == [0xef, 0xbb, 0xbf] { 3 } else { 0 };
    let layout = |form: Form, body: usize| Layout { form, body, inside: false, written: false };
    let mut look = 64 << 10;
    loop {
        let head = bytes.head(look);
        let whole = head.len() < look;
        let mut cursor = Cursor::new(head, body);
        match cursor.peek() {
            Ok(b'[') if table.is_none() => {
                cursor.at += 1;
                return match cursor.peek() {
                    Ok(b'{' | b']') => Ok(layout(Form::List, cursor.at)),
                    _ => Err(no_objects(name)),
                };
            }
            Ok(b'{') => {}
            Ok(b'[') => return Err(no_tables(name, table.unwrap_or_default())),
            _ => return Err(no_objects(name)),
        }
        let start = cursor.at;
        match cursor.value() {
            Ok(first) => {
                // Another one behind it, or nothing.
                match cursor.peek() {
                    Ok(_) => {
                        if let Some(table) = table {
                            return Err(no_tables(name, table));
                        }
                        let on_a_line = !head[start..first.end].contains(&b'\n')
                            && head[first.end..cursor.at].contains(&b'\n');
                        let form = if on_a_line { Form::Lines } else { Form::Sequence };
                        let written = is_written(head, first);
                        return Ok(Layout { written, ..layout(form, start) });
                    }
                    Err(_) if whole => return of_a_whole(name, head, first, table),
                    Err(_) => {}
                }
            }
            // What is wrong with it is told when it is read.
            Err(_) if whole => {
                let line = head[start..].split(|&b| b == b'\n').next().unwrap_or(&[]);
                let form = if line.contains(&b'}') { Form::Lines } else { Form::Sequence };
                return Ok(layout(form, start));
            }
            Err(Wrong::Ends) => {}
            Err(_) => return Ok(layout(Form::Lines, start)),
        }
        look = look.saturating_mul(4);
    }
}

/// Whether an object is a line that Oeuvre wrote.
fn is_written(bytes: &[u8], object: Value) -> bool {
    let members = members(bytes, object);
    let names: Vec<&[u8]> = members.iter().map(|(name, _)| name.text(bytes)).collect();
    names.first() == Some(&&b"role"[..])
        && names.last() == Some(&&b"cells"[..])
        && members.last().is_some_and(|(_, value)| value.kind == Kind::Object)
}

/// The members of an object that is known to be whole; those before something that is no JSON.
fn members(bytes: &[u8], object: Value) -> Vec<(Value, Value)> {
    let mut cursor = Cursor::new(&bytes[..object.end], object.start + 1);
    let mut members = Vec::new();
    while let Ok(b'"') = cursor.peek() {
        let Ok(name) = cursor.string() else { break };
        if cursor.take(b':', "`:`").is_err() {
            break;
        }
        let Ok(value) = cursor.value() else { break };
        members.push((name, value));
        if cursor.take(b',', "`,`").is_err() {
            break;
        }
    }
    members
}

/// A list of objects in a whole.
struct List {
    name: String,
    /// Where its bracket is.
    at: usize,
    written: bool,
}

/// The lists of objects in an object, and in the objects in it.
fn lists(bytes: &[u8], object: Value, prefix: &str, depth: usize, found: &mut Vec<List>) {
    let members = members(bytes, object);
    let of = |wanted: &[u8]| members.iter().find(|(n, _)| n.text(bytes) == wanted).map(|m| m.1);
    // A table that Oeuvre wrote says what its columns are.
    let columns = of(b"columns").filter(|v| v.kind == Kind::List);
    if let (Some(_), Some(lines)) = (columns, of(b"lines").or_else(|| of(b"rows"))) {
        let written = of(b"lines").is_some();
        let name = match of(b"name") {
            Some(name) => plain(name.text(bytes)),
            None => prefix.trim_end_matches('.').to_owned(),
        };
        found.push(List { name, at: lines.start, written });
        return;
    }
    for (name, value) in members {
        let name = format!("{prefix}{}", plain(name.text(bytes)));
        match value.kind {
            Kind::List => {
                let mut inside = Cursor::new(&bytes[..value.end], value.start + 1);
                if name == "parts" && depth == 0 {
                    let before = found.len();
                    while let Ok(b'{') = inside.peek() {
                        let Ok(part) = inside.value() else { break };
                        let tables = self::members(bytes, part);
                        if tables.iter().any(|(n, _)| n.text(bytes) == b"columns") {
                            lists(bytes, part, "", depth + 1, found);
                        }
                        if inside.take(b',', "`,`").is_err() {
                            break;
                        }
                    }
                    if found.len() > before {
                        return;
                    }
                    inside.at = value.start + 1;
                }
                if let Ok(b'{') = inside.peek() {
                    found.push(List { name, at: value.start, written: false });
                }
            }
            Kind::Object if depth < 4 => {
                lists(bytes, value, &format!("{name}."), depth + 1, found);
            }
            _ => {}
        }
    }
}

fn plain(text: &[u8]) -> String {
    let mut out = Vec::new();
    unescape(text, &mut out);
    String::from_utf8_lossy(&out).into_owned()
}

/// Where the records are in a text that is one object.
fn of_a_whole(
    name: &str,
    bytes: &[u8],
    object: Value,
    table: Option<&str>,
) -> Result<Layout, ReadError> {
    let mut found = Vec::new();
    if is_written(bytes, object) {
        let form = Form::Sequence;
        return Ok(Layout { form, body: object.start, inside: false, written: true });
    }
    let by_line = [".jsonl", ".ndjson"].iter().any(|end| name.to_lowercase().contains(end));
    if !by_line {
        lists(bytes, object, "", 0, &mut found);
    }
    let list = match (table, &found[..]) {
        (Some(table), _) => match found.iter().find(|list| list.name == table) {
            Some(list) => list,
            None => {
                let near = nearest(table, found.iter().map(|list| list.name.as_str()));
                let it = DataProblem::in_file(name, format!("there is no list `{table}` in it"));
                let help = match (near.first(), found.is_empty()) {
                    (Some(near), _) => format!("did you mean `{near}`?"),
                    (None, false) => format!("there are {}", named(&found)),
                    (None, true) => "there is no list of objects in it".to_owned(),
                };
                return Err(it.help(help).into());
            }
        },
        // An object by itself is a row.
        (None, []) => {
            let form = Form::Sequence;
            return Ok(Layout { form, body: object.start, inside: false, written: false });
        }
        (None, [list]) => list,
        (None, _) => {
            let message = format!("there are several lists of objects in it: {}", named(&found));
            return Err(DataProblem::in_file(name, message)
                .help(format!("say which: '{name}#{}'", found[0].name))
                .into());
        }
    };
    Ok(Layout { form: Form::List, body: list.at + 1, inside: true, written: list.written })
}

/// The names of lists.
fn named(lists: &[List]) -> String {
    let names: Vec<String> = lists.iter().take(20).map(|l| format!("`{}`", l.name)).collect();
    names.join(", ")
}

fn no_objects(name: &str) -> ReadError {
    DataProblem::in_file(name, "this is JSON, but no list of objects")
        .help("rows are the objects of a list, or one on each line")
        .into()
}

fn no_tables(name: &str, table: &str) -> ReadError {
    DataProblem::in_file(
        name,
        format!("there is no list `{table}` in it: its rows stand by themselves"),
    )
    .help(format!("leave `#{table}` out"))
    .into()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn found(text: &str, table: Option<&str>) -> Result<(Form, usize, bool), String> {
        let bytes = Bytes::Owned(text.as_bytes().to_vec());
        match find("f.json", &bytes, table) {
            Ok(layout) => Ok((layout.form, layout.body, layout.written)),
            Err(ReadError::Problem(it)) => Err(format!("{it} {:?}", it.help)),
            Err(ReadError::Again) => panic!("nothing is guessed here"),
        }
    }

    #[rstest]
    #[case("[{\"a\":1}]", None, (Form::List, 1, false))]
    #[case(" [ ]", None, (Form::List, 3, false))]
    #[case("{\"a\":1}\n{\"a\":2}\n", None, (Form::Lines, 0, false))]
    #[case("{\"a\":1}\n", None, (Form::Sequence, 0, false))]
    #[case("{\n\"a\":1}\n{\"a\":2}\n", None, (Form::Sequence, 0, false))]
    #[case("{\"a\":1}{\"a\":2}", None, (Form::Sequence, 0, false))]
    #[case("{\"n\":2,\"data\":[{\"a\":1}]}", None, (Form::List, 15, false))]
    #[case("{\"x\":[{\"a\":1}],\"y\":{\"z\":[{\"a\":1}]}}", Some("y.z"), (Form::List, 25, false))]
    #[case("{\"columns\":[],\"lines\":[{\"role\":\"line\",\"cells\":{}}]}", None, (Form::List, 23, true))]
    #[case("{\"role\":\"line\",\"cells\":{\"a\":1}}\n{\"role\":\"total\",\"cells\":{}}", None, (Form::Lines, 0, true))]
    #[case("{\"parts\":[{\"kind\":\"text\"},{\"name\":\"t\",\"columns\":[],\"rows\":[{\"a\":1}]}]}", None, (Form::List, 59, false))]
    fn records_are_found(
        #[case] text: &str,
        #[case] table: Option<&str>,
        #[case] layout: (Form, usize, bool),
    ) {
        assert_eq!(found(text, table), Ok(layout));
    }

    #[rstest]
    #[case("[1,2]", None, "no list of objects")]
    #[case(
        "{\"x\":[{\"a\":1}],\"y\":[{\"a\":1}]}",
        None,
        "several lists of objects in it: `x`, `y` [\"say which: 'f.json#x'\"]"
    )]
    #[case("{\"orders\":[{\"a\":1}]}", Some("order"), "did you mean `orders`?")]
    #[case("[{\"a\":1}]", Some("x"), "leave `#x` out")]
    #[case("{\"a\":1}\n{\"a\":1}", Some("x"), "leave `#x` out")]
    fn what_is_not_there_is_told(
        #[case] text: &str,
        #[case] table: Option<&str>,
        #[case] said: &str,
    ) {
        let error = found(text, table).unwrap_err();
        assert!(error.contains(said), "{error}");
    }
}
