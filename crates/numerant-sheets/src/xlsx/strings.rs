//! The texts that the sheets of a workbook share.

use quick_xml::events::Event;

use super::fast::needs_care;
use numerant_data::source::ReadProblem;
use numerant_format::sheet::Strings;
use numerant_markup::{Flow, Markup, push_reference};

/// Reads the texts that follow as long as they are plain ones, without a parser in between.
fn read_plain(strings: &mut Strings, markup: &mut Markup) -> Result<(), ReadProblem> {
    loop {
        let mut read = 0;
        let rest = markup.rest();
        let incomplete = loop {
            let Some(from) = rest[read..].strip_prefix("<si><t>") else {
                break "<si><t>".starts_with(&rest[read..]);
            };
            let Some(end) = memchr::memchr(b'<', from.as_bytes()) else {
                break true;
            };
            let (text, behind) = from.split_at(end);
            let tail = "</t></si>";
            if !behind.starts_with(tail) || needs_care(text.as_bytes()) {
                break tail.starts_with(behind);
            }
            strings.push(text);
            read += "<si><t>".len() + end + tail.len();
        };
        markup.pass(read);
        if !incomplete || !markup.has_more() {
            return Ok(());
        }
        markup.more()?;
    }
}

/// Reads the part with the shared texts. Phonetic runs are left out.
pub(super) fn read_strings(markup: &mut Markup, most: usize) -> Result<Strings, ReadProblem> {
    let mut strings = Strings::default();
    let mut text = String::new();
    let mut inside = TextState::default();
    let mut too_large = false;
    loop {
        read_plain(&mut strings, markup)?;
        let mut done = false;
        let more = markup.pull(|event| {
            match &event {
                Event::Start(tag) if tag.local_name().as_ref() == "si" => text.clear(),
                Event::End(tag) if tag.local_name().as_ref() == "si" => {
                    strings.push(&unescaped(&text));
                    too_large = strings.size() > most;
                    return Ok(Flow::Pause);
                }
                Event::Empty(tag) if tag.local_name().as_ref() == "si" => strings.push(""),
                Event::Start(tag) if tag.local_name().as_ref() == "sst" => return Ok(Flow::Pause),
                Event::End(tag) if tag.local_name().as_ref() == "sst" => done = true,
                _ => inside.take(&event, &mut text)?,
            }
            Ok(Flow::On)
        })?;
        if !more || done || too_large || strings.size() > most {
            break;
        }
    }
    if strings.size() > most {
        return Err(ReadProblem::SharedTexts {
            limit: numerant_data::value::Size(most as u64),
        });
    }
    Ok(strings)
}

/// Collects the text of rich and plain strings.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct TextState {
    in_text: bool,
    phonetic: bool,
}

impl TextState {
    /// Takes an event inside a string, and appends its text.
    pub(crate) fn take(&mut self, event: &Event<'_>, text: &mut String) -> Result<(), ReadProblem> {
        match event {
            Event::Start(tag) => match tag.local_name().as_ref() {
                "t" => self.in_text = true,
                "rPh" => self.phonetic = true,
                _ => {}
            },
            Event::End(tag) => match tag.local_name().as_ref() {
                "t" => self.in_text = false,
                "rPh" => self.phonetic = false,
                _ => {}
            },
            _ if !self.in_text || self.phonetic => {}
            Event::Text(found) => text.push_str(&found.xml10_content()),
            Event::CData(found) => text.push_str(&found.xml10_content()),
            Event::GeneralRef(reference) => push_reference(reference, text)?,
            _ => {}
        }
        Ok(())
    }
}

/// A text with `_xHHHH_` as the characters that it represents (ECMA-376 Part 1, 22.9.2.19).
pub(crate) fn unescaped(text: &str) -> std::borrow::Cow<'_, str> {
    let Some(first) = memchr::memmem::find(text.as_bytes(), b"_x") else {
        return text.into();
    };
    let mut units: Vec<u16> = Vec::new();
    let mut plain = String::with_capacity(text.len());
    plain.push_str(&text[..first]);
    let mut rest = &text[first..];
    let flush = |units: &mut Vec<u16>, plain: &mut String| {
        plain.push_str(&String::from_utf16_lossy(units));
        units.clear();
    };
    while let Some(sign) = rest.chars().next() {
        match escape(rest) {
            Some(unit) => {
                units.push(unit);
                rest = &rest[7..];
            }
            None => {
                flush(&mut units, &mut plain);
                plain.push(sign);
                rest = &rest[sign.len_utf8()..];
            }
        }
    }
    flush(&mut units, &mut plain);
    plain.into()
}

/// The UTF-16 unit that `_xHHHH_` at the start of a text represents.
pub(crate) fn escape(text: &str) -> Option<u16> {
    let [b'_', b'x', digits @ .., b'_'] = text.as_bytes().get(..7)? else {
        return None;
    };
    let digits = std::str::from_utf8(digits).ok()?;
    if !digits.bytes().all(|digit| digit.is_ascii_hexdigit()) {
        return None;
    }
    u16::from_str_radix(digits, 16).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn strings_are_plain_rich_or_escaped() {
        let xml = "<sst><si><t>North &amp; South</t></si><si><r><t>a</t></r><r><rPr><b/></rPr>\
                   <t xml:space=\"preserve\"> b</t></r><rPh sb=\"0\" eb=\"1\"><t>aa</t></rPh></si>\
                   <si/><si><t>007</t></si><si><t>a_x000D_b_x005F_x0041_</t></si></sst>";
        let input = std::io::Cursor::new(xml.as_bytes().to_vec());
        let mut markup = Markup::new(Box::new(input), "sharedStrings.xml");
        let strings = read_strings(&mut markup, 1 << 20).expect("read");
        let text = |number| strings.get(number).map(String::from_utf8_lossy);
        assert_eq!(text(0).as_deref(), Some("North & South"));
        assert_eq!(text(1).as_deref(), Some("a b"));
        assert_eq!(text(2).as_deref(), Some(""));
        assert_eq!(text(3).as_deref(), Some("007"));
        assert_eq!(text(4).as_deref(), Some("a\rb_x0041_"));
        assert_eq!(text(5), None);
    }
}
