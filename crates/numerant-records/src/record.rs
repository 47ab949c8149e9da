//! A bibliographic record (ISO 2709, MARC 21): a leader, and fields with indicators and subfields.

use std::borrow::Cow;

use super::charset::Charset;
use numerant_data::encoding::Encoding;

/// Ends a record, a field, and begins a subfield.
pub(super) const RECORD_END: u8 = 0x1d;
const FIELD_END: u8 = 0x1e;
const SUBFIELD: u8 = 0x1f;

/// Begins a change of the set of characters (ISO 2022).
const ESCAPE: u8 = 0x1b;

const LEADER: usize = 24;

/// Bytes that a field, and a record, may have.
const LONGEST_FIELD: usize = 9_999;
const LONGEST_RECORD: usize = 99_999;

/// The namespace of MARCXML.
pub(crate) const SLIM: &str = "http://www.loc.gov/MARC21/slim";

/// A record.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Record<'r> {
    pub(super) leader: Cow<'r, str>,
    pub(super) fields: Vec<Field<'r>>,
}

/// A field: of one text, or with indicators and subfields.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Field<'r> {
    pub(super) tag: Cow<'r, str>,
    pub(super) content: Content<'r>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Content<'r> {
    Control(Cow<'r, str>),
    Data {
        indicators: [char; 2],
        subfields: Vec<(char, Cow<'r, str>)>,
    },
}

/// A record that is not as it should be.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub(super) enum RecordError {
    /// It is too short for a leader.
    #[error("it has {0} bytes, and the leader alone has 24")]
    Short(usize),
    /// A number in the leader or the directory is none.
    #[error("{0} is not a number: {1:?}")]
    Number(String, String),
    /// The leader says another length.
    #[error("the leader states {said} bytes, and the record has {found}")]
    Length {
        /// What it says.
        said: usize,
        /// Bytes up to the mark that ends it.
        found: usize,
    },
    /// The directory does not end where the fields begin.
    #[error("the directory is broken: {0}")]
    Directory(String),
    /// A field lies outside of the record.
    #[error("field {0} lies outside of the record")]
    Outside(String),
    /// A field without the mark that ends it.
    #[error("field {0} has no mark at its end")]
    Unclosed(String),
    /// A subfield without a code.
    #[error("field {0} has a subfield delimiter without a code")]
    NoCode(String),
    /// Text that belongs to no subfield.
    #[error("field {0} has text before its first subfield")]
    Astray(String),
    /// A text that cannot be read in its encoding.
    #[error("field {tag}: {reason}")]
    Text {
        /// The field.
        tag: String,
        /// Why.
        reason: String,
    },
    /// A character that XML cannot hold.
    #[error("{0} has U+{1:04X}, which XML cannot hold")]
    Character(String, u32),
    /// The form has no room for it.
    #[error("{what} has {bytes} bytes, and ISO 2709 has room for {most}")]
    TooLong {
        /// The field or the record.
        what: String,
        /// Bytes that it has.
        bytes: usize,
        /// Bytes that it may have.
        most: usize,
    },
    /// XML that is no record of MARCXML.
    #[error("it is not a record of MARCXML: {0}")]
    Xml(String),
}

fn number(bytes: &[u8], what: impl Fn() -> String) -> Result<usize, RecordError> {
    let wrong = || RecordError::Number(what(), String::from_utf8_lossy(bytes).into_owned());
    // As many digits as always fit.
    if bytes.is_empty() || bytes.len() > 9 || !bytes.iter().all(u8::is_ascii_digit) {
        return Err(wrong());
    }
    let digit = |number: usize, digit: &u8| number * 10 + usize::from(digit - b'0');
    Ok(bytes.iter().fold(0, digit))
}

/// A record whose directory is read, and whose fields are decoded as they are asked for.
#[derive(Debug)]
pub(super) struct RawRecord<'r> {
    bytes: &'r [u8],
    base: usize,
    entries: Vec<Entry<'r>>,
}

