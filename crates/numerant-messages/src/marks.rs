//! The two standards, and the marks that divide what is written in them.

/// Which of the two it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Standard {
    /// ASC X12.
    X12,
    /// UN/EDIFACT, ISO 9735.
    Edifact,
}

impl Standard {
    /// What it is called.
    pub const fn name(self) -> &'static str {
        match self {
            Self::X12 => "X12",
            Self::Edifact => "UN/EDIFACT",
        }
    }

    /// The segments that open and close an interchange, a group and a message.
    pub(super) fn envelope(self) -> [(&'static str, &'static str); 3] {
        match self {
            Self::X12 => [("ISA", "IEA"), ("GS", "GE"), ("ST", "SE")],
            Self::Edifact => [("UNB", "UNZ"), ("UNG", "UNE"), ("UNH", "UNT")],
        }
    }

    /// The elements of the segments that open those in which their control numbers are.
    pub(super) fn control_of_interchange(self) -> usize {
        match self {
            Self::X12 => 13,
            Self::Edifact => 5,
        }
    }

    pub(super) fn control_of_group(self) -> usize {
        match self {
            Self::X12 => 6,
            Self::Edifact => 5,
        }
    }

    pub(super) fn control_of_message(self) -> usize {
        match self {
            Self::X12 => 2,
            Self::Edifact => 1,
        }
    }
}

/// The marks that divide an interchange.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Marks {
    pub(super) standard: Standard,
    pub(super) element: u8,
    pub(super) component: u8,
    pub(super) repetition: Option<u8>,
    pub(super) segment: u8,
    pub(super) release: Option<u8>,
    /// The decimal mark besides the point.
    pub(super) decimal: u8,
}

/// The marks of EDIFACT where no UNA says otherwise.
pub(super) const EDIFACT: Marks = Marks {
    standard: Standard::Edifact,
    element: b'+',
    component: b':',
    repetition: None,
    segment: b'\'',
    release: Some(b'?'),
    decimal: b'.',
};

/// Bytes of ISA, whose elements have fixed lengths, and of UNA.
pub(super) const ISA: usize = 106;
pub(super) const UNA: usize = 9;

impl Marks {
    /// The marks that an interchange begins with, if it begins here.
    pub(super) fn found(start: &[u8]) -> Option<Self> {
        if is_named(start, b"ISA") && start.len() >= ISA && !start[3].is_ascii_alphanumeric() {
            let repetition = start[82];
            let divides = !repetition.is_ascii_alphanumeric() && repetition != b' ';
            return Some(Self {
                standard: Standard::X12,
                element: start[3],
                component: start[104],
                repetition: divides.then_some(repetition),
                segment: start[105],
                release: None,
                decimal: b'.',
            });
        }
        if is_named(start, b"UNA") && start.len() >= UNA {
            let sign = |place: usize| (start[place] != b' ').then_some(start[place]);
            return Some(Self {
                standard: Standard::Edifact,
                component: start[3],
                element: start[4],
                decimal: start[5],
                release: sign(6),
                repetition: sign(7),
                segment: start[8],
            });
        }
        (is_named(start, b"UNB") && start.get(3) == Some(&b'+')).then_some(EDIFACT)
    }

    /// Whether more than elements and components is to be distinguished in a segment.
    pub(super) fn needs_care(&self, inside: &[u8]) -> bool {
        let holds = |mark: u8| memchr::memchr(mark, inside).is_some();
        self.release.is_some_and(holds)
            || self.repetition.is_some_and(holds)
            || is_named(inside, b"ISA")
    }
}

/// Whether a segment has a name of three letters, which some write small.
pub(super) fn is_named(raw: &[u8], name: &[u8; 3]) -> bool {
    raw.get(..3)
        .is_some_and(|start| start.eq_ignore_ascii_case(name))
}
