//! Options that formats describe, made into options of the command line.

use clap::builder::{PossibleValuesParser, TypedValueParser};
use clap::{Arg, ArgAction, ArgMatches, Args, Command, Error, FromArgMatches};
use numerant_format::{FormatOption, OptionValue, OptionValues, Side, Takes};
use numerant_formats::options;

/// Those for reading.
#[derive(Clone, Debug, Default)]
pub(super) struct ReadingOptionsOfFormats(pub(super) OptionValues);

/// Those for writing.
#[derive(Clone, Debug, Default)]
pub(super) struct WritingOptionsOfFormats(pub(super) OptionValues);

fn augmented(command: Command, side: Side, heading: &'static str) -> Command {
    options(side).into_iter().fold(command, |command, option| {
        command.arg(argument(option, heading))
    })
}

fn argument(option: &'static FormatOption, heading: &'static str) -> Arg {
    let argument = Arg::new(option.name)
        .long(option.name)
        .help(option.help)
        .help_heading(heading);
    match option.takes {
        Takes::Nothing => argument.action(ArgAction::SetTrue),
        Takes::Choice { of, default } => argument
            .value_name(option.value_name)
            .value_parser(PossibleValuesParser::new(of))
            .default_value(default),
        Takes::Text | Takes::Texts | Takes::File | Takes::Number => {
            let checked = clap::builder::StringValueParser::new()
                .try_map(move |text| option.value(&text).map(|_| text));
            let argument = argument.value_name(option.value_name).value_parser(checked);
            match option.takes {
                Takes::Texts => argument.action(ArgAction::Append),
                _ => argument,
            }
        }
    }
}

fn values(matches: &ArgMatches, side: Side) -> OptionValues {
    let mut values = OptionValues::default();
    for option in options(side) {
        match option.takes {
            Takes::Nothing if matches.get_flag(option.name) => {
                values.put(option.name, OptionValue::Set);
            }
            Takes::Nothing => {}
            _ => {
                let texts = matches
                    .get_many::<String>(option.name)
                    .into_iter()
                    .flatten();
                // The parser has let through what are values only.
                for value in texts.flat_map(|text| option.value(text).ok().flatten()) {
                    values.put(option.name, value);
                }
            }
        }
    }
    values
}

macro_rules! options_of_formats {
    ($name:ident, $side:expr, $heading:literal) => {
        impl Args for $name {
            fn augment_args(command: Command) -> Command {
                augmented(command, $side, $heading)
            }

            fn augment_args_for_update(command: Command) -> Command {
                Self::augment_args(command)
            }
        }

        impl FromArgMatches for $name {
            fn from_arg_matches(matches: &ArgMatches) -> Result<Self, Error> {
                Ok(Self(values(matches, $side)))
            }

            fn update_from_arg_matches(&mut self, matches: &ArgMatches) -> Result<(), Error> {
                *self = Self::from_arg_matches(matches)?;
                Ok(())
            }
        }
    };
}
options_of_formats!(ReadingOptionsOfFormats, Side::Reading, "Reading");
options_of_formats!(WritingOptionsOfFormats, Side::Writing, "Writing");
