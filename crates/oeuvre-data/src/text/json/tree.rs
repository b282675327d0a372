//! The columns of objects: names, and names in names (`customer.city`), in the order in which they come.

use super::tokens::{Cursor, DEEPEST, Kind, Value, Wrong, unescape};
use std::collections::HashMap;

/// So many values of a column are kept to guess its kind.
const SAMPLES: usize = 500;

/// The members that objects have been seen to have.
pub(super) struct Tree {
    nodes: Vec<Node>,
    of_heading: HashMap<String, usize>,
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

/// A member of an object.
struct Member {
    /// Its name, as it is written, in quotes.
    written: Vec<u8>,
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
        Tree { nodes: vec![Node::default()], of_heading: HashMap::new(), columns: Vec::new() }
    }

    /// Reads an object, which starts at the cursor; names that are not known are trouble.
    pub(super) fn read(
        &self,
        cursor: &mut Cursor<'_>,
        visitor: &mut impl Visitor,
    ) -> Result<(), Trouble> {
        self.read_node(cursor, 0, 0, visitor)
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
            Some(&column) => column,
            None => {
                self.of_heading.insert(heading.clone(), self.columns.len());
                self.columns.push(Column { heading, ..Column::default() });
                self.columns.len() - 1
            }
        };
        let member = Member { written: written.to_vec(), column, node: None };
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
                _ => text.extend_from_slice(value.text(bytes)),
            }
            self.samples.push((record, String::from_utf8_lossy(&text).into_owned()));
        }
    }
}
