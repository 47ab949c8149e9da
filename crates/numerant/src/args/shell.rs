//! Completion scripts and manual pages.

use std::path::PathBuf;

use clap::Args;
use clap_complete::Shell;

/// Print the completion script for a shell
#[derive(Debug, Args)]
#[command(after_help = "Examples:\n  \
    numerant completions bash > ~/.local/share/bash-completion/completions/numerant\n  \
    numerant completions zsh > ~/.zfunc/_numerant\n  \
    numerant completions fish > ~/.config/fish/completions/numerant.fish")]
pub(crate) struct CompletionsArguments {
    /// Shell
    pub(crate) shell: Shell,
}

/// Write manual pages, one for each command
#[derive(Debug, Args)]
#[command(after_help = "Examples:\n  \
    numerant manual ~/.local/share/man/man1\n  \
    numerant manual pages && man ./pages/numerant-split.1\n  \
    numerant manual /usr/local/share/man/man1")]
pub(crate) struct ManualArguments {
    /// Folder for the pages, which is created; existing pages are replaced
    #[arg(value_name = "DIR")]
    pub(crate) folder: PathBuf,
}
