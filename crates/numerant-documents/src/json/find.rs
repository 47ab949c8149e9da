//! Says what is in a document, and where its records are.

use std::collections::HashSet;

use super::descend::unescape;
use super::path::{Selector, push_member};
use super::read::JsonTrees;
use super::tokens::Tokens;
use super::walk::{Next, Walk};
use numerant_data::source::{Input, ReadError, ReadProblem};
use numerant_data::tree::{Kind, Paths, Survey, Tree};
use numerant_format::TreeFacts;
use numerant_trees::{FoundRecords, OpenedTrees, Trees};

/// Values next to the records that are named.
const NAMED: usize = 12;

/// Other places of records that are named.
pub(crate) const MAX_OTHERS: usize = 6;

/// Goes through a document, or so much of it, and says what is in it.
pub(crate) fn survey(input: Input, opened: &OpenedTrees, most: u64) -> Result<Survey, ReadError> {
    let mut walk = Walk::new(input, opened)?;
    survey_walk(&mut walk, most).map(|surveyed| surveyed.survey)
}

/// What was found in a document.
struct Surveyed {
    survey: Survey,
    /// A second value is after the first.
    is_several: bool,
    /// That is all of it.
    is_whole: bool,
}

fn survey_walk(walk: &mut Walk, most: u64) -> Result<Surveyed, ReadError> {
    let mut survey = Survey::default();
    let mut is_whole = false;
    while walk.text.passed() < most {
        match walk.next()? {
            Next::End => {
                is_whole = true;
                break;
            }
            Next::Close(_) => survey.close(),
            Next::Value => {
                let kind = walk.kind();
                let member = walk.open.last().is_some_and(|frame| !frame.list);
                let name = member.then_some(walk.name.as_str());
                survey.open(name, kind);
                if matches!(kind, Kind::Object | Kind::List) {
                    walk.enter(0)?;
                    continue;
                }
                let length = walk.text.value()?;
                let at = walk.text.at;
                if kind == Kind::Text {
                    let text = unescape(walk.text.rest(), 0, length);
                    let text = text.map(std::borrow::Cow::into_owned);
                    let text = text.map_err(|wrong| walk.wrong(at, wrong))?;
                    survey.value(kind, text.as_bytes());
                } else {
                    survey.value(kind, &walk.text.bytes()[at..at + length]);
                }
                survey.close();
                walk.text.at += length;
            }
        }
    }
    Ok(Surveyed {
        survey: survey.finish(),
        is_several: walk.documents > 1,
        is_whole,
    })
}

/// Finds out where the records of a document are, if that is not said, from so many bytes of it.
pub(crate) fn find_records(
    input: Input,
    opened: &OpenedTrees,
    most: u64,
) -> Result<FoundRecords, ReadError> {
    let mut survey = None;
    let facts = find(input, opened, most, &mut survey)?;
    Ok(FoundRecords { facts, survey })
}

/// Finds the records; a survey of all of the document is kept.
fn find(
    input: Input,
    opened: &OpenedTrees,
    most: u64,
    kept: &mut Option<Survey>,
) -> Result<TreeFacts, ReadError> {
    let mut facts = opened.facts.clone();
    let failed = |problem| opened.path.error(problem);
    if let Some(path) = &opened.options.records {
        let what = Selector::new(path).err();
        if let Some(what) = what {
            let path = path.clone();
            return Err(failed(ReadProblem::RecordsPath { path, what }));
        }
        if !opened.options.context.records_elsewhere || has_path(opened, path)? {
            facts.records.clone_from(path);
            if path == "$" && is_lines(opened)? {
                facts.header = header(opened)?;
            }
            return Ok(facts);
        }
    }
    let mut walk = Walk::new(input, opened)?;
    facts.found = true;
    let Some(first) = walk.text.next_byte(None)? else {
        // A file of lines without one is a table without records.
        if !super::LINES_EXTENSIONS.contains(&opened.path.extension().as_str()) {
            return Err(failed(ReadProblem::Empty));
        }
        facts.records = "$".to_owned();
        facts.lines = true;
        return Ok(facts);
    };
    if first == b'[' && is_lines(opened)? {
        facts.records = "$".to_owned();
        facts.lines = true;
        facts.header = header(opened)?;
        return Ok(facts);
    }
    // Errors further down are reported when it is read.
    let Surveyed {
        survey,
        is_several: several,
        is_whole,
    } = survey_walk(&mut walk, most)?;
    *kept = is_whole.then(|| survey.clone());
    if first == b'[' {
        facts.records = "$[*]".to_owned();
        return Ok(facts);
    }
    let has_lists = survey.nodes.iter().any(|node| node.items);
    if first == b'{' && !several && !has_lists && !is_whole {
        return find(opened.input()?, opened, u64::MAX, kept);
    }
    facts.records = "$".to_owned();
    facts.lines = several;
    if several || first != b'{' {
        return Ok(facts);
    }
    facts.single = true;
    // Lists of objects, and lists of lists that represent tables.
    let nodes = survey.nodes.iter().enumerate();
    let inside = |mut at: usize| {
        while at != 0 {
            at = survey.parent(at);
            if survey.nodes[at].items {
                return true;
            }
        }
        false
    };
    let lists: Vec<usize> = nodes
        .filter(|(place, node)| {
            let of_lists = node.lists > 0 && node.lists == node.times && !inside(*place);
            node.items && (node.branches > node.lists || of_lists)
        })
        .map(|(place, _)| place)
        .collect();
    let lists = survey.by_likely_records(&lists);
    let maps = keyed_maps(&survey);
    let Some((place, others)) = lists.split_first() else {
        facts.others = maps;
        return Ok(facts);
    };
    let place = *place;
    facts.records = json_path(&survey, place);
    let others = others
        .iter()
        .filter(|other| !survey.is_within(**other, place));
    let others = others.take(MAX_OTHERS);
    facts.others = others.map(|place| json_path(&survey, *place)).collect();
    facts.others.extend(maps);
    facts.others.push("$".to_owned());
    facts.single = false;
    facts.beside = beside(&survey, place);
    // Items of the lists around it are rows, too.
    let list = survey.path(survey.parent(place)).replace("[]", "");
    facts.above = (!facts.beside.is_empty()).then(|| ("$".to_owned(), list));
    Ok(facts)
}