/// A field as the directory has it.
#[derive(Debug)]
struct Entry<'r> {
    tag: Cow<'r, str>,
    /// Where its bytes begin in the record, and how many there are, the mark at the end among them.
    start: usize,
    length: usize,
}

/// Which fields of a record are decoded, and how.
#[derive(Clone, Copy)]
pub(super) struct Decoding<'d> {
    /// The encoding that is stated for all records.
    pub(super) encoding: Option<Encoding>,
    /// Whether a field of this tag is wanted; others are left out.
    pub(super) wanted: &'d dyn Fn(&str) -> bool,
    /// What cannot be decoded is replaced, and no error.
    pub(super) lossy: bool,
}

impl<'r> RawRecord<'r> {
    /// Reads the leader and the directory of a record, with the mark that ends it.
    pub(super) fn parse(bytes: &'r [u8]) -> Result<Self, RecordError> {
        if bytes.len() <= LEADER {
            return Err(RecordError::Short(bytes.len()));
        }
        let said = number(&bytes[..5], || "the length in the leader".to_owned())?;
        if said != bytes.len() {
            return Err(RecordError::Length {
                said,
                found: bytes.len(),
            });
        }
        let base = number(&bytes[12..17], || {
            "the place of the fields in the leader".to_owned()
        })?;
        let digit = |place: usize, usual: usize| match bytes[place] {
            digit @ b'0'..=b'9' => usize::from(digit - b'0'),
            _ => usual,
        };
        let (of_length, of_start, of_own) = (digit(20, 4), digit(21, 5), digit(22, 0));
        let entry = 3 + of_length + of_start + of_own;
        let broken = |what: &str| RecordError::Directory(what.to_owned());
        let ends = base <= bytes.len() && base > LEADER && bytes[base - 1] == FIELD_END;
        if !ends {
            return Err(broken("it does not end where the fields begin"));
        }
        let directory = &bytes[LEADER..base - 1];
        if !directory.len().is_multiple_of(entry) {
            return Err(broken(
                "its length is not a multiple of the length of an entry",
            ));
        }
        let mut entries = Vec::with_capacity(directory.len() / entry);
        for entry in directory.chunks_exact(entry) {
            let tag = String::from_utf8_lossy(&entry[..3]);
            let length = number(&entry[3..3 + of_length], || {
                format!("the length of field {tag}")
            })?;
            let start = &entry[3 + of_length..3 + of_length + of_start];
            let start = base + number(start, || format!("the place of field {tag}"))?;
            entries.push(Entry { tag, start, length });
        }
        Ok(Self {
            bytes,
            base,
            entries,
        })
    }

    /// Whether its fields reach to the mark that ends it.
    pub(super) fn is_filled(&self) -> bool {
        let ends = self.entries.iter().map(|entry| entry.start + entry.length);
        ends.max() == Some(self.bytes.len() - 1)
    }

