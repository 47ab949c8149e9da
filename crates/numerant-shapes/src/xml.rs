//! Reads a shape that is a sample of an XML document.

use quick_xml::Reader;
use quick_xml::escape::unescape;
use quick_xml::events::{BytesStart, Event};

use super::parts::{Each, Escape, Piece};
use super::word::Placeholder;
use super::{MARKS, Marks, ShapeProblem, Wrong};
use numerant_documents::xml::check;

/// A part that is being read.
struct Open {
    pieces: Vec<Piece>,
    /// The marks of the element whose part it is.
    marks: Marks,
    /// Elements that are open in it.
    depth: usize,
}

struct Parser<'a> {
    text: &'a str,
    open: Vec<Open>,
    marks: Marks,
    names: Vec<String>,
}

fn malformed(line: usize, what: impl std::fmt::Display) -> Wrong {
    let what = format!("not well-formed XML: {what}");
    (line, ShapeProblem::Malformed(what))
}

pub(super) fn parse(text: &str) -> Result<Vec<Piece>, Wrong> {
    let mut parser = Parser {
        text,
        open: vec![Open {
            pieces: Vec::new(),
            marks: Marks::default(),
            depth: 0,
        }],
        marks: Marks::default(),
        names: Vec::new(),
    };
    // Places and marks are text and instructions, so that the shape is well-formed as the outputs are.
    check(text).map_err(|(line, what)| malformed(line as usize, what))?;
    let mut reader = Reader::from_str(text);
    reader.config_mut().check_end_names = false;
    let mut from = 0;
    // Where the text begins that has not been taken yet.
    let mut run: Option<usize> = None;
    loop {
        let event = reader
            .read_event()
            .map_err(|error| malformed(parser.line(from), error))?;
        let to = reader.buffer_position() as usize;
        if matches!(event, Event::Text(_) | Event::GeneralRef(_)) {
            run.get_or_insert(from);
            from = to;
            continue;
        }
        if let Some(start) = run.take() {
            parser.run(start, from)?;
        }
        let end = matches!(event, Event::Eof);
        parser.event(event, from, to)?;
        from = to;
        if end {
            break;
        }
    }
    if let Some(name) = parser.names.last() {
        return Err(malformed(
            parser.line(text.len()),
            format!("<{name}> is never closed"),
        ));
    }
    if !parser.marks.is_empty() {
        let what = "a mark that no element follows".to_owned();
        return Err((parser.line(text.len()), ShapeProblem::Mark(what)));
    }
    Ok(parser
        .open
        .pop()
        .map(|open| open.pieces)
        .unwrap_or_default())
}

