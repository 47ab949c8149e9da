//! The options of documents: how JSON and XML are written, and which member names become a column.

use numerant_data::narrow::fit;
use numerant_format::{FormatOption, OptionValues, Side, Takes};
use numerant_naming::Words;

use crate::blanks::Blanks;
use crate::namespace::Namespace;

const KEY_COLUMN: FormatOption = FormatOption {
    name: "key-column",
    side: Side::Reading,
    takes: Takes::Text,
    value_name: "NAME",
    help: "Name of the column that holds the member names where records are the members of an object, as with \
           --records '$.*' [default: key]",
    check: accept,
};

const NULLS: FormatOption = FormatOption {
    name: "nulls",
    side: Side::Writing,
    takes: Takes::Choice {
        of: &["keep", "absent", "null", "empty"],
        default: "keep",
    },
    value_name: "HOW",
    help: "Blank values in JSON and XML: keep writes them as the source document has them (blank table cells as null \
           in JSON, absent in XML); absent, null and empty write all of them that way",
    check: accept,
};

/// Levels are indented by no more spaces than this.
const MOST_INDENT: u8 = 16;

const INDENT: FormatOption = FormatOption {
    name: "indent",
    side: Side::Writing,
    takes: Takes::Number,
    value_name: "N",
    help: "Indent JSON and XML by N spaces for each level, 16 at most",
    check: |text| match text.parse() {
        Ok(0..=MOST_INDENT) => Ok(()),
        _ => Err(format!("'{text}' is not a number from 0 to {MOST_INDENT}")),
    },
};

const FLAT: FormatOption = FormatOption {
    name: "flat",
    side: Side::Writing,
    takes: Takes::Nothing,
    value_name: "",
    help: "Write column names with dots as they are, without nesting them",
    check: accept,
};

const ROOT: FormatOption = FormatOption {
    name: "root",
    side: Side::Writing,
    takes: Takes::Text,
    value_name: "NAME",
    help: "Name of the XML root element [default: that of the source, or records]",
    check: accept,
};

const ITEM: FormatOption = FormatOption {
    name: "item",
    side: Side::Writing,
    takes: Takes::Text,
    value_name: "NAME",
    help: "Name of the XML record elements [default: that of the source, or record]",
    check: accept,
};

const NAMESPACE: FormatOption = FormatOption {
    name: "namespace",
    side: Side::Writing,
    takes: Takes::Texts,
    value_name: "PREFIX=URI",
    help: "Declare a namespace in the XML root element, such as p=urn:varnholm:port; may be repeated",
    check: |text| match text.parse::<Namespace>() {
        Ok(_) => Ok(()),
        Err(error) => Err(error.to_string()),
    },
};

const COMMENT: FormatOption = FormatOption {
    name: "xml-comment",
    side: Side::Writing,
    takes: Takes::Text,
    value_name: "TEXT",
    help: "Write a comment before the XML root element; {.rows}, {.source}, {.stem}, {.date} and {.time} are replaced",
    check: |text| {
        let words: Words = text.parse().map_err(|error| format!("{error}"))?;
        words.check_no_records().map_err(|error| error.to_string())
    },
};

fn accept(_text: &str) -> Result<(), String> {
    Ok(())
}

/// The options of JSON.
pub(crate) static OF_JSON: [FormatOption; 4] = [KEY_COLUMN, NULLS, INDENT, FLAT];

/// Those of JSON Lines, where a record is a line.
pub(crate) static OF_LINES: [FormatOption; 3] = [KEY_COLUMN, NULLS, FLAT];

/// Those of XML.
pub(crate) static OF_XML: [FormatOption; 7] = [NULLS, INDENT, FLAT, ROOT, ITEM, NAMESPACE, COMMENT];

/// The name of the column for member names.
pub(crate) fn key_column(values: &OptionValues) -> &str {
    values.get(KEY_COLUMN.name).unwrap_or("key")
}

/// Whether none of the options for writing is set, so that records may be copied as they are.
pub(crate) fn writes_as_usual(values: &OptionValues) -> bool {
    OF_XML.iter().all(|option| !values.is_set(option.name))
}

