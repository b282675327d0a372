//! The columns of objects: names, and names in names (`customer.city`), in the order in which they come.

use super::tokens::{Cursor, DEEPEST, Kind, Value, Wrong, unescape};
use std::collections::HashMap;

/// So many values of a column are kept to guess its kind.
const SAMPLES: usize = 500;

/// The members that objects have been seen to have.
pub(super) struct Tree {
    nodes: Vec<Node>,
    of_heading: HashMap<String, usize>,
    /// Whether two members are the same column: one name is written in two ways, or has the dot of another's object.
    doubled: bool,
    /// The columns, in the order in which they came.
    pub(super) columns: Vec<Column>,
}

/// The members of an object.
#[derive(Default)]
struct Node {
    /// In the order in which they came, which is mostly that of the next object, too.
    members: Vec<Member>,
    index: HashMap<Vec<u8>, usize>,
}

/// A text that is looked for again and again: its first bytes as one word.
struct Key {
    text: Vec<u8>,
    first: u128,
    mask: u128,
}

impl Key {
    fn new(text: Vec<u8>) -> Key {
        let mut first = [0; 16];
        let len = text.len().min(16);
        first[..len].copy_from_slice(&text[..len]);
        let mask = if len == 16 { u128::MAX } else { (1 << (8 * len)) - 1 };
        Key { first: u128::from_le_bytes(first), mask, text }
    }

    /// Whether it stands at a place; `None` too near the end of the text to say.
    #[inline(always)]
    fn stands_at(&self, bytes: &[u8], at: usize) -> Option<bool> {
        let word = u128::from_le_bytes(bytes.get(at..at + 16)?.try_into().ok()?);
        if word & self.mask != self.first {
            return Some(false);
        }
        let rest = self.text.get(16..).unwrap_or(&[]);
        Some(rest.is_empty() || bytes.get(at + 16..at + self.text.len())? == rest)
    }
}

/// A member of an object.
struct Member {
    /// Its name, as it is written, in quotes.
    written: Vec<u8>,
    /// Its name with the colon behind it, as most programs write it.
    usual: Key,
    /// The column of its values that are no objects.
    column: usize,
    /// The object that it is, where it was one.
    node: Option<usize>,
}

/// What is known of a column.
#[derive(Default)]
pub(super) struct Column {
    /// Its name, with those of the objects that it is in.
    pub(super) heading: String,
    /// The first values: where their record starts, and their texts.
    pub(super) samples: Vec<(usize, String)>,
    /// Whether there was a value that is no object and not null.
    pub(super) valued: bool,
    /// Whether it was an object.
    pub(super) object: bool,
    /// Whether there was a number, whose decimal sign is sure.
    pub(super) numbers: bool,
}

impl Column {
    /// Whether it is a column of the table: what was but null may become one.
    pub(super) fn is_shown(&self) -> bool {
        self.valued || !self.object
    }
}

/// What is wrong with a record.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Trouble {
    /// It is no JSON.
    Wrong(Wrong),
    /// It has a name that was not known.
    Unknown,
    /// A name stands in it twice.
    Twice(usize),
}

impl From<Wrong> for Trouble {
    fn from(wrong: Wrong) -> Trouble {
        Trouble::Wrong(wrong)
    }
}

/// What is seen of a record.
pub(super) trait Visitor {
    /// A value of a column.
    fn value(&mut self, column: usize, value: Value, bytes: &[u8]);

    /// Whether a column has had its value in this record; it has from now on.
    fn again(&mut self, column: usize) -> bool;
}

impl Tree {
    pub(super) fn new() -> Tree {
        Tree {
            nodes: vec![Node::default()],
            of_heading: HashMap::new(),
            doubled: false,
            columns: Vec::new(),
        }
    }

    /// Reads an object, which starts at the cursor; names that are not known are trouble.
    pub(super) fn read(
        &self,
        cursor: &mut Cursor<'_>,
        visitor: &mut impl Visitor,
    ) -> Result<(), Trouble> {
        self.read_node(cursor, 0, 0, visitor)
    }