    /// The bytes of a field, without the mark at its end.
    fn content(&self, entry: &Entry<'_>) -> Result<&'r [u8], RecordError> {
        let end = entry.start + entry.length;
        let content = self
            .bytes
            .get(entry.start..end)
            .filter(|_| end < self.bytes.len());
        let content = content.ok_or_else(|| RecordError::Outside(entry.tag.to_string()))?;
        let content = content.strip_suffix(&[FIELD_END]);
        content.ok_or_else(|| RecordError::Unclosed(entry.tag.to_string()))
    }

    /// Decodes the fields that are wanted, and says whether the record is in UTF-8 though its leader
    /// says MARC-8.
    pub(super) fn decode(&self, decoding: Decoding<'_>) -> Result<(Record<'r>, bool), RecordError> {
        let data = &self.bytes[self.base..];
        let is_plain = data.is_ascii() && memchr::memchr(ESCAPE, data).is_none();
        let charset = match (is_plain, decoding.encoding) {
            (true, _) => Charset::Ascii,
            (false, Some(encoding)) => Charset::Stated(encoding),
            (false, None) => self.charset(),
        };
        let mut fields = Vec::with_capacity(self.entries.len());
        for entry in &self.entries {
            if !(decoding.wanted)(&entry.tag) {
                continue;
            }
            let content = match self.content(entry) {
                Err(_) if decoding.lossy => continue,
                content => content?,
            };
            let parsed = match Content::parse(&entry.tag, content, charset) {
                Err(_) if decoding.lossy => {
                    Content::parse(&entry.tag, content, Charset::Lossy).unwrap_or_default()
                }
                parsed => parsed?,
            };
            fields.push(Field {
                tag: entry.tag.clone(),
                content: parsed,
            });
        }
        let record = Record {
            leader: String::from_utf8_lossy(&self.bytes[..LEADER]),
            fields,
        };
        Ok((record, charset == Charset::UnlabelledUtf8))
    }

    /// How the characters of the record are encoded: as its leader says in MARC 21, or field 100 $a in
    /// UNIMARC; but bytes beyond ASCII that are valid UTF-8 are that in any case.
    fn charset(&self) -> Charset {
        if self.bytes[9] == b'a' {
            return Charset::Utf8;
        }
        let is_unimarc = self.bytes[23] == b' ';
        let sets = || {
            let general = self.entries.iter().find(|entry| entry.tag == "100")?;
            let text = self
                .content(general)
                .ok()?
                .splitn(3, |byte| *byte == SUBFIELD);
            // Behind the code of the subfield, characters 26 to 29.
            text.into_iter().nth(1)?.get(27..31)
        };
        let sets = is_unimarc.then(sets).flatten().unwrap_or_default();
        let has = |set: &[u8]| sets.chunks(2).any(|known| known == set);
        if has(b"50") {
            return Charset::Utf8;
        }
        if simdutf8::basic::from_utf8(&self.bytes[self.base..]).is_ok()
            && !self.bytes[self.base..].contains(&ESCAPE)
        {
            return Charset::UnlabelledUtf8;
        }
        if has(b"03") {
            Charset::Iso5426
        } else {
            Charset::Marc8
        }
    }
}

impl<'r> Record<'r> {
    /// Reads all of a record, in the encoding that is stated or in its own.
    pub(super) fn parse(bytes: &'r [u8], encoding: Option<Encoding>) -> Result<Self, RecordError> {
        let decoding = Decoding {
            encoding,
            wanted: &|_| true,
            lossy: false,
        };
        let (record, _) = RawRecord::parse(bytes)?.decode(decoding)?;
        Ok(record)
    }

    /// Whether it is a record of UNIMARC, which says its encoding in field 100.
    fn is_unimarc(&self) -> bool {
        self.leader.chars().nth(23) == Some(' ')
    }

    /// The fields in Unicode: what they say of their encoding follows.
    pub(super) fn in_unicode(&self) -> Cow<'_, Self> {
        let mut record = Cow::Borrowed(self);
        if self.is_unimarc() {
            let fields = &mut record.to_mut().fields;
            let general = fields.iter_mut().find(|field| field.tag == "100");
            if let Some(Content::Data { subfields, .. }) = general.map(|field| &mut field.content)
                && let Some((_, text)) = subfields.first_mut()
                && text.is_ascii()
                && text.len() >= 30
            {
                let text = text.to_mut();
                text.replace_range(26..30, "50  ");
            }
        }
        record
    }

