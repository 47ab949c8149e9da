//! Says what is in a document, and where its records are.

use super::path::ElementPath;
use super::read::XmlTrees;
use super::walk::{Handler, Walk, shown};
use crate::json::{MAX_OTHERS, beside};
use numerant_data::source::{Input, ReadError, ReadProblem};
use numerant_data::tree::{Kind, Paths, Survey, Tree};
use numerant_format::TreeFacts;
use numerant_markup::Flow;
use numerant_trees::{FoundRecords, OpenedTrees, Trees};

/// Says what is in a document.
struct Surveyor {
    survey: Survey,
    no_prefixes: bool,
    /// The text of each open element, and whether others are in it.
    open: Vec<(Vec<u8>, bool)>,
}

impl Surveyor {
    fn has_children(&mut self) {
        if let Some((_, branches)) = self.open.last_mut()
            && !std::mem::replace(branches, true)
        {
            self.survey.has_children();
        }
    }

    fn leaf(&mut self, name: &str, value: &[u8]) {
        self.has_children();
        self.survey.open(Some(name), Kind::Text);
        self.survey.untyped(value);
        self.survey.close();
    }
}

impl Handler for Surveyor {
    fn open(&mut self, name: &str, _from: usize) {
        self.has_children();
        if self.open.is_empty() {
            self.survey.open(None, Kind::Object);
        }
        let name = shown(name, self.no_prefixes).to_owned();
        self.survey.open(Some(&name), Kind::Text);
        self.open.push((Vec::new(), false));
    }

    fn attribute(&mut self, name: &str, value: &[u8], _at: Option<usize>) {
        if name != "xmlns" && !name.starts_with("xmlns:") {
            let name = format!("@{}", shown(name, self.no_prefixes));
            self.leaf(&name, value);
        }
    }

    fn opened(&mut self, _to: usize) {}

    fn text(&mut self, text: &[u8], _at: Option<usize>) {
        if let Some((kept, _)) = self.open.last_mut() {
            kept.extend_from_slice(text);
        }
    }

    fn close(&mut self, _to: usize) -> Flow {
        if let Some((text, branches)) = self.open.last_mut() {
            let text = std::mem::take(text);
            if !*branches {
                self.survey.untyped(&text);
            } else if !text.trim_ascii().is_empty() {
                self.leaf("#text", &text);
            }
        }
        self.open.pop();
        self.survey.close();
        if self.open.is_empty() {
            self.survey.close();
        }
        Flow::On
    }
}

/// Goes through a document, or so much of it, and says what is in it.
pub fn survey(input: Input, opened: &OpenedTrees, most: u64) -> Result<Survey, ReadError> {
    survey_start(input, opened, most).map(|(survey, _)| survey)
}

/// The survey of so much of a document, and whether that is all of it.
fn survey_start(
    input: Input,
    opened: &OpenedTrees,
    most: u64,
) -> Result<(Survey, bool), ReadError> {
    let mut is_whole = false;
    let mut walk = Walk::new(input, opened)?;
    let mut surveyor = Surveyor {
        survey: Survey::default(),
        no_prefixes: opened.options.no_prefixes,
        open: Vec::new(),
    };
    while walk.text.passed() < most {
        walk.pull(&mut surveyor)?;
        if walk.text.is_at_end() && !walk.text.more(walk.text.at)? {
            walk.check_end()?;
            is_whole = true;
            break;
        }
        walk.text.more(walk.text.at)?;
    }
    Ok((surveyor.survey.finish(), is_whole))
}

/// Finds out where the records of a document are, if that is not said, from so many bytes of it.
pub fn find_records(
    input: Input,
    opened: &OpenedTrees,
    most: u64,
) -> Result<FoundRecords, ReadError> {
    let (survey, is_whole) = survey_start(input, opened, most)?;
    let facts = find(opened, &survey)?;
    Ok(FoundRecords {
        facts,
        survey: is_whole.then_some(survey),
    })
}