    /// Reads an object that is written as most programs write them, its members in the order in which they came
    /// first: where it ends. `None` where it is not, with values given on that mean nothing; [`Tree::read`] then
    /// says what it holds, or what is wrong with it.
    ///
    /// Members that come in their order cannot stand twice.
    pub(super) fn read_usual(
        &self,
        bytes: &[u8],
        start: usize,
        visitor: &mut impl Visitor,
    ) -> Option<usize> {
        if self.doubled { None } else { self.usual_node(bytes, start, 0, visitor) }
    }

    fn usual_node(
        &self,
        bytes: &[u8],
        start: usize,
        node: usize,
        visitor: &mut impl Visitor,
    ) -> Option<usize> {
        let mut at = start + 1;
        let mut members = self.nodes[node].members.iter();
        loop {
            // Those that this object lacks are passed over.
            let member = loop {
                let member = members.next()?;
                if member.usual.stands_at(bytes, at)? {
                    at += member.usual.text.len();
                    break member;
                }
            };
            if bytes.get(at) == Some(&b' ') {
                at += 1;
            }
            let from = at;
            let kind = match *bytes.get(at)? {
                b'"' => {
                    let (end, escaped) = string_end(bytes, at + 1)?;
                    at = end + 1;
                    let kind = Kind::String { escaped };
                    self.give(member, Value { kind, start: from + 1, end }, bytes, visitor)?;
                    None
                }
                b'-' | b'0'..=b'9' => {
                    at += 1;
                    while let b'0'..=b'9' | b'.' | b'e' | b'E' | b'+' | b'-' = *bytes.get(at)? {
                        at += 1;
                    }
                    Some(Kind::Number)
                }
                b'{' => {
                    at = self.usual_node(bytes, at, member.node?, visitor)?;
                    None
                }
                _ => {
                    let mut cursor = Cursor::new(bytes, at);
                    let value = cursor.value().ok()?;
                    at = cursor.at;
                    Some(value.kind)
                }
            };
            if let Some(kind) = kind {
                self.give(member, Value { kind, start: from, end: at }, bytes, visitor)?;
            }
            match bytes.get(at)? {
                b',' => at += 1 + usize::from(bytes.get(at + 1) == Some(&b' ')),
                b'}' => return Some(at + 1),
                _ => return None,
            }
        }
    }

    /// Gives a value on; `None` for one of a column that had none before.
    #[inline(always)]
    fn give(
        &self,
        member: &Member,
        value: Value,
        bytes: &[u8],
        visitor: &mut impl Visitor,
    ) -> Option<()> {
        if value.kind != Kind::Null && !self.columns[member.column].valued {
            return None;
        }
        visitor.value(member.column, value, bytes);
        Some(())
    }

    fn read_node(
        &self,
        cursor: &mut Cursor<'_>,
        node: usize,
        depth: usize,
        visitor: &mut impl Visitor,
    ) -> Result<(), Trouble> {
        let node = &self.nodes[node];
        let mut next = 0;
        cursor.take(b'{', "`{`")?;
        if cursor.peek()? == b'}' {
            cursor.at += 1;
            return Ok(());
        }
        loop {
            if cursor.peek()? != b'"' {
                return Err(Wrong::Expected(cursor.at, "a name in quotes").into());
            }
            let at = cursor.at;
            let rest = &cursor.bytes[at..];
            let member = match node.members.get(next).filter(|m| rest.starts_with(&m.written)) {
                Some(member) => {
                    cursor.at += member.written.len();
                    member
                }
                None => {
                    cursor.string()?;
                    match node.index.get(&cursor.bytes[at..cursor.at]) {
                        Some(&found) => {
                            next = found;
                            &node.members[found]
                        }
                        None => return Err(Trouble::Unknown),
                    }
                }
            };
            next += 1;
            if visitor.again(member.column) {
                return Err(Trouble::Twice(member.column));
            }
            cursor.take(b':', "`:`")?;
            match (cursor.peek()?, member.node) {
                (b'{', Some(node)) => self.read_node(cursor, node, depth + 1, visitor)?,
                (b'{', None) if depth < DEEPEST => return Err(Trouble::Unknown),
                _ => {
                    let value = cursor.value()?;
                    if value.kind != Kind::Null && !self.columns[member.column].valued {
                        return Err(Trouble::Unknown);
                    }
                    visitor.value(member.column, value, cursor.bytes);
                }
            }
            match cursor.peek()? {
                b',' => cursor.at += 1,
                b'}' => {
                    cursor.at += 1;
                    return Ok(());
                }
                _ => return Err(Wrong::Expected(cursor.at, "`,` or `}`").into()),
            }
        }
    }

