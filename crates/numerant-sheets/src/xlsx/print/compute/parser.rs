//! Reads formulas, and computes them on the way.

use super::operators::operate;
use super::{Computation, Computed, Content, MAX_DEPTH, Operand};
use crate::xlsx::cell_reference::{Anchored, Area, ROWS};

/// Cells of a range that are looked at.
const MAX_CELLS: u64 = 20_000_000;

/// Reads a formula and computes it on the way.
pub(super) struct Parser<'f, 'c> {
    pub(super) rest: &'f str,
    pub(super) depth: usize,
    pub(super) sheet: usize,
    pub(super) all: &'f Computation<'c>,
}

impl Parser<'_, '_> {
    pub(super) fn whole(&mut self) -> Computed<Content> {
        let operand = self.expression(0)?;
        self.skip_blanks();
        if !self.rest.is_empty() {
            return Err(format!("'{}' in it is not understood", self.rest));
        }
        match self.single(operand)? {
            // A formula that leads to a blank cell shows 0.
            Content::Blank => Ok(Content::Number(0.0)),
            value => Ok(value),
        }
    }

    fn skip_blanks(&mut self) {
        self.rest = self.rest.trim_start();
    }

    fn takes(&mut self, text: &str) -> bool {
        self.skip_blanks();
        match self.rest.strip_prefix(text) {
            Some(rest) => {
                self.rest = rest;
                true
            }
            None => false,
        }
    }

    /// An expression of operators that bind as strongly as `least`, or more.
    pub(super) fn expression(&mut self, least: u8) -> Computed<Operand> {
        self.depth += 1;
        if self.depth > MAX_DEPTH {
            return Err("it is nested too deeply".to_owned());
        }
        let mut left = self.unary()?;
        loop {
            self.skip_blanks();
            let operators = [
                ("<=", 1),
                (">=", 1),
                ("<>", 1),
                ("=", 1),
                ("<", 1),
                (">", 1),
                ("&", 2),
                ("+", 3),
                ("-", 3),
                ("*", 4),
                ("/", 4),
                ("^", 5),
            ];
            let found = operators
                .iter()
                .find(|(sign, _)| self.rest.starts_with(sign));
            let Some((sign, strength)) = found.filter(|(_, strength)| *strength >= least.max(1))
            else {
                break;
            };
            self.rest = &self.rest[sign.len()..];
            let right = self.expression(strength + 1)?;
            let (one, other) = (self.single(left)?, self.single(right)?);
            left = Operand::Value(operate(sign, one, other));
        }
        self.depth -= 1;
        Ok(left)
    }

    fn unary(&mut self) -> Computed<Operand> {
        self.depth += 1;
        let operand = self.signed();
        self.depth -= 1;
        operand
    }

    /// An operand with the signs before it and the percent signs after it.
    fn signed(&mut self) -> Computed<Operand> {
        if self.depth > MAX_DEPTH {
            return Err("it is nested too deeply".to_owned());
        }
        if self.takes("-") {
            let operand = self.unary()?;
            let value = self.single(operand)?;
            return Ok(Operand::Value(operate("*", Content::Number(-1.0), value)));
        }
        if self.takes("+") {
            return self.unary();
        }
        let mut operand = self.primary()?;
        while self.takes("%") {
            let value = self.single(operand)?;
            operand = Operand::Value(operate("/", value, Content::Number(100.0)));
        }
        Ok(operand)
    }

    fn primary(&mut self) -> Computed<Operand> {
        self.skip_blanks();
        let rest = self.rest;
        let Some(first) = rest.chars().next() else {
            return Err("it ends too early".to_owned());
        };
        if self.takes("(") {
            let operand = self.expression(0)?;
            return if self.takes(")") {
                Ok(operand)
            } else {
                Err("a ')' is missing".to_owned())
            };
        }
        if first == '"' {
            let mut text = String::new();
            let mut signs = rest[1..].char_indices().peekable();
            while let Some((at, sign)) = signs.next() {
                if sign != '"' {
                    text.push(sign);
                } else if signs.next_if(|(_, next)| *next == '"').is_some() {
                    text.push('"');
                } else {
                    self.rest = &rest[at + 2..];
                    return Ok(Operand::Value(Content::Text(text)));
                }
            }
            return Err("a text in it does not end".to_owned());
        }
        if first.is_ascii_digit() || first == '.' {
            // Whole rows, such as 1:3, are ranges too.
            let digits = rest
                .find(|sign: char| !sign.is_ascii_digit())
                .unwrap_or(rest.len());
            if !rest[digits..].starts_with(':') {
                return self.number();
            }
        }
        if first == '#' {
            let errors = [
                "#DIV/0!", "#N/A", "#NAME?", "#NULL!", "#NUM!", "#REF!", "#VALUE!",
            ];
            if let Some(error) = errors.into_iter().find(|error| rest.starts_with(error)) {
                self.rest = &rest[error.len()..];
                return Ok(Operand::Value(Content::Error(error.to_owned())));
            }
        }
        self.word()
    }

