//! What a field of a sheet or document is, besides its bytes.

/// What stands beside the bytes of a field of a source whose values have types or several kinds of
/// blank. Fields of delimited text have none.
///
/// ```
/// use numerant_data::record::{Blank, Tag};
///
/// assert!(Tag::TEXT.is_text());
/// assert_eq!(Tag::blank(Blank::Hollow(2)).as_blank(), Blank::Hollow(2));
/// assert_eq!(Tag::PLAIN.as_blank(), Blank::Absent);
/// ```
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct Tag(u16);

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
    Hollow(usize),
}

impl Tag {
    /// A value that is what its bytes look like; a field without bytes is not there.
    pub const PLAIN: Self = Self(0);

    /// A text, whatever it looks like.
    pub const TEXT: Self = Self(1);

    /// A text of a format that has no dates: it may be one, and is no number and no truth value.
    pub const STRING: Self = Self(2);

    const EMPTY: u16 = 3;
    const NULL: u16 = 4;
    /// A container right here is empty; one level further up for each that is added.
    const HOLLOW: u16 = 5;

    /// The tag of a field without bytes.
    #[inline]
    pub fn blank(blank: Blank) -> Self {
        Self(match blank {
            Blank::Absent => Self::PLAIN.0,
            Blank::Empty => Self::EMPTY,
            Blank::Null => Self::NULL,
            Blank::Hollow(levels) => {
                let levels = u16::try_from(levels).unwrap_or(u16::MAX);
                Self::HOLLOW.saturating_add(levels)
            }
        })
    }

    /// Whether the field is a text, whatever it looks like.
    #[inline]
    pub fn is_text(self) -> bool {
        self == Self::TEXT
    }

    /// Whether the field is a text, which may be a date where its format has none.
    #[inline]
    pub fn is_string(self) -> bool {
        self == Self::TEXT || self == Self::STRING
    }

    /// The kind of blank that a field without bytes is.
    #[inline]
    pub fn as_blank(self) -> Blank {
        match self.0 {
            0..=2 => Blank::Absent,
            Self::EMPTY => Blank::Empty,
            Self::NULL => Blank::Null,
            hollow => Blank::Hollow(usize::from(hollow - Self::HOLLOW)),
        }
    }

    /// The two bytes that it is kept as on a disk.
    #[inline]
    pub fn to_bytes(self) -> [u8; 2] {
        self.0.to_le_bytes()
    }

    /// The tag that was kept as these bytes.
    #[inline]
    pub fn from_bytes(bytes: [u8; 2]) -> Self {
        Self(u16::from_le_bytes(bytes))
    }
}
