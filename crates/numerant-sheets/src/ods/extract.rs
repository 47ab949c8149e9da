//! Takes sheets out of an OpenDocument spreadsheet (ISO/IEC 26300), in which one part holds them all: that
//! part is copied without the others, and the package without what only they have led to.

use std::collections::HashSet;
use std::fs::File;
use std::io::{self, Write};
use std::path::Path;
use std::sync::Arc;

use quick_xml::Writer;
use quick_xml::events::{BytesStart, Event};

use crate::package::Package;
use crate::repack::{Change, Repack};
use crate::{ExtractError, Extracted};
use numerant_data::disk::OutFile;
use numerant_data::source::{ReadProblem, SharedFile};
use numerant_markup::{attribute, push_raw};

const CONTENT: &str = "content.xml";
const MANIFEST: &str = "META-INF/manifest.xml";

/// Bytes that the list of parts may take.
const SMALL: u64 = 64 << 20;

/// Writes these sheets of the spreadsheet `from` to one of their own at `to`, in their order; `values`
/// turns all formulas into their values.
pub fn extract(
    from: &Path,
    chosen: &[&str],
    values: bool,
    to: OutFile,
) -> Result<Extracted, ExtractError> {
    let failed = |problem| ExtractError::Read(from.to_owned(), problem);
    let file = File::open(from).and_then(|file| SharedFile::new(Arc::new(file)));
    let package = file
        .map_err(ReadProblem::Io)
        .and_then(Package::open)
        .map_err(failed)?;
    let damage = |error: io::Error| match error.downcast::<ReadProblem>() {
        Ok(problem) => ExtractError::Read(from.to_owned(), problem),
        Err(error) => ExtractError::Write(error),
    };
    let taking = Taking::look(&package, chosen, values).map_err(damage)?;
    let mut extracted = Extracted::default();
    // A first copy to nowhere counts the losses, and finds the references to parts.
    let mut parts = HashSet::new();
    taking
        .copy(&package, &mut io::sink(), &mut extracted, &mut parts)
        .map_err(damage)?;
    let mut repack = Repack::default();
    let content = {
        let (package, taking) = (package.clone(), taking.clone());
        move |out: &mut dyn Write| {
            let (mut extracted, mut parts) = (Extracted::default(), HashSet::new());
            taking.copy(&package, out, &mut extracted, &mut parts)
        }
    };
    repack.change(CONTENT, Change::Written(Box::new(content)));
    if taking.is_cut() {
        let gone: Vec<String> = package
            .names()
            .into_iter()
            .filter(|name| is_of_sheets(name) && !parts.iter().any(|part| leads_to(part, name)))
            .collect();
        drop_parts(&package, &gone, &mut repack).map_err(failed)?;
    }
    repack.write(&package, to).map_err(damage)?;
    Ok(extracted)
}

/// Whether a part is there only because a sheet leads to it: a chart, a picture, or what shows the first
/// page.
fn is_of_sheets(name: &str) -> bool {
    let first = name.split('/').next().unwrap_or_default();
    let objects = [
        "Object ",
        "ObjectReplacements",
        "Pictures",
        "media",
        "Thumbnails",
    ];
    objects.iter().any(|object| first.starts_with(object)) && name.contains('/')
}

/// Whether a link, such as `./Object 1`, leads to a part or the folder that it is in.
fn leads_to(link: &str, name: &str) -> bool {
    let link = link.trim_start_matches("./");
    let behind = name.strip_prefix(link);
    behind.is_some_and(|behind| behind.is_empty() || behind.starts_with('/'))
}

/// Leaves parts out, and their lines in the list of parts.
fn drop_parts(
    package: &Package,
    gone: &[String],
    repack: &mut Repack<'_>,
) -> Result<(), ReadProblem> {
    for name in gone {
        repack.change(name.clone(), Change::Dropped);
    }
    let Some(bytes) = package.bytes(MANIFEST, SMALL)? else {
        return Ok(());
    };
    let text = String::from_utf8_lossy(&bytes);
    let mut kept = String::new();
    let mut rest = text.as_ref();
    while let Some(at) = rest.find("<manifest:file-entry") {
        let end = rest[at..].find('>').map_or(rest.len(), |end| at + end + 1);
        kept.push_str(&rest[..at]);
        let entry = &rest[at..end];
        let is_gone = |name: &String| {
            let folder = name.rsplit_once('/').map_or("", |(folder, _)| folder);
            let names = |path: &str| entry.contains(&format!("manifest:full-path=\"{path}\""));
            names(name) || names(&format!("{folder}/"))
        };
        if !gone.iter().any(is_gone) {
            kept.push_str(entry);
        }
        rest = &rest[end..];
    }
    kept.push_str(rest);
    repack.change(MANIFEST, Change::Bytes(kept.into_bytes()));
    Ok(())
}

