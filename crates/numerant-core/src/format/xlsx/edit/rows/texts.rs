//! Shared texts, counted anew for each part.

use std::collections::HashMap;
use std::io;

use quick_xml::Writer;
use quick_xml::events::Event;

use crate::format::xlsx::edit::book::Book;
use crate::format::xlsx::edit::element::Element;

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
        let mut list = texts.first().cloned().unwrap_or_default().into_bytes();
        for text in &self.order {
            list.extend_from_slice(
                texts
                    .get(text + 2)
                    .map_or("<si/>", String::as_str)
                    .as_bytes(),
            );
        }
        list.extend_from_slice(texts.get(1).map_or("", String::as_str).as_bytes());
        list
    }
}

/// All shared texts as they stand, behind what stands before and behind all of them.
pub(super) fn texts(book: &Book, path: &str) -> io::Result<Vec<String>> {
    let mut found = vec![String::new(), String::new()];
    let mut writer = Writer::new(Vec::new());
    let mut depth = 0;
    let mut close = String::new();
    book.package.visit(path, &mut |event| {
        let ended = match &event {
            Event::Start(tag) => {
                depth += 1;
                if depth == 1 {
                    let mut plain = Element::alone(tag.as_ref().to_owned());
                    plain.set_attribute("count", None);
                    plain.set_attribute("uniqueCount", None);
                    let text = plain.to_text();
                    found[0].push_str(text.strip_suffix("/>").unwrap_or(&text));
                    found[0].push('>');
                    close = format!("</{}>", tag.name().as_ref());
                    return Ok(());
                }
                false
            }
            Event::End(_) => {
                depth -= 1;
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
