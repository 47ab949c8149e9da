//! Segments one after the other, as they are in a file.

use std::io::{self, Read};

use super::marks::{ISA, Marks, Standard, UNA, is_named};
use super::roles::Finder;
use super::segments::Segment;
use numerant_data::source::SharedFile;

/// Reads segments one after the other. They stay where they were read to, so that nothing is moved for one
/// that is only skipped.
pub(super) struct Segments<R> {
    input: R,
    buffer: Vec<u8>,
    /// Where the segment that was read last begins in the buffer, and where the next one does.
    from: usize,
    at: usize,
    /// Where what is held begins.
    held: Option<usize>,
    ended: bool,
    /// Bytes before the buffer.
    before: u64,
    pub(super) marks: Option<Marks>,
    /// The marks are those of the UNA that was read last.
    advised: bool,
    most: usize,
    /// Bytes that are read at a time.
    piece: usize,
    /// Segments so far.
    pub(super) count: u64,
    /// The file does not end in a segment whose terminator was added.
    pub(super) is_terminated: bool,
}

/// Why the next segment could not be read.
#[derive(Debug)]
pub(super) enum SegmentError {
    Io(io::Error),
    /// Something stands where an interchange should begin.
    NoInterchange,
    /// The file ends in a segment.
    Cut,
    /// A segment is longer than a record may be.
    TooLong,
    /// What is held is.
    TooMuch,
}

/// Bytes that are read at a time, if no more are held.
const PIECE: usize = 1 << 17;

impl<R: Read> Segments<R> {
    pub(super) fn new(input: R, most: usize) -> Self {
        Self {
            input,
            buffer: Vec::new(),
            from: 0,
            at: 0,
            held: None,
            ended: false,
            before: 0,
            marks: None,
            advised: false,
            most,
            piece: PIECE,
            count: 0,
            is_terminated: true,
        }
    }

    /// The segment that was read last, with its terminator and the line ends and blanks after it.
    #[inline]
    pub(super) fn raw(&self) -> &[u8] {
        &self.buffer[self.from..self.at]
    }

    /// Where it begins.
    #[inline]
    pub(super) fn offset(&self) -> u64 {
        self.before + self.from as u64
    }

    /// Where the next segment begins.
    #[inline]
    pub(super) fn end(&self) -> u64 {
        self.before + self.at as u64
    }

    /// Holds what follows, from the segment that was read last on.
    pub(super) fn hold(&mut self) {
        self.held = Some(self.from);
    }

    /// Where the segment that was read last is in what is held.
    #[inline]
    pub(super) fn place_in_held(&self) -> (usize, usize) {
        let held = self.held.unwrap_or(self.from);
        (self.from - held, self.at - held)
    }

    /// What is held, up to the segment that was read last or with it.
    pub(super) fn held(&self, with_last: bool) -> &[u8] {
        let to = if with_last { self.at } else { self.from };
        &self.buffer[self.held.unwrap_or(to)..to]
    }

    /// Holds nothing any longer.
    pub(super) fn release(&mut self) {
        self.held = None;
    }

    #[cold]
    fn more(&mut self) -> Result<(), SegmentError> {
        let keep = self.held.unwrap_or(self.from);
        self.buffer.drain(..keep);
        self.before += keep as u64;
        self.from -= keep;
        self.at -= keep;
        self.held = self.held.map(|_| 0);
        if self.buffer.len() > self.most {
            return Err(if self.buffer.len() - self.from > self.most {
                SegmentError::TooLong
            } else {
                SegmentError::TooMuch
            });
        }
        let wanted = self.piece.max(self.buffer.len());
        let read = (&mut self.input)
            .take(wanted as u64)
            .read_to_end(&mut self.buffer);
        self.ended = read.map_err(SegmentError::Io)? == 0;
        if self.ended {
            self.close_last();
        }
        Ok(())
    }