    /// Takes in the names of an object, which starts at the cursor, and its values as samples.
    pub(super) fn learn(&mut self, cursor: &mut Cursor<'_>) -> Result<(), Trouble> {
        let record = cursor.at;
        self.learn_node(cursor, 0, 0, "", record)
    }

    fn learn_node(
        &mut self,
        cursor: &mut Cursor<'_>,
        node: usize,
        depth: usize,
        prefix: &str,
        record: usize,
    ) -> Result<(), Trouble> {
        cursor.take(b'{', "`{`")?;
        if depth >= DEEPEST {
            return Err(Wrong::Deep(cursor.at).into());
        }
        if cursor.peek()? == b'}' {
            cursor.at += 1;
            return Ok(());
        }
        loop {
            if cursor.peek()? != b'"' {
                return Err(Wrong::Expected(cursor.at, "a name in quotes").into());
            }
            let at = cursor.at;
            let name = cursor.string()?;
            let member = self.member(node, (at, name), cursor, prefix)?;
            let column = self.nodes[node].members[member].column;
            cursor.take(b':', "`:`")?;
            if cursor.peek()? == b'{' {
                let child = match self.nodes[node].members[member].node {
                    Some(child) => child,
                    None => {
                        self.nodes.push(Node::default());
                        let child = self.nodes.len() - 1;
                        self.nodes[node].members[member].node = Some(child);
                        child
                    }
                };
                self.columns[column].object = true;
                let heading = format!("{}.", self.columns[column].heading);
                self.learn_node(cursor, child, depth + 1, &heading, record)?;
            } else {
                let value = cursor.value()?;
                self.columns[column].take(value, cursor.bytes, record);
            }
            match cursor.peek()? {
                b',' => cursor.at += 1,
                b'}' => {
                    cursor.at += 1;
                    return Ok(());
                }
                _ => return Err(Wrong::Expected(cursor.at, "`,` or `}`").into()),
            }
        }
    }

    /// The member of an object with a name, which is added where it is new.
    fn member(
        &mut self,
        node: usize,
        (at, name): (usize, Value),
        cursor: &Cursor<'_>,
        prefix: &str,
    ) -> Result<usize, Trouble> {
        let written = &cursor.bytes[at..cursor.at];
        if let Some(&known) = self.nodes[node].index.get(written) {
            return Ok(known);
        }
        let mut plain = Vec::new();
        unescape(name.text(cursor.bytes), &mut plain);
        let Ok(plain) = String::from_utf8(plain) else {
            return Err(Wrong::Expected(at, "a name in UTF-8").into());
        };
        let plain = plain.split_whitespace().collect::<Vec<_>>().join(" ");
        let heading = format!("{prefix}{plain}");
        // The same name may be written in two ways, with escapes and without.
        let column = match self.of_heading.get(&heading) {
            Some(&column) => {
                self.doubled = true;
                column
            }
            None => {
                self.of_heading.insert(heading.clone(), self.columns.len());
                self.columns.push(Column { heading, ..Column::default() });
                self.columns.len() - 1
            }
        };
        let usual = Key::new([written, b":"].concat());
        let member = Member { written: written.to_vec(), usual, column, node: None };
        let of_node = &mut self.nodes[node];
        of_node.members.push(member);
        of_node.index.insert(written.to_vec(), of_node.members.len() - 1);
        Ok(of_node.members.len() - 1)
    }
}

