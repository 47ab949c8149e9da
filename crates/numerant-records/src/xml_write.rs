//! Writes records as MARCXML (the slim schema), indented, without a declared namespace.

use super::record::{Content, Field, Record, RecordError};
use numerant_format::ControlCharacters;
use numerant_markup::{forbidden, push_escaped};

impl Record<'_> {
    /// Appends the record; `policy` says what becomes of characters that XML cannot hold. In tags and codes of
    /// subfields they are always an error, as the rest would be another field.
    pub(super) fn write_xml(
        &self,
        policy: ControlCharacters,
        out: &mut Vec<u8>,
    ) -> Result<(), RecordError> {
        let record = self.in_unicode();
        let mut writer = XmlWriter { policy, out };
        writer.raw("  <record>\n    <leader>");
        let leader = record.unicode_leader();
        match forbidden(&leader) {
            None => push_escaped(&leader, false, writer.out),
            Some(_) => {
                let mut characters = leader.chars();
                characters.try_for_each(|character| {
                    writer.place(|| "the leader".to_owned(), character)
                })?;
            }
        }
        writer.raw("</leader>\n");
        // The schema has the fields of one text before the others.
        let is_control = |field: &&Field<'_>| matches!(field.content, Content::Control(_));
        let data = record.fields.iter().filter(|field| !is_control(field));
        for field in record.fields.iter().filter(is_control).chain(data) {
            writer.field(field)?;
        }
        writer.raw("  </record>\n");
        Ok(())
    }
}

struct XmlWriter<'o> {
    policy: ControlCharacters,
    out: &'o mut Vec<u8>,
}

impl XmlWriter<'_> {
    fn raw(&mut self, text: &str) {
        self.out.extend_from_slice(text.as_bytes());
    }

    /// A character whose place has a meaning: it is replaced by a blank where others are left out.
    fn place(&mut self, what: impl Fn() -> String, character: char) -> Result<(), RecordError> {
        let mut scratch = [0; 4];
        let text = character.encode_utf8(&mut scratch);
        match forbidden(text) {
            Some(character) if self.policy == ControlCharacters::Refuse => {
                return Err(RecordError::Character(what(), character.into()));
            }
            Some(_) => self.out.push(b' '),
            None => push_escaped(text, true, self.out),
        }
        Ok(())
    }

    /// What names a field or subfield.
    fn name(&mut self, what: impl Fn() -> String, name: &str) -> Result<(), RecordError> {
        match name.chars().find(|character| !character.is_ascii_graphic()) {
            Some(character) => Err(RecordError::Character(what(), character.into())),
            None => {
                push_escaped(name, true, self.out);
                Ok(())
            }
        }
    }

    fn text(&mut self, tag: &str, text: &str) -> Result<(), RecordError> {
        match forbidden(text) {
            None => push_escaped(text, false, self.out),
            Some(character) if self.policy == ControlCharacters::Refuse => {
                return Err(RecordError::Character(
                    format!("field {tag}"),
                    character.into(),
                ));
            }
            Some(_) => {
                let is_allowed =
                    |character: &char| forbidden(character.encode_utf8(&mut [0; 4])).is_none();
                let kept: String = text.chars().filter(is_allowed).collect();
                push_escaped(&kept, false, self.out);
            }
        }
        Ok(())
    }

    fn field(&mut self, field: &Field<'_>) -> Result<(), RecordError> {
        let shown = || format!("the tag {:?}", field.tag);
        match &field.content {
            Content::Control(value) => {
                self.raw("    <controlfield tag=\"");
                self.name(shown, &field.tag)?;
                self.raw("\">");
                self.text(&field.tag, value)?;
                self.raw("</controlfield>\n");
            }
            Content::Data {
                indicators,
                subfields,
            } => {
                self.raw("    <datafield tag=\"");
                self.name(shown, &field.tag)?;
                let what = || format!("an indicator of field {}", field.tag);
                for (name, indicator) in ["\" ind1=\"", "\" ind2=\""].iter().zip(indicators) {
                    self.raw(name);
                    self.place(what, *indicator)?;
                }
                self.raw("\">\n");
                let what = || format!("the code of a subfield of field {}", field.tag);
                for (code, value) in subfields {
                    self.raw("      <subfield code=\"");
                    self.name(what, code.encode_utf8(&mut [0; 4]))?;
                    self.raw("\">");
                    self.text(&field.tag, value)?;
                    self.raw("</subfield>\n");
                }
                self.raw("    </datafield>\n");
            }
        }
        Ok(())
    }
}
