//! Columns that are the occurrences of one name in a record: `SVC02` and `SVC[2]02` of messages,
//! `650$a` and `650[2]$a` of bibliographic records.

/// How a format names the occurrences of segments or fields, and of the values in them: by numbers in
/// brackets after each, of which the first is not written.
///
/// ```
/// use numerant_data::tree::Occurrences;
///
/// let fields = Occurrences::new(|name| name.find('$').unwrap_or(name.len()));
/// let second = fields.of("650[2]$a");
/// assert_eq!((second.value.as_str(), second.group.as_str()), ("650$a", "650"));
/// assert!(fields.of("650$a").includes(&second));
/// ```
#[derive(Clone, Copy, Debug)]
pub struct Occurrences {
    group_end: fn(&str) -> usize,
}

/// A column as one occurrence of a value.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Occurrence {
    /// The name of the value without numbers.
    pub value: String,
    /// The name of the segment or field that it is in, without numbers.
    pub group: String,
    /// The numbers of the segment or field above 1.
    pub of_group: Vec<u32>,
    /// The numbers of the value in it above 1.
    pub of_value: Vec<u32>,
}

impl Occurrences {
    /// `group_end` returns where the name of the segment or field ends in a name without numbers, in
    /// bytes.
    pub fn new(group_end: fn(&str) -> usize) -> Self {
        Self { group_end }
    }

    /// The occurrence that a column is.
    pub fn of(self, column: &str) -> Occurrence {
        let mut value = String::new();
        // Each number, and where it is in the name without numbers.
        let mut numbers: Vec<(usize, u32)> = Vec::new();
        let mut rest = column;
        while let Some((before, (inside, behind))) = rest
            .split_once('[')
            .and_then(|(before, rest)| Some((before, rest.split_once(']')?)))
        {
            value.push_str(before);
            match inside.parse::<u32>() {
                Ok(number) if number > 1 => numbers.push((value.len(), number)),
                _ => value.push_str(&format!("[{inside}]")),
            }
            rest = behind;
        }
        value.push_str(rest);
        let end = (self.group_end)(&value);
        let end = if value.is_char_boundary(end) { end } else { 0 };
        let of = |is_group: bool| -> Vec<u32> {
            let fits = numbers.iter().filter(|(at, _)| (*at <= end) == is_group);
            fits.map(|(_, number)| *number).collect()
        };
        Occurrence {
            group: value[..end].to_owned(),
            of_group: of(true),
            of_value: of(false),
            value,
        }
    }
}

impl Occurrence {
    /// Whether another column is one of the occurrences that this name represents: all, where it has no
    /// numbers.
    pub fn includes(&self, other: &Self) -> bool {
        let fits = |own: &[u32], other: &[u32]| own.is_empty() || own == other;
        self.value == other.value
            && fits(&self.of_group, &other.of_group)
            && fits(&self.of_value, &other.of_value)
    }
}