    /// Adds the terminator that is missing after the segment that closes an interchange, as some programs
    /// leave it out at the end of a file. Any other segment without one is cut off.
    fn close_last(&mut self) {
        let Some(marks) = self.marks else {
            return;
        };
        let length = self.buffer.trim_ascii_end().len();
        let text = &self.buffer[..length];
        let start = memchr::memrchr(marks.segment, text).map_or(0, |at| at + 1);
        let last = text[start..].trim_ascii_start();
        let end = match marks.standard {
            Standard::X12 => b"IEA",
            Standard::Edifact => b"UNZ",
        };
        if is_named(last, end) {
            self.buffer.truncate(length);
            self.buffer.push(marks.segment);
            self.is_terminated = false;
        }
    }

    /// Reads the next segment; `false` at the end. `opens` says that an interchange begins or ends here.
    #[inline]
    pub(super) fn next(&mut self, opens: bool) -> Result<bool, SegmentError> {
        self.from = self.at;
        let marks = match self.marks {
            Some(marks) if !opens && self.at < self.buffer.len() => marks,
            _ => match self.begin(opens)? {
                Some(marks) => marks,
                None => return Ok(false),
            },
        };
        let advice = opens && is_named(&self.buffer[self.at..], b"UNA");
        self.at += if advice {
            UNA.min(self.buffer.len() - self.at)
        } else {
            self.length(&marks)?
        };
        self.count += 1;
        self.take_blanks()?;
        Ok(true)
    }

    /// Reads the next segment of what is open; `false` if [`Segments::next`] has to.
    #[inline]
    pub(super) fn next_inside(&mut self, marks: &Marks) -> Result<bool, SegmentError> {
        if self.at == self.buffer.len() {
            return Ok(false);
        }
        self.from = self.at;
        self.at += self.length(marks)?;
        self.count += 1;
        self.take_blanks()?;
        Ok(true)
    }

    /// Passes over whole segments up to one that `finder` finds, or else as far as they are read; how many.
    #[inline]
    pub(super) fn skip(&mut self, finder: &Finder, marks: &Marks) -> u64 {
        let mut rest = &self.buffer[self.at..];
        if let Some(release) = marks.release {
            // What may be released is looked at one by one.
            let end = memchr::memchr(release, rest).unwrap_or(rest.len());
            rest = &rest[..end];
        }
        let mut from = 0;
        let end = loop {
            match finder.find(rest, from) {
                Some((start, _)) if begins_segment(rest, start, marks) => break start,
                Some((_, end)) => from = end,
                None => {
                    let last = memchr::memrchr(marks.segment, rest).map_or(0, |last| last + 1);
                    let behind = &self.buffer[self.at + last..];
                    let blank = behind.iter().take_while(|byte| byte.is_ascii_whitespace());
                    break last + if last > 0 { blank.count() } else { 0 };
                }
            }
        };
        let passed = &self.buffer[self.at..self.at + end];
        let count = memchr::memchr_iter(marks.segment, passed).count();
        self.at += end;
        self.from = self.at;
        self.count += count as u64;
        count as u64
    }

    /// Passes over blanks, and finds the marks where an interchange begins; nothing at the end.
    #[cold]
    fn begin(&mut self, opens: bool) -> Result<Option<Marks>, SegmentError> {
        self.take_blanks()?;
        self.from = self.at;
        while self.buffer.len() - self.at < ISA && !self.ended {
            self.more()?;
        }
        let start = &self.buffer[self.at..];
        if start.is_empty() {
            return Ok(None);
        }
        if (opens || self.marks.is_none())
            && let Some(marks) = Marks::found(start)
        {
            // UNA has said what divides the UNB after it.
            let said = self
                .marks
                .filter(|_| self.advised && is_named(start, b"UNB"));
            self.marks = Some(said.unwrap_or(marks));
            self.advised = is_named(start, b"UNA");
        }
        self.marks.map(Some).ok_or(SegmentError::NoInterchange)
    }

