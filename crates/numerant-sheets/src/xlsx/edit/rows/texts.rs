//! Shared texts, counted anew for each part.

use std::collections::HashMap;
use std::io;

use quick_xml::Writer;
use quick_xml::events::Event;

use crate::xlsx::edit::edited_workbook::EditedWorkbook;
use crate::xlsx::edit::element::Element;

/// The numbers that texts have in a part, in the order in which they are used.
#[derive(Default)]
pub(super) struct TextNumbers {
    numbers: HashMap<usize, usize>,
    order: Vec<usize>,
}

impl TextNumbers {
    pub(super) fn of(&mut self, text: usize) -> usize {
        let order = &mut self.order;
        *self.numbers.entry(text).or_insert_with(|| {
            order.push(text);
            order.len() - 1
        })
    }

    /// The list of those that are used.
    pub(super) fn list(&self, texts: &[String]) -> Vec<u8> {
        let [open, close, texts @ ..] = texts else {
            return Vec::new();
        };
        let prefix = close
            .strip_prefix("</")
            .and_then(|name| name.strip_suffix("sst>"));
        let blank = format!("<{}si/>", prefix.unwrap_or_default());
        let mut list = open.clone();
        for text in &self.order {
            list.push_str(texts.get(*text).unwrap_or(&blank));
        }
        list.push_str(close);
        list.into_bytes()
    }
}

/// All shared texts verbatim, after what is before and after all of them.
pub(super) fn texts(book: &EditedWorkbook, path: &str) -> io::Result<Vec<String>> {
    let mut found = vec![String::new(), String::new()];
    let mut writer = Writer::new(Vec::new());
    let mut depth = 0_u32;
    let mut close = String::new();
    book.package.visit(path, &mut |event| {
        let ended = match &event {
            Event::Start(tag) | Event::Empty(tag) if depth == 0 => {
                let mut plain = Element::alone(tag.as_ref().to_owned());
                plain.set_attribute("count", None);
                plain.set_attribute("uniqueCount", None);
                let text = plain.to_text();
                found[0].push_str(text.strip_suffix("/>").unwrap_or(&text));
                found[0].push('>');
                close = format!("</{}>", tag.name().as_ref());
                depth = u32::from(matches!(event, Event::Start(_)));
                return Ok(());
            }
            Event::Start(_) => {
                depth += 1;
                false
            }
            Event::End(_) => {
                depth = depth.saturating_sub(1);
                depth == 1
            }
            Event::Empty(_) => depth == 1,
            _ => false,
        };
        if depth == 0 {
            if let Event::Decl(_) = event {
                let mut head = Writer::new(Vec::new());
                head.write_event(event)?;
                found[0].push_str(&String::from_utf8_lossy(head.get_ref()));
            }
            return Ok(());
        }
        if depth > 1 || ended {
            writer.write_event(event)?;
        }
        if ended {
            let text = std::mem::take(writer.get_mut());
            found.push(String::from_utf8(text).map_err(io::Error::other)?);
        }
        Ok(())
    })?;
    found[1] = close;
    Ok(found)
}
