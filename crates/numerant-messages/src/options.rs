//! The options of messages: what becomes of counts and totals that do not agree.

use numerant_format::{FormatOption, OptionValues, Side, Takes};

const MISCOUNTED: FormatOption = FormatOption {
    name: "miscounted",
    side: Side::Reading,
    takes: Takes::Choice {
        of: &["correct", "keep", "refuse"],
        default: "correct",
    },
    value_name: "POLICY",
    help: "Counts and control numbers of messages that do not agree: correct reports and corrects them, keep reports \
           them and leaves them in messages that are copied whole, refuse ends the run",
    check: |_| Ok(()),
};

const BALANCE: FormatOption = FormatOption {
    name: "balance",
    side: Side::Writing,
    takes: Takes::Choice {
        of: &["refuse", "recompute", "keep"],
        default: "refuse",
    },
    value_name: "POLICY",
    help: "Total of a message of which only some records are written: refuse ends the run, recompute writes their sum \
           and removes adjustments, keep copies both unchanged",
    check: |_| Ok(()),
};

/// The options of X12 and UN/EDIFACT.
pub(crate) static OPTIONS: [FormatOption; 2] = [MISCOUNTED, BALANCE];

/// What becomes of totals where only some records of a message are taken.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) enum Balance {
    /// The run is refused.
    #[default]
    Refuse,
    /// The total becomes the sum of the records, and adjustments of the message are left out.
    Recompute,
    /// Total and adjustments stay as they are.
    Keep,
}

impl Balance {
    pub(crate) fn of(values: &OptionValues) -> Self {
        match values.get(BALANCE.name) {
            Some("recompute") => Self::Recompute,
            Some("keep") => Self::Keep,
            _ => Self::Refuse,
        }
    }
}

/// What becomes of counts and control numbers of envelopes that do not agree with what they close.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) enum Miscounted {
    /// They are reported, and corrected in the output.
    #[default]
    Correct,
    /// They are reported, and copied where everything that they close is taken.
    Keep,
    /// The run is refused.
    Refuse,
}

impl Miscounted {
    pub(crate) fn of(values: &OptionValues) -> Self {
        match values.get(MISCOUNTED.name) {
            Some("keep") => Self::Keep,
            Some("refuse") => Self::Refuse,
            _ => Self::Correct,
        }
    }
}
