//! The way through a JSON document, from value to value.

use super::descend::{Wrong, unescape};
use super::path::{Reached, States};
use super::tokens::{Token, Tokens};
use numerant_data::source::{Input, ReadError, ReadProblem};
use numerant_data::tree::{Kind, TOP};
use numerant_trees::{OpenedTrees, Text};

/// An open container around the present place.
#[derive(Debug)]
pub(super) struct Frame {
    pub(super) list: bool,
    /// Values that were in it so far.
    pub(super) values: u64,
    pub(super) states: States,
    /// Its number among all containers.
    pub(super) serial: u64,
    /// Bytes of the document up to its opening bracket, with that.
    pub(super) head: usize,
    /// Its path among those of values next to the records.
    pub(super) path: u32,
}

/// The way through a document, from value to value.
pub(super) struct Walk {
    pub(super) text: Text,
    pub(super) open: Vec<Frame>,
    /// Values at the top.
    pub(super) documents: u64,
    pub(super) serial: u64,
    pub(super) most_depth: usize,
    /// The name of the member that comes next.
    pub(super) name: String,
}

/// What comes next in a document.
pub(super) enum Next {
    /// A value, which begins where the text is.
    Value,
    /// The end of the container that was open.
    Close(Frame),
    /// The end.
    End,
}

impl Walk {
    pub(super) fn new(input: Input, opened: &OpenedTrees) -> Result<Self, ReadError> {
        Ok(Self {
            text: Text::new(
                input,
                super::NAME,
                opened.options.encoding,
                |_| Ok(None),
                opened.largest_record,
            )?,
            open: Vec::new(),
            documents: 0,
            serial: 0,
            most_depth: opened.depth,
            name: String::new(),
        })
    }

    /// Goes on to the next value or the end of a container.
    pub(super) fn next(&mut self) -> Result<Next, ReadError> {
        let Some(frame) = self.open.last() else {
            return match self.text.next_byte(None)? {
                None => Ok(Next::End),
                Some(_) => {
                    self.documents += 1;
                    Ok(Next::Value)
                }
            };
        };
        let (list, first) = (frame.list, frame.values == 0);
        let Some(mut byte) = self.text.next_byte(None)? else {
            return Err(self.text.malformed(
                self.text.at,
                format!(
                    "the document ends within {}",
                    if list { "a list" } else { "an object" }
                ),
            ));
        };
        if byte == if list { b']' } else { b'}' } {
            self.text.at += 1;
            return match self.open.pop() {
                Some(frame) => Ok(Next::Close(frame)),
                None => Ok(Next::End),
            };
        }
        if !first {
            if byte != b',' {
                let what = format!(
                    "a comma or a '{}' is missing here",
                    if list { ']' } else { '}' }
                );
                return Err(self.text.malformed(self.text.at, what));
            }
            self.text.at += 1;
            byte = self.text.next_byte(None)?.unwrap_or(b' ');
            if matches!(byte, b']' | b'}') {
                let what = "a value is missing after the comma";
                return Err(self.text.malformed(self.text.at, what));
            }
        }
        if !list {
            if byte != b'"' {
                let what = "a name in double quotes is missing here";
                return Err(self.text.malformed(self.text.at, what));
            }
            let length = self.text.value()?;
            let at = self.text.at;
            let name = unescape(self.text.rest(), 0, length).map(std::borrow::Cow::into_owned);
            self.name = name.map_err(|wrong| self.wrong(at, wrong))?;
            self.text.at += length;
            if self.text.token()? != Token::Colon {
                let what = "a colon is missing after the name";
                return Err(self.text.malformed(self.text.at, what));
            }
            if self.text.next_byte(None)?.is_none() {
                let what = "the document ends within an object";
                return Err(self.text.malformed(self.text.at, what));
            }
        }
        if let Some(frame) = self.open.last_mut() {
            frame.values += 1;
        }
        Ok(Next::Value)
    }

    /// How the value that comes next is reached from its container.
    pub(super) fn reached(&self) -> Option<Reached<'_>> {
        let frame = self.open.last()?;
        Some(if frame.list {
            Reached::Index(frame.values - 1)
        } else {
            Reached::Name(&self.name)
        })
    }

    /// The kind of the value that comes next.
    pub(super) fn kind(&self) -> Kind {
        match self.text.bytes().get(self.text.at) {
            Some(b'{') => Kind::Object,
            Some(b'[') => Kind::List,
            Some(b'"') => Kind::Text,
            Some(b't' | b'f') => Kind::Boolean,
            Some(b'n') => Kind::Null,
            _ => Kind::Number,
        }
    }

    /// Goes into the container that comes next.
    pub(super) fn enter(&mut self, states: States) -> Result<(), ReadError> {
        if self.open.len() >= self.most_depth {
            let most = self.most_depth;
            return Err(self.text.error(self.text.at, ReadProblem::TooDeep { most }));
        }
        let list = self.kind() == Kind::List;
        self.text.at += 1;
        self.serial += 1;
        self.open.push(Frame {
            list,
            values: 0,
            states,
            serial: self.serial,
            head: 0,
            path: TOP,
        });
        Ok(())
    }

    pub(super) fn wrong(&self, at: usize, wrong: Wrong) -> ReadError {
        match wrong {
            Wrong::Deep(offset) => {
                let most = self.most_depth;
                self.text.error(at + offset, ReadProblem::TooDeep { most })
            }
            Wrong::Escape(offset, what) => self.text.malformed(at + offset, what),
        }
    }
}
