//! The parts of a package and how they lead to each other (ECMA-376 Part 2).

use std::collections::HashMap;

use quick_xml::events::Event;

use crate::package::Package;
use numerant_data::source::ReadProblem;
use numerant_format::sheet::SheetInfo;
use numerant_markup::{Flow, Markup, attribute};

/// The relations of a part: where its identifiers lead.
#[derive(Debug, Default)]
pub(crate) struct Relations {
    /// Identifier, last word of the type, and path of the target.
    entries: Vec<(String, String, String)>,
}

/// Bytes of a part that only says where others are.
const SMALL: u64 = 64 << 20;

impl Relations {
    /// Reads the relations of the part at `path`; there are none if their part is missing.
    pub(crate) fn of(package: &Package, path: &str) -> Result<Self, ReadProblem> {
        let (own, folder) = relations_path(path);
        let mut relations = Self::default();
        let Some(bytes) = package.bytes(&own, SMALL)? else {
            return Ok(relations);
        };
        let mut markup = Markup::new(Box::new(std::io::Cursor::new(bytes)), &own);
        markup.pull(|event| {
            if let Event::Start(tag) | Event::Empty(tag) = event
                && tag.local_name().as_ref() == "Relationship"
                && attribute(&tag, "TargetMode").is_none_or(|mode| mode != "External")
            {
                let kind = attribute(&tag, "Type").unwrap_or_default();
                let kind = kind.rsplit('/').next().unwrap_or_default().to_owned();
                let target = attribute(&tag, "Target").unwrap_or_default();
                let id = attribute(&tag, "Id").unwrap_or_default();
                relations
                    .entries
                    .push((id, kind, resolved(folder, &target)));
            }
            Ok(Flow::On)
        })?;
        Ok(relations)
    }

    /// Kind and path of the target of an identifier.
    pub(crate) fn target(&self, id: &str) -> Option<(&str, &str)> {
        let entry = self.entries.iter().find(|entry| entry.0 == id)?;
        Some((&entry.1, &entry.2))
    }

    /// The path of the first target of a kind.
    pub(crate) fn of_kind(&self, kind: &str) -> Option<&str> {
        let entry = self.entries.iter().find(|entry| entry.1 == kind)?;
        Some(&entry.2)
    }
}

/// The part that says where the part at `path` leads, and the folder from which it names targets.
pub(super) fn relations_path(path: &str) -> (String, &str) {
    let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
    let own = if folder.is_empty() {
        format!("_rels/{name}.rels")
    } else {
        format!("{folder}/_rels/{name}.rels")
    };
    (own, folder)
}

/// The path of a target that is named from `folder`.
pub(super) fn resolved(folder: &str, target: &str) -> String {
    if let Some(absolute) = target.strip_prefix('/') {
        return absolute.to_owned();
    }
    let mut path: Vec<&str> = folder.split('/').filter(|part| !part.is_empty()).collect();
    for part in target.split('/') {
        match part {
            "." | "" => {}
            ".." => {
                path.pop();
            }
            part => path.push(part),
        }
    }
    path.join("/")
}

/// Refuses a workbook in which one part is several sheets: a small file would be as large as it likes.
pub(crate) fn check_own_parts<'s>(
    sheets: impl Iterator<Item = (&'s SheetInfo, &'s str)>,
) -> Result<(), ReadProblem> {
    let mut known: HashMap<&str, &str> = HashMap::new();
    for (info, path) in sheets.filter(|(_, path)| !path.is_empty()) {
        if let Some(other) = known.insert(path, &info.name) {
            return Err(ReadProblem::Damaged {
                what: format!(
                    "its sheets '{other}' and '{}' are one part, {path}",
                    info.name
                ),
            });
        }
    }
    Ok(())
}

/// The path of the part that the package is about.
pub(crate) fn office_document(package: &Package) -> Result<Option<String>, ReadProblem> {
    let relations = Relations::of(package, "")?;
    Ok(relations.of_kind("officeDocument").map(str::to_owned))
}