/// Whether options are set that say what the elements of records are.
pub(crate) fn names_elements(values: &OptionValues) -> bool {
    [ROOT, ITEM, NAMESPACE, FLAT]
        .iter()
        .any(|option| values.is_set(option.name))
}

/// How documents are written.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct DocumentOptions {
    /// How blank values are written.
    pub nulls: Blanks,
    /// Number of spaces for each level; by default a record is a line.
    pub indent: Option<usize>,
    /// Column names with dots are written without nesting.
    pub flat: bool,
}

impl DocumentOptions {
    /// Those that values of the described options stand for.
    pub fn of(values: &OptionValues) -> Self {
        Self {
            nulls: match values.get(NULLS.name) {
                Some("absent") => Blanks::Absent,
                Some("null") => Blanks::Null,
                Some("empty") => Blanks::Empty,
                _ => Blanks::Keep,
            },
            indent: values.number(INDENT.name).map(fit),
            flat: values.is_set(FLAT.name),
        }
    }
}

/// How XML is written, besides what all documents have.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct XmlOptions {
    /// Name of the root element.
    pub root: Option<String>,
    /// Name of the record elements.
    pub item: Option<String>,
    /// Namespaces that the root element declares.
    pub namespaces: Vec<Namespace>,
    /// The comment before the root element.
    pub comment: Option<Words>,
}

impl XmlOptions {
    /// Those that values of the described options stand for.
    pub fn of(values: &OptionValues) -> Self {
        let text = |option: &FormatOption| values.get(option.name);
        // The texts were checked when they were set.
        let namespaces = values.texts(NAMESPACE.name).iter();
        Self {
            root: text(&ROOT).map(str::to_owned),
            item: text(&ITEM).map(str::to_owned),
            namespaces: namespaces.filter_map(|text| text.parse().ok()).collect(),
            comment: text(&COMMENT).and_then(|text| text.parse().ok()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use numerant_format::OptionValue;

    fn values(texts: &[(&FormatOption, &str)]) -> OptionValues {
        let mut values = OptionValues::default();
        for (option, text) in texts {
            if let Some(value) = option.value(text).expect(text) {
                values.put(option.name, value);
            }
        }
        values
    }

    #[test]
    fn values_stand_for_how_documents_are_written() {
        assert_eq!(
            DocumentOptions::of(&values(&[])),
            DocumentOptions::default()
        );
        let set = values(&[(&NULLS, "empty"), (&INDENT, "2"), (&FLAT, "")]);
        let expected = DocumentOptions {
            nulls: Blanks::Empty,
            indent: Some(2),
            flat: true,
        };
        assert_eq!(DocumentOptions::of(&set), expected);
        assert!(!writes_as_usual(&set));
        assert!(writes_as_usual(&values(&[
            (&NULLS, "keep"),
            (&KEY_COLUMN, "quay")
        ])));
        assert_eq!(key_column(&values(&[(&KEY_COLUMN, "quay")])), "quay");
        let set = values(&[
            (&NAMESPACE, "p=urn:varnholm:port"),
            (&NAMESPACE, "urn:varnholm:tides"),
            (&ROOT, "port"),
            (&COMMENT, "{.rows} calls"),
        ]);
        let xml = XmlOptions::of(&set);
        assert_eq!((xml.root.as_deref(), xml.item), (Some("port"), None));
        let prefixes: Vec<&str> = xml.namespaces.iter().map(|n| n.prefix.as_str()).collect();
        assert_eq!(prefixes, ["p", ""]);
        assert!(xml.comment.is_some());
        assert!(matches!(
            INDENT.value("2"),
            Ok(Some(OptionValue::Number(2)))
        ));
    }

    #[test]
    fn texts_that_are_no_values_are_refused() {
        for (option, text, what) in [
            (&INDENT, "17", "not a number from 0 to 16"),
            (&NAMESPACE, "xml=urn:x", "declares no namespace"),
            (&COMMENT, "of {quay}", "is a value of records"),
            (&NULLS, "none", "is not one of keep, absent, null, empty"),
        ] {
            let error = option.value(text).expect_err(text);
            assert!(error.contains(what), "{text}: {error}");
        }
    }
}