impl Parser<'_> {
    fn line(&self, at: usize) -> usize {
        memchr::memchr_iter(b'\n', &self.text.as_bytes()[..at]).count() + 1
    }

    fn push(&mut self, piece: Piece) {
        if let Some(open) = self.open.last_mut() {
            match (open.pieces.last_mut(), piece) {
                (Some(Piece::Literal(before)), Piece::Literal(text)) => before.push_str(&text),
                (_, piece) => open.pieces.push(piece),
            }
        }
    }

    fn literal(&mut self, text: &str) {
        if !text.is_empty() {
            self.push(Piece::Literal(text.to_owned()));
        }
    }

    /// Takes a text, with places or without.
    fn words(&mut self, text: &str, escape: Escape, line: usize) -> Result<(), Wrong> {
        let place = Placeholder::new(text, line)?;
        self.push(Piece::Placeholder(place, escape));
        Ok(())
    }

    /// Takes a text between two tags.
    fn run(&mut self, from: usize, to: usize) -> Result<(), Wrong> {
        let raw = &self.text[from..to];
        if !raw.contains(['{', '}']) {
            self.literal(raw);
            return Ok(());
        }
        let line = self.line(from + raw.len() - raw.trim_start().len());
        let text = unescape(raw).map_err(|error| malformed(line, error))?;
        self.words(&text, Escape::Text, line)
    }

    fn event(&mut self, event: Event<'_>, from: usize, to: usize) -> Result<(), Wrong> {
        let raw = &self.text[from..to];
        let line = self.line(from);
        match event {
            Event::Start(tag) => {
                self.start(&tag, from, to)?;
                self.names.push(tag.name().as_ref().to_owned());
            }
            Event::Empty(tag) => {
                self.start(&tag, from, to)?;
                self.close()?;
            }
            Event::End(tag) => {
                let name = tag.name();
                let name = name.as_ref();
                match self.names.pop() {
                    Some(open) if open == *name => {}
                    Some(open) => {
                        return Err(malformed(line, format!("</{name}> where <{open}> is open")));
                    }
                    None => return Err(malformed(line, format!("</{name}> closes nothing"))),
                }
                self.literal(raw);
                self.close()?;
            }
            Event::Comment(comment) => {
                let text = comment.into_inner();
                if text.contains(['{', '}']) {
                    self.literal("<!--");
                    self.words(&text, Escape::Comment, line)?;
                    self.literal("-->");
                } else {
                    self.literal(raw);
                }
            }
            Event::CData(section) => {
                let text = section.into_inner();
                self.literal("<![CDATA[");
                self.words(&text, Escape::Section, line)?;
                self.literal("]]>");
            }
            Event::PI(instruction) => {
                let text = instruction.into_inner();
                let (mark, rest) = text.split_once(char::is_whitespace).unwrap_or((&text, ""));
                if MARKS.contains(&mark) {
                    self.marks.add(mark, rest, line)?;
                    // The mark goes with the white space before it; that after it stays.
                    if self.text[to..].starts_with(char::is_whitespace)
                        && let Some(Open { pieces, .. }) = self.open.last_mut()
                        && let Some(Piece::Literal(before)) = pieces.last_mut()
                    {
                        before.truncate(before.trim_end().len());
                    }
                } else {
                    self.literal(raw);
                }
            }
            // The outputs are UTF-8, whatever the sample is.
            Event::Decl(_) => self.literal("<?xml version=\"1.0\" encoding=\"UTF-8\"?>"),
            _ => self.literal(raw),
        }
        Ok(())
    }

    fn start(&mut self, tag: &BytesStart<'_>, from: usize, to: usize) -> Result<(), Wrong> {
        let marks = std::mem::take(&mut self.marks);
        let comes_and_goes = marks.each.is_some() || marks.when.is_some() || marks.optional;
        if comes_and_goes && self.names.is_empty() {
            let what = "the root element can neither repeat nor be left out".to_owned();
            return Err((self.line(from), ShapeProblem::Mark(what)));
        }
        if !marks.is_empty() {
            let white = match self.open.last_mut().map(|open| open.pieces.last_mut()) {
                Some(Some(Piece::Literal(before))) => {
                    let end = before.trim_end().len();
                    before.split_off(end)
                }
                _ => String::new(),
            };
            self.open.push(Open {
                pieces: Vec::new(),
                marks,
                depth: 0,
            });
            self.literal(&white);
        }
        if let Some(open) = self.open.last_mut() {
            open.depth += 1;
        }
        self.tag(tag, from, to)
    }

    /// Takes a start tag, with places in its attributes.
    fn tag(&mut self, tag: &BytesStart<'_>, from: usize, to: usize) -> Result<(), Wrong> {
        let raw = &self.text[from..to];
        let optional = self.open.last().map(|open| open.marks.attributes.clone());
        let optional = optional.filter(|_| self.open.last().is_some_and(|open| open.depth == 1));
        let mut optional = optional.unwrap_or_default();
        let mut taken = 0;
        for attribute in tag.attributes() {
            let attribute = attribute.map_err(|error| malformed(self.line(from), error))?;
            let value = attribute.value.as_ref();
            let name = attribute.key.as_ref();
            let at = (value.as_ptr() as usize).wrapping_sub(raw.as_ptr() as usize);
            // An attribute's value is a part of the tag verbatim.
            let at = if at <= raw.len() {
                at
            } else {
                raw.find(value).unwrap_or(0)
            };
            let wanted = optional.iter().position(|known| known == name);
            if !value.contains(['{', '}']) && wanted.is_none() {
                continue;
            }
            let line = self.line(from + at);
            let text = unescape(value).map_err(|error| malformed(line, error))?;
            let place = Placeholder::new(&text, line)?;
            let quote = &raw[at - 1..at];
            let begins = raw[taken..at]
                .rfind(name)
                .map_or(taken, |found| taken + found);
            let begins = raw[..begins].trim_end().len().max(taken);
            if let Some(wanted) = wanted {
                optional.remove(wanted);
                self.literal(&raw[taken..begins]);
                self.push(Piece::Optional(vec![
                    Piece::Literal(raw[begins..at].to_owned()),
                    Piece::Placeholder(place, Escape::Attribute),
                    Piece::Literal(quote.to_owned()),
                ]));
            } else {
                self.literal(&raw[taken..at]);
                self.push(Piece::Placeholder(place, Escape::Attribute));
                self.literal(quote);
            }
            taken = at + value.len() + 1;
        }
        if let Some(name) = optional.first() {
            let what = format!("the element has no attribute '{name}'");
            return Err((self.line(from), ShapeProblem::Mark(what)));
        }
        self.literal(&raw[taken..]);
        Ok(())
    }

    /// An element ends; so does its part, if it has one.
    fn close(&mut self) -> Result<(), Wrong> {
        let Some(open) = self.open.last_mut() else {
            return Ok(());
        };
        open.depth = open.depth.saturating_sub(1);
        if open.depth > 0 || self.open.len() == 1 {
            return Ok(());
        }
        let Some(Open {
            mut pieces,
            mut marks,
            ..
        }) = self.open.pop()
        else {
            return Ok(());
        };
        if marks.optional {
            pieces = vec![Piece::Optional(pieces)];
        }
        // Each record has a choice of its own, so that 'else' does not look beyond one.
        let follows = marks.each.is_none() && self.follows_condition();
        let pieces = match marks.when(pieces, follows)? {
            Ok(when) => vec![Piece::When(when)],
            Err(pieces) => pieces,
        };
        match marks.each {
            Some((over, line)) => self.push(Piece::Each(Each {
                over,
                line,
                body: pieces,
            })),
            None => pieces.into_iter().for_each(|piece| self.push(piece)),
        }
        Ok(())
    }

    /// Whether the part before is one with a condition, but for white space and comments.
    fn follows_condition(&self) -> bool {
        let pieces = self.open.last().map(|open| open.pieces.as_slice());
        let mut before = pieces.unwrap_or_default().iter().rev();
        let found = before.find(|piece| !matches!(piece, Piece::Literal(text) if is_aside(text)));
        matches!(found, Some(Piece::When(_)))
    }
}

/// Whether a text is nothing but white space and comments.
fn is_aside(text: &str) -> bool {
    let rest = text.trim();
    let inside = rest
        .strip_prefix("<!--")
        .and_then(|rest| rest.strip_suffix("-->"));
    rest.is_empty() || inside.is_some_and(|inside| !inside.contains("-->"))
}