    /// The leader of the record in Unicode.
    pub(super) fn unicode_leader(&self) -> Cow<'_, str> {
        if self.is_unimarc() || self.leader.chars().nth(9) == Some('a') {
            return Cow::Borrowed(&self.leader);
        }
        let mut leader: Vec<char> = self.leader.chars().collect();
        if let Some(encoding) = leader.get_mut(9) {
            *encoding = 'a';
        }
        Cow::Owned(leader.into_iter().collect())
    }

    /// Appends the record in ISO 2709 and UTF-8, with the lengths that it then has.
    pub(super) fn write(&self, out: &mut Vec<u8>) -> Result<(), RecordError> {
        self.in_unicode().write_fields(out)
    }

    fn write_fields(&self, out: &mut Vec<u8>) -> Result<(), RecordError> {
        let mut directory = Vec::new();
        let mut data = Vec::new();
        for field in &self.fields {
            let start = data.len();
            match &field.content {
                Content::Control(text) => data.extend_from_slice(text.as_bytes()),
                Content::Data {
                    indicators,
                    subfields,
                } => {
                    let mut scratch = [0; 4];
                    for indicator in indicators {
                        data.extend_from_slice(indicator.encode_utf8(&mut scratch).as_bytes());
                    }
                    for (code, text) in subfields {
                        data.push(SUBFIELD);
                        data.extend_from_slice(code.encode_utf8(&mut scratch).as_bytes());
                        data.extend_from_slice(text.as_bytes());
                    }
                }
            }
            let marks = [RECORD_END, FIELD_END];
            if data[start..].iter().any(|byte| marks.contains(byte)) {
                return Err(RecordError::Text {
                    tag: field.tag.to_string(),
                    reason: "a text holds a mark that ends fields or records".to_owned(),
                });
            }
            data.push(FIELD_END);
            let length = data.len() - start;
            if length > LONGEST_FIELD {
                return Err(RecordError::TooLong {
                    what: format!("field {}", field.tag),
                    bytes: length,
                    most: LONGEST_FIELD,
                });
            }
            directory.extend_from_slice(format!("{}{length:04}{start:05}", field.tag).as_bytes());
        }
        directory.push(FIELD_END);
        let base = LEADER + directory.len();
        let length = base + data.len() + 1;
        if length > LONGEST_RECORD {
            return Err(RecordError::TooLong {
                what: "the record".to_owned(),
                bytes: length,
                most: LONGEST_RECORD,
            });
        }
        let leader: Vec<char> = self
            .unicode_leader()
            .chars()
            .chain(std::iter::repeat(' '))
            .take(LEADER)
            .collect();
        let part = |from: usize, to: usize| leader[from..to].iter().collect::<String>();
        let end = if self.is_unimarc() { "450 " } else { "4500" };
        let text = format!("{length:05}{}22{base:05}{}{end}", part(5, 10), part(17, 20));
        out.extend_from_slice(text.as_bytes());
        out.extend_from_slice(&directory);
        out.extend_from_slice(&data);
        out.push(RECORD_END);
        Ok(())
    }
}

impl Default for Content<'_> {
    fn default() -> Self {
        Self::Control(Cow::default())
    }
}

impl<'r> Content<'r> {
    fn parse(tag: &str, bytes: &'r [u8], charset: Charset) -> Result<Self, RecordError> {
        let text = |bytes: &'r [u8]| {
            charset.decode(bytes).map_err(|reason| RecordError::Text {
                tag: tag.to_owned(),
                reason,
            })
        };
        if tag.starts_with("00") {
            return Ok(Self::Control(text(bytes)?));
        }
        let mut pieces = bytes.split(|byte| *byte == SUBFIELD);
        let before = pieces.next().unwrap_or_default();
        if before.len() > 2 {
            return Err(RecordError::Astray(tag.to_owned()));
        }
        let mut indicators = [' '; 2];
        for (indicator, byte) in indicators.iter_mut().zip(before) {
            *indicator = char::from(*byte);
        }
        let mut subfields = Vec::new();
        for piece in pieces {
            let Some((code, value)) = piece.split_first() else {
                return Err(RecordError::NoCode(tag.to_owned()));
            };
            subfields.push((char::from(*code), text(value)?));
        }
        Ok(Self::Data {
            indicators,
            subfields,
        })
    }
}

#[cfg(test)]
pub(super) mod tests {
    use proptest::prelude::*;

