//! Writes records as JSON: a list, or a value a line.

use numerant_data::record::{Batch, Blank};
use numerant_data::tree::{Outline, OutlineNode, push_json_text};
use numerant_data::value::Cells;
use numerant_format::column::{Shown, TextColumn};
use numerant_format::{EncodeError, RecordEncoder};

use crate::Blanks;

/// How JSON is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct JsonForm {
    /// A value a line, and no list around them.
    pub lines: bool,
    /// Blanks before what is nested, for each level; a record a line if not said.
    pub indent: Option<usize>,
    /// How blank values are written.
    pub blanks: Blanks,
}

/// Writes the records of a source as JSON.
#[derive(Debug)]
pub struct JsonEncoder {
    form: JsonForm,
    columns: Vec<TextColumn>,
    cells: Cells,
    root: Member,
    between: Vec<u8>,
    /// Records are objects of values, and no more.
    flat: bool,
}

/// A member of an object, an item of a list, or the record.
#[derive(Debug)]
struct Member {
    /// The name with its colon, as it is written; empty for items.
    key: Vec<u8>,
    list: bool,
    column: Option<usize>,
    children: Vec<Member>,
    /// The first column in it, and how many levels that is below.
    first: Option<(usize, usize)>,
}

impl Member {
    fn new(node: &OutlineNode, item: bool, spaced: bool) -> Self {
        let mut key = Vec::new();
        if !item {
            push_json_text(node.name.as_bytes(), &mut key);
            key.extend_from_slice(if spaced { b": " } else { b":" });
        }
        let children: Vec<Self> = node
            .children
            .iter()
            .map(|child| Self::new(child, node.list, spaced))
            .collect();
        let first = children.first().and_then(|child| match child.column {
            Some(column) => Some((column, 1)),
            None => child.first.map(|(column, levels)| (column, levels + 1)),
        });
        Self {
            key,
            list: node.list,
            column: node.column,
            children,
            first,
        }
    }
}

impl JsonEncoder {
    /// Writes records of these columns, nested as `outline` says.
    pub fn new(form: JsonForm, columns: Vec<TextColumn>, outline: &Outline, cells: Cells) -> Self {
        let between = if form.lines {
            b"\n".to_vec()
        } else {
            b",\n".to_vec()
        };
        let root = Member::new(&outline.root, true, form.indent.is_some());
        let leaves = root.children.iter().all(|child| child.children.is_empty());
        Self {
            flat: leaves && !root.list && form.indent.is_none() && root.column.is_none(),
            root,
            form,
            columns,
            cells,
            between,
        }
    }

    /// Appends a record without what is before it.
    pub(crate) fn value(
        &self,
        batch: &Batch,
        record: usize,
        out: &mut Vec<u8>,
    ) -> Result<(), EncodeError> {
        if self.flat {
            return self.flat(batch, record, out);
        }
        let level = usize::from(!self.form.lines);
        if !self.member(&self.root, batch, record, level, true, out)? {
            out.extend_from_slice(if self.root.list { b"[]" } else { b"{}" });
        }
        Ok(())
    }

    /// Appends an object of values.
    #[inline]
    fn flat(&self, batch: &Batch, record: usize, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        let mut scratch = Vec::new();
        let mut open = b'{';
        for member in &self.root.children {
            let Some(column) = member.column else {
                continue;
            };
            let value = self.columns[column].value(batch, record, &self.cells, &mut scratch)?;
            let blank = match value {
                Shown::Blank(blank) => self.form.blanks.of(blank, Blank::Null),
                _ => Blank::Empty,
            };
            if matches!(blank, Blank::Absent | Blank::EmptyContainer(_)) {
                continue;
            }
            out.push(open);
            open = b',';
            out.extend_from_slice(&member.key);
            match value {
                Shown::Blank(_) if blank == Blank::Null => out.extend_from_slice(b"null"),
                Shown::Blank(_) => out.extend_from_slice(b"\"\""),
                Shown::Text(text) => push_json_text(text, out),
                Shown::Literal(text) | Shown::Json(text) => out.extend_from_slice(text),
            }
        }
        if open == b'{' {
            out.push(b'{');
        }
        out.push(b'}');
        Ok(())
    }

    fn new_line(&self, level: usize, out: &mut Vec<u8>) {
        if let Some(indent) = self.form.indent {
            out.push(b'\n');
            out.resize(out.len() + indent * level, b' ');
        }
    }