impl Column {
    /// Takes a value in.
    fn take(&mut self, value: Value, bytes: &[u8], record: usize) {
        self.valued |= value.kind != Kind::Null;
        self.numbers |= value.kind == Kind::Number;
        if self.samples.len() < SAMPLES && value.kind != Kind::Null {
            let mut text = Vec::new();
            match value.kind {
                Kind::String { escaped: true } => unescape(value.text(bytes), &mut text),
                Kind::Number => super::tokens::plain_number(value.text(bytes), &mut text),
                Kind::List => super::tokens::compact(value.text(bytes), &mut text),
                _ => text.extend_from_slice(value.text(bytes)),
            }
            self.samples.push((record, String::from_utf8_lossy(&text).into_owned()));
        }
    }
}

/// Where a string ends that starts at a place, and whether it has escapes: eight bytes at a time.
#[inline(always)]
fn string_end(bytes: &[u8], start: usize) -> Option<(usize, bool)> {
    const ONES: u64 = 0x0101_0101_0101_0101;
    const HIGHS: u64 = 0x8080_8080_8080_8080;
    let zeros = |word: u64| word.wrapping_sub(ONES) & !word & HIGHS;
    let (mut at, mut escaped) = (start, false);
    loop {
        let word = u64::from_le_bytes(bytes.get(at..at + 8)?.try_into().ok()?);
        let (quotes, escapes) = (ONES * u64::from(b'"'), ONES * u64::from(b'\\'));
        let found = zeros(word ^ quotes) | zeros(word ^ escapes);
        if found == 0 {
            at += 8;
            continue;
        }
        // The lowest mark is always right.
        at += found.trailing_zeros() as usize / 8;
        if bytes[at] == b'"' {
            return Some((at, escaped));
        }
        escaped = true;
        at += 2;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// The values that a visitor is given, by column.
    #[derive(Default)]
    struct Given {
        values: Vec<(usize, String)>,
        seen: Vec<usize>,
    }

    impl Visitor for Given {
        fn value(&mut self, column: usize, value: Value, bytes: &[u8]) {
            let text = String::from_utf8_lossy(value.text(bytes)).into_owned();
            self.values.push((column, format!("{:?} {text}", value.kind)));
        }
        fn again(&mut self, column: usize) -> bool {
            let again = self.seen.contains(&column);
            self.seen.push(column);
            again
        }
    }

    proptest! {
        /// What the fast way takes the careful one takes too, with the same values.
        #[test]
        fn the_usual_way_is_the_careful_one(
            known in prop::collection::vec(prop::sample::subsequence(vec![
                "\"a\":1", "\"b\":\"x\\\"y\"", "\"c\":{\"d\":null,\"e\":true}", "\"f\":[1,{}]", "\"g\":-2.5e3",
            ], 0..5), 1..4),
            records in prop::collection::vec(prop::sample::select(vec![
                "{\"a\":1,\"b\":\"xyzxyzxyzxyz\"}", "{\"a\": 12, \"g\": 1}", "{\"c\":{\"e\":false},\"f\":[]}",
                "{\"b\":\"\",\"a\":2}", "{\"a\":1,\"a\":2}", "{}", "{\"a\":}", "{\"c\":{\"d\":1}}", "{\"a\":1",
                "{\"g\":null,\"c\":3}", "{ \"a\" : 1 }", "{\"a\":\"1\"}",
            ]), 1..6),
        ) {
            let mut tree = Tree::new();
            for members in &known {
                let text = format!("{{{}}}", members.join(","));
                tree.learn(&mut Cursor::new(text.as_bytes(), 0)).unwrap();
            }
            for record in records {
                // What is read further than the record ends is not its own.
                let text = format!("{record}\n          ");
                let bytes = text.as_bytes();
                let mut fast = Given::default();
                if let Some(end) = tree.read_usual(bytes, 0, &mut fast) {
                    let (mut careful, mut cursor) = (Given::default(), Cursor::new(bytes, 0));
                    prop_assert_eq!(tree.read(&mut cursor, &mut careful), Ok(()));
                    prop_assert_eq!((cursor.at, careful.values), (end, fast.values));
                }
            }
        }
    }
}