    /// Bytes of the segment that begins here, up to its terminator and with it.
    #[inline]
    fn length(&mut self, marks: &Marks) -> Result<usize, SegmentError> {
        let mut searched = 0;
        loop {
            let rest = self.buffer.get(self.at + searched..).unwrap_or_default();
            let found = match marks.release {
                None => memchr::memchr(marks.segment, rest),
                Some(release) => memchr::memchr2(marks.segment, release, rest),
            };
            match found {
                Some(place) if Some(rest[place]) == marks.release => searched += place + 2,
                Some(place) => return Ok(searched + place + 1),
                None if self.ended => return Err(SegmentError::Cut),
                None => {
                    // What is released may not be read yet.
                    searched = searched.max(self.buffer.len() - self.at);
                    self.more()?;
                }
            }
        }
    }

    /// Takes line ends and blanks, which belong to the segment before them.
    #[inline]
    fn take_blanks(&mut self) -> Result<(), SegmentError> {
        loop {
            let behind = &self.buffer[self.at..];
            let blank = behind.iter().take_while(|byte| byte.is_ascii_whitespace());
            self.at += blank.count();
            if self.at < self.buffer.len() || self.ended {
                return Ok(());
            }
            self.more()?;
        }
    }
}

/// Whether a segment begins at a place after others.
#[inline]
fn begins_segment(bytes: &[u8], place: usize, marks: &Marks) -> bool {
    let before = bytes[..place].trim_ascii_end();
    before.last().is_none_or(|last| *last == marks.segment)
}

/// The segment that opens the first message, and the standard that it follows.
pub(super) fn first_message<R: Read>(input: R, most: usize) -> Option<(Segment, Standard)> {
    let mut segments = Segments::new(input, most);
    let mut opens = true;
    while segments.next(opens).ok()? {
        let marks = segments.marks?;
        let segment = Segment::parse(segments.raw(), &marks);
        let [_, _, (message, _)] = marks.standard.envelope();
        if segment.id == message {
            return Some((segment, marks.standard));
        }
        opens = is_named(segments.raw(), b"UNA");
    }
    None
}

/// The segments in a piece of a file, verbatim.
pub(super) fn segments_in(bytes: &[u8], marks: Marks) -> io::Result<Vec<Vec<u8>>> {
    let mut segments = Segments::new(bytes, usize::MAX);
    segments.marks = Some(marks);
    let mut found = Vec::new();
    while segments.next(false).map_err(unreadable)? {
        found.push(segments.raw().to_vec());
    }
    Ok(found)
}

/// The segments that an interchange begins with, from there in a file, and its marks: UNA, if there is one, and
/// the one that opens it.
pub(super) fn opening_at(file: &SharedFile, from: u64) -> io::Result<(Vec<Vec<u8>>, Marks)> {
    let mut segments = Segments::new(read_from(file, from)?, usize::MAX);
    let mut found = Vec::new();
    while segments.next(true).map_err(unreadable)? {
        found.push(segments.raw().to_vec());
        if !is_named(segments.raw(), b"UNA") {
            break;
        }
    }
    let changed = || io::Error::other("the source has changed");
    Ok((found, segments.marks.ok_or_else(changed)?))
}

/// The segment that begins at a place of a file.
pub(super) fn segment_at(file: &SharedFile, from: u64, marks: Marks) -> io::Result<Vec<u8>> {
    let mut segments = Segments::new(read_from(file, from)?, usize::MAX);
    segments.marks = Some(marks);
    segments.next(false).map_err(unreadable)?;
    Ok(segments.raw().to_vec())
}

fn unreadable(error: SegmentError) -> io::Error {
    match error {
        SegmentError::Io(error) => error,
        _ => io::Error::other("the source has changed"),
    }
}

fn read_from(file: &SharedFile, from: u64) -> io::Result<impl Read + use<>> {
    use std::io::Seek;
    let mut file = file.again();
    file.seek(io::SeekFrom::Start(from))?;
    Ok(file)
}

