//! What a field of a sheet or document is, besides its bytes.

/// What stands next to the bytes of a field of a source whose values have types or several kinds of
/// blank. Fields of delimited text have none.
///
/// ```
/// use numerant_data::record::{Blank, Tag};
///
/// assert!(Tag::TEXT.is_text());
/// assert_eq!(Tag::blank(Blank::EmptyContainer(2)).as_blank(), Blank::EmptyContainer(2));
/// assert_eq!(Tag::PLAIN.as_blank(), Blank::Absent);
/// ```
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct Tag {
    kind: u16,
    /// The number format of a cell, by its place in the table of its source from 1.
    number_format: u16,
}

/// A kind of blank, in the records of documents.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Blank {
    /// The field is not there.
    Absent,
    /// A text of no characters.
    Empty,
    /// A null.
    Null,
    /// A container so many levels above the field has nothing in it.
    EmptyContainer(usize),
}

impl Tag {
    /// A value that is what its bytes look like; a field without bytes is not there.
    pub const PLAIN: Self = Self::of_kind(0);

    /// A text, whatever it looks like.
    pub const TEXT: Self = Self::of_kind(1);

    /// A text of a format that has no dates: it may be one, and is no number and no truth value.
    pub const STRING: Self = Self::of_kind(2);

    const EMPTY: u16 = 3;
    const NULL: u16 = 4;
    /// A container right here is empty; one level further up for each that is added.
    const EMPTY_CONTAINER: u16 = 5;

    const fn of_kind(kind: u16) -> Self {
        Self {
            kind,
            number_format: 0,
        }
    }

    /// The tag of a value under a number format, by the place of that in the table of its source from 1;
    /// 0 for none.
    #[inline]
    pub fn formatted(number_format: u16) -> Self {
        Self {
            kind: 0,
            number_format,
        }
    }

    /// The tag of a text under a number format, as [`Tag::formatted`] has it.
    #[inline]
    pub fn text(number_format: u16) -> Self {
        Self {
            kind: Self::TEXT.kind,
            number_format,
        }
    }

    /// The number format that a value stands under, as [`Tag::formatted`] has it.
    #[inline]
    pub fn number_format(self) -> u16 {
        self.number_format
    }

    /// The tag of a field without bytes.
    #[inline]
    pub fn blank(blank: Blank) -> Self {
        Self::of_kind(match blank {
            Blank::Absent => Self::PLAIN.kind,
            Blank::Empty => Self::EMPTY,
            Blank::Null => Self::NULL,
            Blank::EmptyContainer(levels) => {
                let levels = u16::try_from(levels).unwrap_or(u16::MAX);
                Self::EMPTY_CONTAINER.saturating_add(levels)
            }
        })
    }

    /// Whether the field is a text, whatever it looks like.
    #[inline]
    pub fn is_text(self) -> bool {
        self.kind == Self::TEXT.kind
    }

    /// Whether the field is a text, which may be a date where its format has none.
    #[inline]
    pub fn is_string(self) -> bool {
        self.kind == Self::TEXT.kind || self.kind == Self::STRING.kind
    }

    /// The kind of blank that a field without bytes is.
    #[inline]
    pub fn as_blank(self) -> Blank {
        match self.kind {
            0..=2 => Blank::Absent,
            Self::EMPTY => Blank::Empty,
            Self::NULL => Blank::Null,
            empty_container => {
                Blank::EmptyContainer(usize::from(empty_container - Self::EMPTY_CONTAINER))
            }
        }
    }

    /// The four bytes that it is kept as on a disk.
    #[inline]
    pub fn to_bytes(self) -> [u8; 4] {
        let [low, high] = self.kind.to_le_bytes();
        let [format, formats] = self.number_format.to_le_bytes();
        [low, high, format, formats]
    }

    /// The tag that was kept as these bytes.
    #[inline]
    pub fn from_bytes([low, high, format, formats]: [u8; 4]) -> Self {
        Self {
            kind: u16::from_le_bytes([low, high]),
            number_format: u16::from_le_bytes([format, formats]),
        }
    }
}