    fn number(&mut self) -> Computed<Operand> {
        let bytes = self.rest.as_bytes();
        let mut end = 0;
        while end < bytes.len() && (bytes[end].is_ascii_digit() || bytes[end] == b'.') {
            end += 1;
        }
        if end < bytes.len() && bytes[end].eq_ignore_ascii_case(&b'e') {
            let sign = usize::from(matches!(bytes.get(end + 1), Some(b'+' | b'-')));
            if bytes.get(end + 1 + sign).is_some_and(u8::is_ascii_digit) {
                end += 1 + sign;
                while end < bytes.len() && bytes[end].is_ascii_digit() {
                    end += 1;
                }
            }
        }
        let (digits, rest) = self.rest.split_at(end);
        self.rest = rest;
        let number = digits
            .parse()
            .map_err(|_| format!("'{digits}' in it is not a number"))?;
        Ok(Operand::Value(Content::Number(number)))
    }

    /// A function, a name or a reference.
    fn word(&mut self) -> Computed<Operand> {
        let mut sheet = self.sheet;
        if self.rest.starts_with('\'') {
            let Some(end) = self.rest.find("'!") else {
                return Err("a name in it does not end".to_owned());
            };
            let name = self.rest[1..end].replace("''", "'");
            self.rest = &self.rest[end + 2..];
            sheet = self.sheet_of(&name)?;
        }
        let mut word = self.take_word();
        if self.rest.starts_with('!') {
            self.rest = &self.rest[1..];
            sheet = self.sheet_of(&word)?;
            word = self.take_word();
        }
        if word.is_empty() {
            return Err(format!("'{}' in it is not understood", self.rest));
        }
        if self.takes("(") {
            return self.function(&word);
        }
        if self.rest.starts_with('[') {
            return Err("columns of tables are not computed here".to_owned());
        }
        match word.to_uppercase().as_str() {
            "TRUE" => return Ok(Operand::Value(Content::Truth(true))),
            "FALSE" => return Ok(Operand::Value(Content::Truth(false))),
            _ => {}
        }
        if self.rest.starts_with(':') {
            self.rest = &self.rest[1..];
            let other = self.take_word();
            let area = range(&word, &other)
                .ok_or_else(|| format!("'{word}:{other}' in it is not a range"))?;
            return Ok(Operand::Range(sheet, area));
        }
        if let Some(anchored) = Anchored::parse(&word) {
            let area = Area {
                first: anchored.place,
                last: anchored.place,
            };
            return Ok(Operand::Range(sheet, area));
        }
        let Some(text) = self.all.names.text(&word, sheet) else {
            return Err(format!("the name '{word}' in it is not known"));
        };
        let mut inner = Parser {
            rest: text,
            depth: self.depth + 1,
            sheet,
            all: self.all,
        };
        inner.expression(0)
    }

    fn take_word(&mut self) -> String {
        let is_part = |sign: char| sign.is_alphanumeric() || "_.$\\?".contains(sign);
        let end = self
            .rest
            .find(|sign: char| !is_part(sign))
            .unwrap_or(self.rest.len());
        let (word, rest) = self.rest.split_at(end);
        self.rest = rest;
        word.to_owned()
    }

    fn sheet_of(&self, name: &str) -> Computed<usize> {
        let place = self
            .all
            .sheets
            .iter()
            .position(|(known, _)| known.eq_ignore_ascii_case(name));
        place.ok_or_else(|| format!("the sheet '{name}' is not there"))
    }

    fn function(&mut self, name: &str) -> Computed<Operand> {
        let mut arguments = Vec::new();
        if !self.takes(")") {
            loop {
                self.skip_blanks();
                arguments.push(if self.rest.starts_with([',', ')']) {
                    Operand::Missing
                } else {
                    self.expression(0)?
                });
                if self.takes(")") {
                    break;
                }
                if !self.takes(",") {
                    return Err(format!("'{}' in it is not understood", self.rest));
                }
            }
        }
        let upper = name.to_uppercase();
        let called = upper.trim_start_matches("_XLFN.");
        self.call(called, &arguments).map(Operand::Value)
    }
}

/// A range of cells, of whole columns or of whole rows.
fn range(one: &str, other: &str) -> Option<Area> {
    if let Some(area) = Area::parse(&format!("{one}:{other}")) {
        let height = u64::from(area.last.row - area.first.row) + 1;
        let width = u64::from(area.last.column - area.first.column) + 1;
        return (height * width <= MAX_CELLS).then_some(area);
    }
    // Whole columns, such as B:C.
    Area::parse(&format!("{one}1:{other}{ROWS}"))
}