    /// Appends a member with its name, and says whether there is one.
    fn member(
        &self,
        member: &Member,
        batch: &Batch,
        record: usize,
        level: usize,
        first: bool,
        out: &mut Vec<u8>,
    ) -> Result<bool, EncodeError> {
        let start = out.len();
        let begin = |out: &mut Vec<u8>| {
            if !first {
                out.push(b',');
            }
            if level > usize::from(!self.form.lines) || !member.key.is_empty() {
                self.new_line(level, out);
            }
            out.extend_from_slice(&member.key);
        };
        if let Some(column) = member.column
            && self.leaf(column, batch, record, &begin, out)?
        {
            if !member.children.is_empty() {
                let mut inside = Vec::new();
                if self.children(member, batch, record, level, &mut inside)? {
                    let name = |place: usize| self.columns[place].name.clone();
                    let other = member
                        .first
                        .map_or_else(String::new, |(place, _)| name(place));
                    return Err(EncodeError::ValueAndMembers {
                        at: batch.at(record),
                        column: name(column),
                        other,
                    });
                }
            }
            return Ok(true);
        }
        if member.children.is_empty() {
            return Ok(false);
        }
        begin(out);
        out.push(if member.list { b'[' } else { b'{' });
        if !self.children(member, batch, record, level, out)? {
            let empty_container = member.first.is_some_and(|(column, levels)| {
                self.columns[column].is_empty_container(batch, record, levels)
            });
            if !empty_container {
                out.truncate(start);
                return Ok(false);
            }
        } else {
            self.new_line(level, out);
        }
        out.push(if member.list { b']' } else { b'}' });
        Ok(true)
    }

    /// Appends what is in a member, and says whether there is anything.
    fn children(
        &self,
        member: &Member,
        batch: &Batch,
        record: usize,
        level: usize,
        out: &mut Vec<u8>,
    ) -> Result<bool, EncodeError> {
        let mut any = false;
        // Items that are not there before others that are hold their places.
        let mut missing = 0;
        for child in &member.children {
            let before = out.len();
            for hole in 0..missing {
                if any || hole > 0 {
                    out.push(b',');
                }
                self.new_line(level + 1, out);
                out.extend_from_slice(b"null");
            }
            let first = !any && missing == 0;
            if self.member(child, batch, record, level + 1, first, out)? {
                any = true;
                missing = 0;
            } else {
                out.truncate(before);
                missing += usize::from(member.list);
            }
        }
        Ok(any)
    }

    /// Appends the value of a column, and says whether there is one.
    #[inline]
    fn leaf(
        &self,
        column: usize,
        batch: &Batch,
        record: usize,
        begin: &dyn Fn(&mut Vec<u8>),
        out: &mut Vec<u8>,
    ) -> Result<bool, EncodeError> {
        let mut scratch = Vec::new();
        match self.columns[column].value(batch, record, &self.cells, &mut scratch)? {
            Shown::Blank(blank) => match self.form.blanks.of(blank, Blank::Null) {
                Blank::Absent | Blank::EmptyContainer(_) => return Ok(false),
                Blank::Null => {
                    begin(out);
                    out.extend_from_slice(b"null");
                }
                Blank::Empty => {
                    begin(out);
                    out.extend_from_slice(b"\"\"");
                }
            },
            Shown::Text(text) => {
                begin(out);
                push_json_text(text, out);
            }
            Shown::Literal(text) | Shown::Json(text) => {
                begin(out);
                out.extend_from_slice(text);
            }
        }
        Ok(true)
    }
}

impl RecordEncoder for JsonEncoder {
    fn begin(&self, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        if !self.form.lines {
            out.extend_from_slice(b"[\n");
        }
        Ok(())
    }

    fn record(&self, batch: &Batch, record: usize, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        if let (Some(indent), false) = (self.form.indent, self.form.lines) {
            out.resize(out.len() + indent, b' ');
        }
        self.value(batch, record, out)
    }

    fn moves_raw(&self) -> bool {
        false
    }

    fn between(&self) -> &[u8] {
        &self.between
    }

    fn end(&self, records: u64, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        match (self.form.lines, records) {
            (true, 0) => {}
            (true, _) => out.push(b'\n'),
            (false, 0) => out.extend_from_slice(b"]\n"),
            (false, _) => out.extend_from_slice(b"\n]\n"),
        }
        Ok(())
    }
}
