//! Writes records as MARCXML (the slim schema), indented, without a declared namespace.

use super::record::{Content, Field, Record, RecordError};
use crate::format::ControlSigns;
use crate::format::markup::{forbidden, push_escaped};

impl Record<'_> {
    /// Appends the record; `signs` says what becomes of characters that XML cannot hold. In tags and codes of
    /// subfields they are always an error, as the rest would be another field.
    pub(super) fn write_xml(
        &self,
        signs: ControlSigns,
        out: &mut Vec<u8>,
    ) -> Result<(), RecordError> {
        let record = self.in_unicode();
        let mut writer = XmlWriter { signs, out };
        writer.raw("  <record>\n    <leader>");
        let leader = record.unicode_leader();
        match forbidden(&leader) {
            None => push_escaped(&leader, false, writer.out),
            Some(_) => {
                let mut signs = leader.chars();
                signs.try_for_each(|sign| writer.place(|| "the leader".to_owned(), sign))?;
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
    signs: ControlSigns,
    out: &'o mut Vec<u8>,
}

impl XmlWriter<'_> {
    fn raw(&mut self, text: &str) {
        self.out.extend_from_slice(text.as_bytes());
    }

    /// A character whose place has a meaning: it is replaced by a blank where others are left out.
    fn place(&mut self, what: impl Fn() -> String, sign: char) -> Result<(), RecordError> {
        let mut scratch = [0; 4];
        let text = sign.encode_utf8(&mut scratch);
        match forbidden(text) {
            Some(sign) if self.signs == ControlSigns::Refuse => {
                return Err(RecordError::Character(what(), sign.into()));
            }
            Some(_) => self.out.push(b' '),
            None => push_escaped(text, true, self.out),
        }
        Ok(())
    }

    /// What names a field or subfield.
    fn name(&mut self, what: impl Fn() -> String, name: &str) -> Result<(), RecordError> {
        match name.chars().find(|sign| !sign.is_ascii_graphic()) {
            Some(sign) => Err(RecordError::Character(what(), sign.into())),
            None => {
                push_escaped(name, true, self.out);
                Ok(())
            }
        }
    }

    fn text(&mut self, tag: &str, text: &str) -> Result<(), RecordError> {
        match forbidden(text) {
            None => push_escaped(text, false, self.out),
            Some(sign) if self.signs == ControlSigns::Refuse => {
                return Err(RecordError::Character(format!("field {tag}"), sign.into()));
            }
            Some(_) => {
                let is_allowed = |sign: &char| forbidden(sign.encode_utf8(&mut [0; 4])).is_none();
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