    use super::*;
    use numerant_format::ControlCharacters;

    pub(crate) fn chart() -> Record<'static> {
        let data = |tag: &str, indicators: [char; 2], subfields: &[(char, &str)]| Field {
            tag: tag.to_owned().into(),
            content: Content::Data {
                indicators,
                subfields: subfields
                    .iter()
                    .map(|(code, text)| (*code, (*text).to_owned().into()))
                    .collect(),
            },
        };
        Record {
            leader: "00000nem a2200000 a 4500".into(),
            fields: vec![
                Field {
                    tag: "001".into(),
                    content: Content::Control("VH004".into()),
                },
                data(
                    "245",
                    ['1', '0'],
                    &[('a', "Skärvsund & <Eider>"), ('b', "Blatt 1")],
                ),
                data("650", [' ', '0'], &[('a', "Harbours"), ('z', "Varnholm")]),
                data("650", [' ', '0'], &[('a', "Fairways")]),
            ],
        }
    }

    #[test]
    fn records_come_back() {
        let mut bytes = Vec::new();
        chart().write(&mut bytes).expect("written");
        let read = Record::parse(&bytes, None).expect("read");
        assert_eq!(read.fields, chart().fields);
        let mut again = Vec::new();
        read.write(&mut again).expect("written");
        assert_eq!(again, bytes);
        let mut xml = Vec::new();
        read.write_xml(ControlCharacters::Refuse, &mut xml)
            .expect("written");
        let xml = String::from_utf8(xml).expect("text");
        assert!(
            xml.contains(
                "<datafield tag=\"650\" ind1=\" \" ind2=\"0\">\n      <subfield code=\"a\">Harbours"
            ),
            "{xml}"
        );
        assert!(xml.contains("Skärvsund &amp; &lt;Eider&gt;"), "{xml}");
    }

    #[test]
    fn what_is_broken_is_told() {
        let mut bytes = Vec::new();
        chart().write(&mut bytes).expect("written");
        let broken = |change: &dyn Fn(&mut Vec<u8>)| {
            let mut other = bytes.clone();
            change(&mut other);
            Record::parse(&other, None).expect_err("broken").to_string()
        };
        assert!(broken(&|b| b.truncate(20)).contains("the leader alone"));
        assert!(broken(&|b| b[0] = b'x').contains("is not a number"));
        assert!(broken(&|b| b[4] = b'9').contains("the leader states"));
        assert!(broken(&|b| b[16] = b'1').contains("directory"));
        assert!(broken(&|b| b[27] = b'9').contains("outside"));
        assert!(broken(&|b| b[30] = b'7').contains("no mark"));
        let at = bytes
            .iter()
            .position(|byte| *byte == SUBFIELD)
            .expect("a subfield");
        assert!(broken(&|b| b[at + 1] = SUBFIELD).contains("without a code"));
        assert!(broken(&|b| b[at + 2] = 0xff).contains("field 245"));
        assert!(broken(&|b| b[at] = b'x').contains("before its first subfield"));
        let mut long = chart();
        long.fields[0].content = Content::Control("x".repeat(10_000).into());
        assert!(
            long.write(&mut Vec::new())
                .expect_err("long")
                .to_string()
                .contains("field 001 has 10001")
        );
    }

    proptest! {
        #[test]
        fn any_record_is_the_same_after_a_round(texts in prop::collection::vec(("[0-9][1-9][0-9]", "[a-z0-9]", "[ -~æøåÉ]{0,40}"), 0..12)) {
            let mut record = chart();
            for (tag, code, text) in texts {
                record.fields.push(Field { tag: tag.into(), content: Content::Data {
                    indicators: [' ', '1'],
                    subfields: vec![(code.chars().next().unwrap_or('a'), text.into())],
                }});
            }
            let mut bytes = Vec::new();
            record.write(&mut bytes).expect("written");
            prop_assert_eq!(Record::parse(&bytes, None).expect("read").fields, record.fields);
        }
    }
}
