//! Files of messages that are read again, and what is kept of each record to find in them what stands around it.

use numerant_data::narrow::to_u32;
use std::collections::HashMap;
use std::fs::File;
use std::io::{self, BufReader, Read};
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use super::layout::Layouts;
use super::marks::Marks;
use super::stream::segment_at;
use crate::options::Miscounted;
use numerant_data::source::{SharedFile, SourcePath};
use numerant_data::value::Number;

/// A file of messages, to be read again.
#[derive(Debug)]
pub(super) struct Source {
    pub(super) path: SourcePath,
    /// What it is called in records.
    pub(super) name: Vec<u8>,
    /// Where it can be opened again, if it can.
    pub(super) again: Option<PathBuf>,
    pub(super) file: SharedFile,
    /// What is after the records of each message, as far as it is read.
    pub(super) tails: Mutex<Vec<Tail>>,
    pub(super) layouts: Layouts,
    /// Records are whole messages.
    pub(super) whole: bool,
    /// Bytes that a record may have.
    pub(super) most: usize,
    pub(super) miscounted: Miscounted,
    /// Messages without a layout are an error.
    pub(super) by_layout: bool,
    /// Where groups and interchanges end, by where they begin, if what closes them is to be kept.
    pub(super) ends: Mutex<HashMap<u64, End>>,
}

/// What closes a group or an interchange: where it is, and how many messages or groups are in that.
#[derive(Clone, Copy, Debug)]
pub(super) struct End {
    pub(super) offset: u64,
    pub(super) count: u64,
}

impl Source {
    /// What a file is called in records, so that it is found again from those of other sources.
    pub(super) fn name_of(again: Option<&Path>) -> Vec<u8> {
        let path = again.map(|path| path.to_string_lossy().into_owned());
        let path = path.unwrap_or_default();
        [&to_u32(path.len()).to_le_bytes(), path.as_bytes()].concat()
    }

    /// What closes a group or interchange in the file, if that is to be kept and so many as there are in it are
    /// taken.
    pub(super) fn kept_end(
        &self,
        from: Option<u64>,
        count: u64,
        marks: Marks,
    ) -> io::Result<Option<Vec<u8>>> {
        let ends = self.ends.lock();
        let end = ends
            .ok()
            .and_then(|ends| ends.get(&from?).copied())
            .filter(|end| end.count == count);
        end.map(|end| segment_at(&self.file, end.offset, marks))
            .transpose()
    }
}

/// What is after the records of a message, and how many these are.
#[derive(Clone, Copy, Debug)]
pub(super) struct Tail {
    pub(super) from: u64,
    pub(super) to: u64,
    pub(super) records: u64,
}

/// Where the parts around a record are in its file.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Frame {
    /// The number of the message in the file, from 0.
    pub(super) ordinal: u64,
    pub(super) interchange: u64,
    pub(super) group: Option<u64>,
    pub(super) message: u64,
    /// Where the first record or loop begins.
    pub(super) head_end: u64,
    /// What opens the loops around it, the outermost first: from and to.
    pub(super) loops: Vec<(u64, u64)>,
    /// The record is the whole message.
    pub(super) whole: bool,
    pub(super) segments: u64,
    /// What it adds to the total.
    pub(super) amount: Number,
}

/// Bytes of a frame.
const FRAME: usize = 7 * 8 + 16 + 4 + 1;

/// Bytes of what opens a loop.
const LOOP: u64 = 16;

impl Frame {
    pub(super) fn write(&self, out: &mut Vec<u8>) {
        let group = self.group.unwrap_or(u64::MAX);
        let numbers = [
            self.ordinal,
            self.interchange,
            group,
            self.message,
            self.head_end,
            self.segments,
            self.loops.len() as u64,
        ];
        let mut bytes = [0; FRAME];
        for (word, number) in bytes.chunks_exact_mut(8).zip(numbers) {
            word.copy_from_slice(&number.to_le_bytes());
        }
        bytes[56..72].copy_from_slice(&self.amount.units.to_le_bytes());
        bytes[72..76].copy_from_slice(&self.amount.scale.to_le_bytes());
        bytes[76] = u8::from(self.whole);
        out.extend_from_slice(&bytes);
        for (from, to) in &self.loops {
            out.extend_from_slice(&from.to_le_bytes());
            out.extend_from_slice(&to.to_le_bytes());
        }
    }

    /// Reads a frame, and says how many bytes it has.
    fn next(kept: &mut BufReader<File>) -> io::Result<(Self, u64)> {
        let mut bytes = [0; FRAME];
        kept.read_exact(&mut bytes)?;
        let (mut frame, loops) = Self::read(&bytes);
        for _ in 0..loops {
            let mut span = [[0; 8]; 2];
            kept.read_exact(span.as_flattened_mut())?;
            let [from, to] = span.map(u64::from_le_bytes);
            frame.loops.push((from, to));
        }
        Ok((frame, FRAME as u64 + loops * LOOP))
    }

    /// The frame without its loops, and how many there are.
    fn read(bytes: &[u8; FRAME]) -> (Self, u64) {
        let number = |place: usize| {
            let mut word = [0; 8];
            word.copy_from_slice(&bytes[place * 8..place * 8 + 8]);
            u64::from_le_bytes(word)
        };
        let known = |number: u64| (number != u64::MAX).then_some(number);
        let (mut units, mut scale) = ([0; 16], [0; 4]);
        units.copy_from_slice(&bytes[56..72]);
        scale.copy_from_slice(&bytes[72..76]);
        let frame = Self {
            ordinal: number(0),
            interchange: number(1),
            group: known(number(2)),
            message: number(3),
            head_end: number(4),
            loops: Vec::new(),
            segments: number(5),
            amount: Number {
                units: i128::from_le_bytes(units),
                scale: u32::from_le_bytes(scale),
            },
            whole: bytes[76] == 1,
        };
        (frame, number(6))
    }
}

/// The frame of the next record, the file that it is of, and the bytes of the record.
pub(super) fn next_frame(kept: &mut BufReader<File>) -> io::Result<Option<(Frame, PathBuf, u64)>> {
    let mut length = [0; 8];
    match kept.read_exact(&mut length) {
        Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(None),
        read => read?,
    }
    let (frame, of_frame) = Frame::next(kept)?;
    let mut named = [0; 4];
    kept.read_exact(&mut named)?;
    let named = u32::from_le_bytes(named);
    let mut path = vec![0; named as usize];
    kept.read_exact(&mut path)?;
    let path = PathBuf::from(String::from_utf8_lossy(&path).into_owned());
    let length = u64::from_le_bytes(length) - of_frame - 4 - u64::from(named);
    Ok(Some((frame, path, length)))
}