/// Whether anything is at a path of a document.
fn has_path(opened: &OpenedTrees, path: &str) -> Result<bool, ReadError> {
    if path == "$" && Walk::new(opened.input()?, opened)?.text.next_byte(None)? == Some(b'[') {
        // A list is the records, unless others follow it.
        return is_lines(opened);
    }
    let mut trees = JsonTrees::at(opened.input()?, opened, path)?;
    trees.next(&mut Tree::default(), &mut Paths::default())
}

/// Bytes of a list that may be the header of others.
const MAX_HEADER: usize = 1 << 20;

/// Whether a document is lists that follow each other, or lines of which there is one.
fn is_lines(opened: &OpenedTrees) -> Result<bool, ReadError> {
    let named_lines = super::LINES_EXTENSIONS.contains(&opened.path.extension().as_str());
    let mut walk = Walk::new(opened.input()?, opened)?;
    if walk.text.next_byte(None)? != Some(b'[') {
        return Ok(false);
    }
    walk.next()?;
    let Some(length) = first_list(&walk) else {
        return Ok(false);
    };
    walk.text.at += length;
    match walk.text.next_byte(None)? {
        Some(next) => Ok(next == b'['),
        None => Ok(named_lines && header(opened)?.is_some()),
    }
}

/// Bytes of the list that the text begins with, if it is in what was read first.
fn first_list(walk: &Walk) -> Option<usize> {
    let start = walk.text.rest();
    let start = start.get(..MAX_HEADER).unwrap_or(start);
    let mut values = serde_json::Deserializer::from_str(start).into_iter::<serde::de::IgnoredAny>();
    values.next()?.ok()?;
    Some(values.byte_offset())
}

/// The first value of a document as names of columns: a list of different texts.
fn header(opened: &OpenedTrees) -> Result<Option<Vec<String>>, ReadError> {
    let mut walk = Walk::new(opened.input()?, opened)?;
    walk.next()?;
    let Some(length) = first_list(&walk).filter(|_| !opened.options.no_header) else {
        return Ok(None);
    };
    let names: Option<Vec<String>> = serde_json::from_str(&walk.text.rest()[..length]).ok();
    Ok(names.filter(|names| {
        let different: HashSet<&String> = names.iter().collect();
        !names.is_empty() && different.len() == names.len() && !different.contains(&String::new())
    }))
}

/// The paths of records in objects whose members are all objects, and may be a table by its keys.
fn keyed_maps(survey: &Survey) -> Vec<String> {
    let is_record = |place: &usize| {
        let node = &survey.nodes[*place];
        !node.items && node.branches == node.times && node.lists == 0
    };
    let nodes = survey.nodes.iter().enumerate();
    let names = |place: usize| {
        let children = survey.nodes[place].children.iter();
        children.map(|child| survey.nodes[*child].name.as_str())
    };
    let maps = nodes.filter(|(_, node)| {
        let [first, others @ ..] = node.children.as_slice() else {
            return false;
        };
        let known: HashSet<&str> = names(*first).collect();
        let alike = |place: &usize| is_record(place) && names(*place).any(|n| known.contains(n));
        node.times == 1 && !others.is_empty() && is_record(first) && others.iter().all(alike)
    });
    let paths = maps.map(|(place, _)| format!("{}.*", json_path(survey, place)));
    paths.take(MAX_OTHERS).collect()
}

/// Values that stand next to the records at a place, by their paths.
pub(crate) fn beside(survey: &Survey, records: usize) -> Vec<String> {
    let values = survey.nodes.iter().enumerate();
    values
        .filter(|(place, node)| {
            *place != 0 && node.branches < node.times && !survey.is_within(*place, records)
        })
        .map(|(place, _)| survey.path(place))
        .take(NAMED)
        .collect()
}

fn json_path(survey: &Survey, place: usize) -> String {
    let mut way = Vec::new();
    let mut at = place;
    while at != 0 {
        way.push(at);
        at = survey.parent(at);
    }
    let mut path = "$".to_owned();
    for at in way.iter().rev() {
        let node = &survey.nodes[*at];
        if node.items {
            path.push_str("[*]");
        } else {
            push_member(&node.name, &mut path);
        }
    }
    path
}

/// Whether a text begins like a document; `claimed` says that its name says so, or says nothing.
pub fn begins(start: &[u8], claimed: bool) -> bool {
    let start = start.strip_prefix(b"\xef\xbb\xbf").unwrap_or(start);
    let start = start.trim_ascii_start();
    let behind = |rest: &[u8]| rest.trim_ascii_start().first().copied();
    match start.first() {
        Some(b'{') => matches!(behind(&start[1..]), Some(b'"' | b'}')) || claimed,
        Some(b'[') => matches!(behind(&start[1..]), Some(b'{' | b'[')) || claimed,
        _ => false,
    }
}