/// Which sheets are taken, and what leads nowhere then.
#[derive(Clone)]
struct Taking {
    chosen: HashSet<String>,
    gone: HashSet<String>,
    /// Names of ranges on sheets that are gone.
    names: HashSet<String>,
    values: bool,
}

impl Taking {
    fn look(package: &Package, chosen: &[&str], values: bool) -> io::Result<Self> {
        let mut taking = Self {
            chosen: chosen.iter().map(|name| name.to_lowercase()).collect(),
            gone: HashSet::new(),
            names: HashSet::new(),
            values,
        };
        let mut depth = 0;
        let mut named: Vec<(String, String)> = Vec::new();
        package.visit(CONTENT, &mut |event| {
            match &event {
                Event::Start(tag) | Event::Empty(tag) => {
                    let is_open = matches!(event, Event::Start(_));
                    match tag.local_name().as_ref() {
                        "table" => {
                            let name = attribute(tag, "name").unwrap_or_default().to_lowercase();
                            if depth == 0 && !taking.chosen.contains(&name) {
                                taking.gone.insert(name);
                            }
                            depth += u32::from(is_open);
                        }
                        "named-range" => {
                            let name = attribute(tag, "name").unwrap_or_default();
                            let area = attribute(tag, "cell-range-address").unwrap_or_default();
                            named.push((name.to_lowercase(), area));
                        }
                        _ => {}
                    }
                }
                Event::End(tag) if tag.local_name().as_ref() == "table" => depth -= 1,
                _ => {}
            }
            Ok(())
        })?;
        let leads_out = |area: &str| {
            sheets_of_area(area)
                .iter()
                .any(|sheet| taking.gone.contains(sheet))
        };
        let names = named.iter().filter(|(_, area)| leads_out(area));
        taking.names = names.map(|(name, _)| name.clone()).collect();
        Ok(taking)
    }

    fn is_cut(&self) -> bool {
        !self.gone.is_empty()
    }

    /// Copies the part with the sheets that are taken; `parts` gets what they lead to.
    fn copy(
        &self,
        package: &Package,
        out: &mut dyn Write,
        extracted: &mut Extracted,
        parts: &mut HashSet<String>,
    ) -> io::Result<()> {
        let mut writer = Writer::new(out);
        // How deep in tables, and at which depth one is left out.
        let (mut depth, mut skipped): (u32, Option<u32>) = (0, None);
        let mut left_out_range = false;
        package.visit(CONTENT, &mut |event| {
            match &event {
                Event::Start(tag) | Event::Empty(tag) => {
                    let is_open = matches!(event, Event::Start(_));
                    if tag.local_name().as_ref() == "table" {
                        let name = attribute(tag, "name").unwrap_or_default().to_lowercase();
                        let goes = depth == 0 && !self.chosen.contains(&name);
                        if goes && is_open && skipped.is_none() {
                            skipped = Some(depth);
                        }
                        depth += u32::from(is_open);
                        if goes {
                            return Ok(());
                        }
                    }
                    if skipped.is_some() {
                        return Ok(());
                    }
                    if self.is_gone_range(tag) {
                        extracted.names += u64::from(tag.local_name().as_ref() != "database-range");
                        left_out_range = is_open;
                        return Ok(());
                    }
                    if left_out_range {
                        return Ok(());
                    }
                    parts.extend(attribute(tag, "href"));
                    let tag = self.tag(tag, extracted);
                    return writer.write_event(if is_open {
                        Event::Start(tag)
                    } else {
                        Event::Empty(tag)
                    });
                }
                Event::End(tag) => {
                    if tag.local_name().as_ref() == "table" {
                        depth = depth.saturating_sub(1);
                        if skipped == Some(depth) {
                            skipped = None;
                            return Ok(());
                        }
                    }
                    let ranges = ["named-range", "named-expression", "database-range"];
                    if left_out_range && ranges.contains(&tag.local_name().as_ref()) {
                        left_out_range = false;
                        return Ok(());
                    }
                }
                _ => {}
            }
            if skipped.is_some() || left_out_range {
                Ok(())
            } else {
                writer.write_event(event)
            }
        })
    }

    /// Whether a tag names a range on a sheet that is gone.
    fn is_gone_range(&self, tag: &BytesStart<'_>) -> bool {
        let area = match tag.local_name().as_ref() {
            "named-range" => attribute(tag, "cell-range-address"),
            "database-range" => attribute(tag, "target-range-address"),
            "named-expression" => {
                let formula = attribute(tag, "expression").unwrap_or_default();
                return self.breaks(&formula);
            }
            _ => return false,
        };
        let sheets = sheets_of_area(&area.unwrap_or_default());
        sheets.iter().any(|sheet| self.gone.contains(sheet))
    }