/// Bytes of a file.
pub(super) fn bytes_at(file: &SharedFile, from: u64, to: u64) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    read_from(file, from)?
        .take(to.saturating_sub(from))
        .read_to_end(&mut bytes)?;
    Ok(bytes)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::layout::Layouts;
    use super::super::names::Names;
    use super::super::roles::Roles;
    use super::*;

    #[test]
    fn segments_are_the_same_however_they_are_cut() {
        let text = b"\nUNA:+,?*~\nUNB+UNOA:1+A+B~UNH+1+REMADV:D:96A~BGM+?~x??~\r\nUNT+3+1~UNZ+1+9~";
        let read = |piece: usize| {
            let mut segments = Segments::new(text.as_slice(), 1 << 20);
            segments.piece = piece;
            let mut all: Vec<String> = Vec::new();
            while segments.next(all.is_empty()).expect("read") {
                let offset = segments.offset() as usize;
                assert!(text[offset..].starts_with(segments.raw()));
                if all.len() == 1 {
                    segments.hold();
                }
                all.push(String::from_utf8(segments.raw().to_vec()).expect("text"));
            }
            let held = String::from_utf8(segments.held(false).to_vec()).expect("text");
            assert_eq!(held, all[1..].concat());
            all
        };
        let whole = read(PIECE);
        assert_eq!(
            whole,
            [
                "UNA:+,?*~\n",
                "UNB+UNOA:1+A+B~",
                "UNH+1+REMADV:D:96A~",
                "BGM+?~x??~\r\n",
                "UNT+3+1~",
                "UNZ+1+9~"
            ]
        );
        for piece in 1..text.len() {
            assert_eq!(read(piece), whole);
        }
        let mut cut = Segments::new(&text[..40], 1 << 20);
        assert!(cut.next(true).is_ok() && cut.next(false).is_ok());
        assert!(matches!(cut.next(false), Err(SegmentError::Cut)));
        let mut none = Segments::new(b"hello".as_slice(), 1 << 20);
        assert!(matches!(none.next(true), Err(SegmentError::NoInterchange)));
        let mut long = Segments::new(text.as_slice(), 8);
        assert!(matches!(long.next(true), Err(SegmentError::TooLong)));
    }
    proptest! {
        #[test]
        fn what_is_passed_over_is_counted_as_if_it_were_read(
            pieces in prop::collection::vec("(CLP|clp|SE|DTM|N1|LX|SEX|XSE|clP)(\\+[a-zA-Z0-9?:']{0,9}| ){0,4}'[ \r\n]{0,2}", 1..40),
            release in any::<bool>(),
            piece in 1_usize..60,
        ) {
            let mut start = b"UNA:+. *'".to_vec();
            start[6] = if release { b'?' } else { b' ' };
            let marks = Marks::found(&start).expect("marks");
            let text = pieces.concat();
            let layout = Layouts::read(&["name = 'x'\nstandard = 'edifact'\nmessage = 'X'\nrecord = 'CLP'".to_owned()]);
            let layouts = layout.expect("a layout");
            let layout = layouts.of(Standard::Edifact, "X");
            let names = Names::of(&["N104".to_owned()]);
            let finder = Finder::new(layout.map(AsRef::as_ref), &marks, &names).expect("a finder");
            let mut roles = Roles::default();
            let mut read = |finder: Option<&Finder>| {
                let mut segments = Segments::new(text.as_bytes(), usize::MAX);
                segments.marks = Some(marks);
                segments.piece = piece;
                let (mut count, mut found) = (0, Vec::new());
                loop {
                    if let Some(finder) = finder {
                        count += segments.skip(finder, &marks);
                    }
                    match segments.next(false) {
                        Ok(true) => count += 1,
                        end => return (count, found, end.is_ok()),
                    }
                    let raw = segments.raw();
                    let role = roles.of(raw, layout.map(AsRef::as_ref), &marks, &names);
                    if !role.plain || role.wanted {
                        found.push((count, segments.offset(), raw.to_vec()));
                        segments.hold();
                    }
                }
            };
            prop_assert_eq!(read(Some(&finder)), read(None));
        }
    }
}
