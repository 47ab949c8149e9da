//! What outputs of pages have besides tables.

use serde::{Deserialize, Serialize};

use super::JobError;
use numerant_format::Format;
use numerant_naming::Template;

/// What outputs of pages (`.pdf`, `.html`) have besides tables.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case", default)]
pub struct PageOptions {
    /// The title of each table; the name of its sheet if not said.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub title: Option<Template>,
    /// A line below the title.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub subtitle: Option<Template>,
    /// The column whose values are groups of records, each with subtotals of `total`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub group_by: Option<String>,
}

impl PageOptions {
    /// The templates of titles.
    pub(crate) fn templates(&self) -> impl Iterator<Item = &Template> {
        self.title.iter().chain(&self.subtitle)
    }

    /// Refuses them for outputs in a format that has no pages.
    pub(super) fn check(&self, format: &dyn Format, keeps_look: bool) -> Result<(), JobError> {
        if format.capabilities().has_pages && !keeps_look {
            return Ok(());
        }
        let asked = [
            (self.title.is_some(), "title"),
            (self.subtitle.is_some(), "subtitle"),
            (self.group_by.is_some(), "group-by"),
        ];
        match asked.into_iter().find(|(is_asked, _)| *is_asked) {
            Some((_, key)) if keeps_look => Err(JobError::NotTables(key)),
            Some((_, key)) => Err(JobError::NotPages(key)),
            None => Ok(()),
        }
    }
}