    /// A tag without what leads nowhere.
    fn tag<'t>(&self, tag: &BytesStart<'t>, extracted: &mut Extracted) -> BytesStart<'t> {
        let gone = |key: &str, value: &str| {
            let name = key.rsplit_once(':').map_or(key, |(_, name)| name);
            let plain = quick_xml::escape::unescape(value).unwrap_or_else(|_| value.into());
            match name {
                "formula" => self.values || self.breaks(&plain),
                "condition" => self.breaks(&plain),
                _ => false,
            }
        };
        let mut attributes = tag.attributes();
        let found = attributes.with_checks(false).flatten();
        let is_cut = found.map(|attribute| gone(attribute.key.as_ref(), &attribute.value));
        if !is_cut.collect::<Vec<bool>>().contains(&true) {
            return tag.clone();
        }
        let mut new = BytesStart::new(tag.name().as_ref().to_owned());
        for attribute in tag.attributes().with_checks(false).flatten() {
            let key = attribute.key.as_ref();
            if !gone(key, &attribute.value) {
                push_raw(&mut new, key, &attribute.value);
                continue;
            }
            if key.ends_with("formula") {
                extracted.formulas += 1;
                extracted.without_value +=
                    u64::from(numerant_markup::attribute(tag, "value-type").is_none());
            } else {
                extracted.rules += 1;
            }
        }
        new
    }

    /// Whether a formula (OpenFormula) leads to what is gone.
    fn breaks(&self, formula: &str) -> bool {
        let mut rest = formula;
        while let Some(sign) = rest.chars().next() {
            match sign {
                '"' => {
                    let end = rest[1..].find('"').map_or(rest.len(), |end| end + 2);
                    rest = &rest[end..];
                }
                '[' => {
                    let end = closing(rest);
                    let sheets = sheets_of_area(&rest[1..end]);
                    if sheets.iter().any(|sheet| self.gone.contains(sheet)) {
                        return true;
                    }
                    rest = rest.get(end + 1..).unwrap_or_default();
                }
                sign if sign.is_alphabetic() || sign == '_' => {
                    let is_part = |sign: char| sign.is_alphanumeric() || matches!(sign, '_' | '.');
                    let end = rest.find(|sign| !is_part(sign)).unwrap_or(rest.len());
                    if self.names.contains(&rest[..end].to_lowercase()) {
                        return true;
                    }
                    rest = &rest[end..];
                }
                sign => rest = &rest[sign.len_utf8()..],
            }
        }
        false
    }
}

/// Where the bracket that a text begins with is closed; names in quotes may hold one.
fn closing(text: &str) -> usize {
    let mut quoted = false;
    for (at, sign) in text.char_indices() {
        match sign {
            '\'' => quoted = !quoted,
            ']' if !quoted => return at,
            _ => {}
        }
    }
    text.len()
}

/// The sheets, in lower case, that an area such as `$Rates.A1:.B2` or `'North Quay'.A1` names; none of
/// another file.
fn sheets_of_area(area: &str) -> Vec<String> {
    let mut sheets = Vec::new();
    let mut name = String::new();
    let mut signs = area.chars().peekable();
    while let Some(sign) = signs.next() {
        match sign {
            '\'' => {
                let mut quoted = String::new();
                while let Some(sign) = signs.next() {
                    match sign {
                        '\'' if signs.next_if_eq(&'\'').is_some() => quoted.push('\''),
                        '\'' => break,
                        sign => quoted.push(sign),
                    }
                }
                name = quoted;
            }
            '.' => {
                if !name.is_empty() {
                    sheets.push(std::mem::take(&mut name).to_lowercase());
                }
            }
            // What is before is another file.
            '#' => return Vec::new(),
            ':' | ' ' => name.clear(),
            '$' => {}
            sign => name.push(sign),
        }
    }
    sheets
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn areas_name_their_sheets() {
        for (area, expected) in [
            (".A1", vec![]),
            ("$Rates.$A$1:.B2", vec!["rates"]),
            ("$'North Quay'.A1:$'It''s'.B2", vec!["north quay", "it's"]),
            ("'file:///a.ods'#$Rates.A1", vec![]),
        ] {
            assert_eq!(sheets_of_area(area), expected, "{area}");
        }
        let taking = Taking {
            chosen: HashSet::new(),
            gone: HashSet::from(["rates".to_owned(), "a]b".to_owned()]),
            names: HashSet::from(["rate_table".to_owned()]),
            values: false,
        };
        for (formula, breaks) in [
            ("of:=SUM([.A1:.B2])*[$Calls.A1]", false),
            ("of:=[.A1]*[$Rates.B2]", true),
            ("of:=\"[$Rates.B2]\"&[.A1]", false),
            ("of:=VLOOKUP([.A1];Rate_Table;2)", true),
            ("of:=[$'a]b'.A1]", true),
        ] {
            assert_eq!(taking.breaks(formula), breaks, "{formula}");
        }
    }
}
