//! How the parts of a package lead to each other, kept so that it can be written again.

use std::collections::HashSet;

use super::SMALL;
use super::element::{Document, Element};
use crate::package::Package;
use crate::xlsx::parts::{relations_path, resolved};
use numerant_data::source::ReadProblem;

/// Where a part leads.
#[derive(Clone, Debug)]
pub(super) struct Relationships {
    /// The part that says so.
    pub(super) path: String,
    pub(super) document: Document,
    pub(super) all: Vec<Relationship>,
}

/// Where an identifier leads.
#[derive(Clone, Debug)]
pub(super) struct Relationship {
    pub(super) id: String,
    /// The last word of the type.
    pub(super) kind: String,
    /// The part, or what is outside of the package.
    pub(super) target: String,
    pub(super) outside: bool,
}

impl Relationships {
    /// Where the part at `path` leads; `None` if nowhere.
    pub(super) fn of(package: &Package, path: &str) -> Result<Option<Self>, ReadProblem> {
        let (own, folder) = relations_path(path);
        let Some(bytes) = package.bytes(&own, SMALL)? else {
            return Ok(None);
        };
        let document = Document::parse(bytes, &own)?;
        let all = document.root.elements().map(|element| {
            let text = |name| element.attribute(name).unwrap_or_default();
            let outside = text("TargetMode") == "External";
            let (kind, target) = (text("Type"), text("Target"));
            Relationship {
                id: text("Id"),
                kind: kind.rsplit('/').next().unwrap_or_default().to_owned(),
                target: if outside {
                    target
                } else {
                    resolved(folder, &target)
                },
                outside,
            }
        });
        let all = all.collect();
        Ok(Some(Self {
            path: own,
            document,
            all,
        }))
    }

    /// Leaves out what does not fit.
    pub(super) fn retain(&mut self, mut wanted: impl FnMut(&Relationship) -> bool) -> bool {
        let before = self.all.len();
        self.all.retain(&mut wanted);
        let all = &self.all;
        self.document.root.retain(|element| {
            let id = element.attribute("Id").unwrap_or_default();
            all.iter().any(|lead| lead.id == id)
        });
        self.all.len() != before
    }

    /// Leaves out what does not fit, and returns the identifiers of that.
    pub(super) fn split_off(&mut self, wanted: impl Fn(&Relationship) -> bool) -> HashSet<String> {
        let gone = self.all.iter().filter(|lead| !wanted(lead));
        let gone = gone.map(|lead| lead.id.clone()).collect();
        self.retain(wanted);
        gone
    }

    /// Adds a part, and returns the identifier that leads to it.
    pub(super) fn add(&mut self, relation_type: &str, target: &str) -> String {
        let known = |id: &String| self.all.iter().any(|lead| lead.id == *id);
        let ids = (self.all.len() + 1..).map(|number| format!("rId{number}"));
        let id = ids.into_iter().find(|id| !known(id)).unwrap_or_default();
        let prefix = self.document.root.prefix().to_owned();
        let mut entry = Element::alone(format!("{prefix}Relationship"));
        entry.set_attribute("Id", Some(&id));
        entry.set_attribute("Type", Some(relation_type));
        entry.set_attribute("Target", Some(target));
        self.document.root.push(entry);
        self.all.push(Relationship {
            id: id.clone(),
            kind: relation_type
                .rsplit('/')
                .next()
                .unwrap_or_default()
                .to_owned(),
            target: target.trim_start_matches('/').to_owned(),
            outside: false,
        });
        id
    }

    /// Gives parts other targets.
    pub(super) fn redirect(&mut self, target: impl Fn(&Relationship) -> Option<String>) {
        for (lead, element) in self.all.iter().zip(self.document.root.elements_mut()) {
            if let Some(new) = target(lead).filter(|_| !lead.outside) {
                element.set_attribute("Target", Some(&new));
            }
        }
    }

    /// The parts of a kind.
    pub(super) fn of_kind<'a>(&'a self, kind: &'a str) -> impl Iterator<Item = &'a Relationship> {
        let fits = move |lead: &&Relationship| lead.kind == kind && !lead.outside;
        self.all.iter().filter(fits)
    }
}