fn find(opened: &OpenedTrees, survey: &Survey) -> Result<TreeFacts, ReadError> {
    let mut facts = opened.facts.clone();
    let failed = |problem| opened.path.error(problem);
    let path_to = |place: usize| {
        let mut names = Vec::new();
        let mut at = place;
        while at != 0 {
            names.push(survey.nodes[at].name.as_str());
            at = survey.parent(at);
        }
        names
            .iter()
            .rev()
            .fold(String::new(), |path, name| format!("{path}/{name}"))
    };
    if let Some(path) = &opened.options.records
        && let Err(what) = ElementPath::new(path)
    {
        let path = path.clone();
        return Err(failed(ReadProblem::RecordsPath { path, what }));
    }
    let stated = opened.options.records.as_ref();
    let is_there = |path: &String| -> Result<bool, ReadError> {
        let mut trees = XmlTrees::at(opened.input()?, opened, path)?;
        trees.next(&mut Tree::default(), &mut Paths::default())
    };
    let stated = match stated {
        Some(path) if opened.options.context.records_elsewhere && !is_there(path)? => None,
        stated => stated,
    };
    if let Some(path) = stated {
        facts.records.clone_from(path);
        let names: Vec<&str> = path.split('/').filter(|name| !name.is_empty()).collect();
        let root = survey.nodes.get(1).map_or("", |node| node.name.as_str());
        if let Some(item) = names.last().filter(|name| **name != "*") {
            facts.elements = Some((root.to_owned(), (*item).to_owned()));
        }
        return Ok(facts);
    }
    facts.found = true;
    if survey.nodes.len() < 2 {
        facts.records = "/*".to_owned();
        return Ok(facts);
    }
    // A root with nothing in it is a table without records.
    if survey.nodes.len() == 2 && survey.nodes[1].is_blank() {
        facts.records = format!("{}/*", path_to(1));
        return Ok(facts);
    }
    let element = |place: usize| {
        let name = &survey.nodes[place].name;
        !name.starts_with('@') && name != "#text"
    };
    let repeated = |place: usize| survey.nodes[place].most > 1 && element(place);
    // Elements that occur several times in one.
    let lists: Vec<usize> = (1..survey.nodes.len())
        .filter(|place| repeated(*place))
        .collect();
    let lists = survey.by_likely_records(&lists);
    // An element alone in the root may be the only record.
    let only = || {
        let children = &survey.nodes[1].children;
        let elements: Vec<usize> = children.iter().copied().filter(|c| element(*c)).collect();
        match elements[..] {
            [only] if survey.nodes[only].branches > 0 => only,
            _ => 1,
        }
    };
    let best = lists.first().copied().unwrap_or_else(only);
    facts.records = path_to(best);
    let others = lists
        .iter()
        .filter(|other| !survey.is_within(**other, best));
    let others = others.take(MAX_OTHERS);
    facts.others = others.map(|place| path_to(*place)).collect();
    if best != 1 {
        facts.others.push(path_to(1));
        facts.beside = beside(survey, best);
        let list = survey.path(best);
        let list = list.split_once('.').map(|(_, list)| list.to_owned());
        let list = list.filter(|_| !facts.beside.is_empty());
        facts.above = list.map(|list| (path_to(1), list));
    }
    let name = |place: usize| survey.nodes[place].name.clone();
    facts.elements = Some((
        if best == 1 {
            "records".to_owned()
        } else {
            name(1)
        },
        name(best),
    ));
    Ok(facts)
}

/// Whether a text begins like a document; `claimed` says that its name says so, or says nothing.
pub fn begins(start: &[u8], claimed: bool) -> bool {
    let start = start.strip_prefix(b"\xef\xbb\xbf").unwrap_or(start);
    let start = start.trim_ascii_start();
    let starts = |word: &[u8]| start.len() >= word.len() && start.starts_with(word);
    let html = start
        .get(..5)
        .is_some_and(|tag| tag.eq_ignore_ascii_case(b"<html"))
        || start
            .get(..14)
            .is_some_and(|tag| tag.eq_ignore_ascii_case(b"<!doctype html"));
    if html {
        return false;
    }
    starts(b"<?xml")
        || starts(b"<!DOCTYPE")
        || starts(b"<!--")
        || (claimed && start.first() == Some(&b'<'))
        || (start.first() == Some(&b'<')
            && start.get(1).is_some_and(u8::is_ascii_alphabetic)
            && (memchr::memmem::find(start, b"</").is_some()
                || memchr::memmem::find(start, b"/>").is_some())
            && memchr::memchr(b'>', start).is_some_and(|end| {
                let tag = &start[1..end];
                !tag.contains(&b',') && !tag.contains(&b';') && !tag.contains(&b'\t')
            }))
}
