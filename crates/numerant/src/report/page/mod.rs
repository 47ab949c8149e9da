//! Pages for people who would rather look than read: about a run, a look at files, and a proof. Each holds all that it
//! needs, and values in it are escaped.

mod chart;
mod look;
mod proof;
mod run;

use maud::{DOCTYPE, Markup, PreEscaped, html};

pub(crate) use look::{look, values};
pub(crate) use proof::{ledger, parts};
pub(crate) use run::run;

/// What a page can be recognized by, so that no other file is replaced.
pub(crate) const MARK: &str = "<meta name=\"generator\" content=\"numerant page\">";

const STYLE: &str = include_str!("page.css");

/// When and by which command a page was made.
#[derive(Debug)]
pub(crate) struct Made {
    /// The day and the time of day.
    pub(crate) at: String,
    /// The command, as a shell takes it.
    pub(crate) command: String,
}

/// A page around its content.
fn frame(title: &str, made: &Made, content: &Markup) -> String {
    let page = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                (PreEscaped(MARK))
                title { (title) }
                style { (PreEscaped(STYLE)) }
            }
            body { main {
                (content)
                h2 { "The command" }
                pre tabindex="0" { (made.command) }
                p.soft { (made.at) }
            } }
        }
    };
    page.into_string()
}

/// The words of a command as a shell takes them.
pub(crate) fn command(words: impl Iterator<Item = String>) -> String {
    let quoted = words.enumerate().map(|(place, word)| {
        let is_plain =
            |character: char| character.is_alphanumeric() || "-_./=,:+@%".contains(character);
        if place == 0 {
            "numerant".to_owned()
        } else if !word.is_empty() && word.chars().all(is_plain) {
            word
        } else {
            format!("'{}'", word.replace('\'', "'\\''"))
        }
    });
    Vec::from_iter(quoted).join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn commands_are_quoted() {
        let words = [
            "/x/numerant",
            "split",
            "a b.csv",
            "--where",
            "a = 'x'",
            "--by=q",
        ];
        let words = words.into_iter().map(str::to_owned);
        assert_eq!(
            command(words),
            "numerant split 'a b.csv' --where 'a = '\\''x'\\''' --by=q"
        );
    }
}
