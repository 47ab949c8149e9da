//! The options that formats describe.

use numerant_format::{FormatOption, OptionValues, Side, Takes};

use crate::FORMATS;

/// All options that formats describe for a side, each once, in the order of the formats.
pub fn options(side: Side) -> Vec<&'static FormatOption> {
    let mut found: Vec<&'static FormatOption> = Vec::new();
    let all = FORMATS.iter().flat_map(|format| format.options());
    for option in all.filter(|option| option.side == side) {
        if !found.iter().any(|known| known.name == option.name) {
            found.push(option);
        }
    }
    found
}

/// The options that name a file, with their values changed by `change`.
pub fn change_files(values: &mut OptionValues, side: Side, change: &dyn Fn(&str) -> String) {
    for option in options(side) {
        if option.takes == Takes::File {
            values.change(option.name, change);
        }
    }
}

/// The files that options name.
pub fn files(values: &OptionValues, side: Side) -> Vec<String> {
    let named = options(side)
        .into_iter()
        .filter(|option| option.takes == Takes::File);
    let named = named.filter_map(|option| values.get(option.name));
    named.map(str::to_owned).collect()
}
