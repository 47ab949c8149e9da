//! The texts that sheets share: those that are used, and after them those of other workbooks.

use std::io::{self, Write};

use quick_xml::Writer;
use quick_xml::events::{BytesEnd, BytesStart, BytesText, Event};

use super::sheet::Used;
use crate::package::Package;
use numerant_data::source::ReadProblem;
use numerant_markup::{Flow, push_raw};

/// The shared texts of a workbook of which some are used.
#[derive(Clone)]
pub(super) struct Texts {
    pub(super) package: Package,
    pub(super) path: String,
    /// Those that are used; all if it is not said.
    pub(super) used: Option<Used>,
}

impl Texts {
    /// How many there are.
    pub(super) fn count(&self) -> Result<u32, ReadProblem> {
        let (mut count, mut depth) = (0, 0_u32);
        self.package.markup(&self.path)?.pull(|event| {
            match &event {
                Event::Start(tag) => {
                    depth += 1;
                    count += u32::from(depth == 2 && tag.local_name().as_ref() == "si");
                }
                Event::Empty(tag) => {
                    count += u32::from(depth == 1 && tag.local_name().as_ref() == "si");
                }
                Event::End(_) => depth = depth.saturating_sub(1),
                _ => {}
            }
            Ok(Flow::On)
        })?;
        Ok(count)
    }

    fn is_used(&self, number: usize) -> bool {
        self.used.as_ref().is_none_or(|used| used.has(number))
    }
}

/// A list of shared texts for a workbook that has none, with those of others that are used.
pub(super) fn begin(more: &[Texts], out: &mut dyn Write) -> io::Result<()> {
    let mut writer = Writer::new(out);
    writer.get_mut().write_all(HEAD.as_bytes())?;
    append(more, "", &mut writer)?;
    writer.get_mut().write_all(b"</sst>")
}

const HEAD: &str = "<?xml version=\"1.0\" encoding=\"UTF-8\" standalone=\"yes\"?>\n\
     <sst xmlns=\"http://schemas.openxmlformats.org/spreadsheetml/2006/main\">";

/// Copies the texts of `base`, those that are not used as empty ones, so that the others keep their
/// numbers; after them those of `more` that are used.
pub(super) fn copy(base: &Texts, more: &[Texts], out: &mut dyn Write) -> io::Result<()> {
    let mut writer = Writer::new(out);
    let (mut number, mut depth, mut waiting) = (0_usize, 0_u32, 0_usize);
    let mut skips = false;
    let mut prefix = String::new();
    base.package.visit(&base.path, &mut |event| {
        match &event {
            Event::Start(tag) | Event::Empty(tag) if depth == 0 => {
                let name = tag.name().as_ref().to_owned();
                prefix = name.strip_suffix("sst").unwrap_or_default().to_owned();
                let mut plain = BytesStart::new(name.clone());
                for attribute in tag.attributes().with_checks(false).flatten() {
                    let key = attribute.key.as_ref();
                    if !matches!(key, "count" | "uniqueCount") {
                        push_raw(&mut plain, key, &attribute.value);
                    }
                }
                writer.write_event(Event::Start(plain))?;
                if matches!(event, Event::Empty(_)) {
                    append(more, &prefix, &mut writer)?;
                    return writer.write_event(Event::End(BytesEnd::new(name)));
                }
                depth = 1;
                return Ok(());
            }
            Event::Start(tag) => {
                depth += 1;
                if depth == 2 && tag.local_name().as_ref() == "si" {
                    skips = !base.is_used(number);
                    number += 1;
                    if skips {
                        waiting += 1;
                        return Ok(());
                    }
                    blanks(&mut waiting, &prefix, &mut writer)?;
                }
            }
            Event::End(_) => {
                depth = depth.saturating_sub(1);
                if depth == 1 && std::mem::take(&mut skips) {
                    return Ok(());
                }
                if depth == 0 {
                    if !more.is_empty() {
                        blanks(&mut waiting, &prefix, &mut writer)?;
                    }
                    append(more, &prefix, &mut writer)?;
                }
            }
            Event::Empty(tag) if depth == 1 && tag.local_name().as_ref() == "si" => {
                number += 1;
                waiting += 1;
                return Ok(());
            }
            _ => {}
        }
        if skips {
            Ok(())
        } else {
            writer.write_event(event)
        }
    })
}

/// Writes as many empty texts as wait for one that is used.
fn blanks<W: Write>(waiting: &mut usize, prefix: &str, writer: &mut Writer<W>) -> io::Result<()> {
    let empty = format!("<{prefix}si><{prefix}t/></{prefix}si>");
    for _ in 0..std::mem::take(waiting) {
        writer.get_mut().write_all(empty.as_bytes())?;
    }
    Ok(())
}

/// Writes the texts of other workbooks that are used, under the prefix of this one.
fn append<W: Write>(more: &[Texts], prefix: &str, writer: &mut Writer<W>) -> io::Result<()> {
    for texts in more {
        let (mut number, mut depth) = (0_usize, 0_u32);
        let mut takes = false;
        texts.package.visit(&texts.path, &mut |event| {
            let local = |name: &str| {
                let name = name.rsplit_once(':').map_or(name, |(_, name)| name);
                format!("{prefix}{name}")
            };
            match event {
                Event::Start(tag) => {
                    depth += 1;
                    if depth == 2 && tag.local_name().as_ref() == "si" {
                        takes = texts.is_used(number);
                        number += 1;
                    }
                    if depth > 1 && takes {
                        return writer
                            .write_event(Event::Start(renamed(&tag, &local(tag.name().as_ref()))));
                    }
                }
                Event::End(tag) => {
                    depth = depth.saturating_sub(1);
                    if depth >= 1 && takes {
                        writer
                            .write_event(Event::End(BytesEnd::new(local(tag.name().as_ref()))))?;
                    }
                    takes &= depth > 1;
                }
                Event::Empty(tag) if depth == 1 && tag.local_name().as_ref() == "si" => {
                    number += 1;
                    if texts.is_used(number - 1) {
                        return blanks(&mut 1, prefix, writer);
                    }
                }
                Event::Empty(tag) if takes => {
                    return writer
                        .write_event(Event::Empty(renamed(&tag, &local(tag.name().as_ref()))));
                }
                Event::Text(text) if takes && depth > 1 => {
                    let text = text.into_inner().into_owned();
                    return writer.write_event(Event::Text(BytesText::from_escaped(text)));
                }
                event if takes && depth > 1 => return writer.write_event(event),
                _ => {}
            }
            Ok(())
        })?;
    }
    Ok(())
}

/// A tag of another name, with those of its attributes that have no prefix but that of XML itself.
fn renamed(tag: &BytesStart<'_>, name: &str) -> BytesStart<'static> {
    let mut new = BytesStart::new(name.to_owned());
    for attribute in tag.attributes().with_checks(false).flatten() {
        let key = attribute.key.as_ref();
        if !key.contains(':') || key.starts_with("xml:") {
            push_raw(&mut new, key, &attribute.value);
        }
    }
    new
}
