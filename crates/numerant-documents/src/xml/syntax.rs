//! Comments, processing instructions and the XML declaration, after XML 1.0, 2.5, 2.6 and 2.8.

use numerant_markup::forbidden;
use numerant_markup::name::is_name;

/// What is wrong with the text of a comment.
pub(super) fn wrong_comment(text: &str) -> Option<String> {
    if text.contains("--") || text.ends_with('-') {
        return Some("'--' is not allowed in a comment".to_owned());
    }
    wrong_character(text)
}

/// What is wrong with a processing instruction, from after its `<?` to before its `?>`.
pub(super) fn wrong_instruction(text: &str) -> Option<String> {
    let end = text.find([' ', '\t', '\n', '\r']).unwrap_or(text.len());
    let target = &text[..end];
    if target == "xml" {
        return Some("an XML declaration is allowed only at the very start".to_owned());
    }
    if target.eq_ignore_ascii_case("xml") {
        return Some(format!("'{target}' is a reserved name"));
    }
    if !is_name(target) {
        return Some(format!(
            "'{target}' is not a name of a processing instruction"
        ));
    }
    wrong_character(text)
}

fn wrong_character(text: &str) -> Option<String> {
    let found = forbidden(text)?;
    Some(format!(
        "the character U+{:04X}, which XML cannot hold",
        u32::from(found)
    ))
}

/// What is wrong with an XML declaration, from after its `<?` to before its `?>`.
pub(super) fn wrong_declaration(text: &str) -> Option<String> {
    let wrong = |what: &str| Some(format!("{what} in the XML declaration"));
    let mut attributes = super::attributes::Attributes::new(text.get(3..).unwrap_or_default());
    let mut expected = ["version", "encoding", "standalone"].iter();
    let mut has_version = false;
    loop {
        let (name, value) = match attributes.next() {
            Ok(Some(attribute)) => attribute,
            Ok(None) => break,
            Err(what) => return Some(what),
        };
        let Some(known) = expected.find(|known| **known == name) else {
            return wrong(&format!("'{name}' does not belong here"));
        };
        let fits = match *known {
            "version" => {
                has_version = true;
                let minor = value.strip_prefix("1.").unwrap_or_default();
                !minor.is_empty() && minor.bytes().all(|byte| byte.is_ascii_digit())
            }
            "encoding" => {
                let allowed =
                    |byte: u8| byte.is_ascii_alphanumeric() || matches!(byte, b'.' | b'_' | b'-');
                value.starts_with(|c: char| c.is_ascii_alphabetic()) && value.bytes().all(allowed)
            }
            _ => matches!(value, "yes" | "no"),
        };
        if !fits {
            return wrong(&format!("'{value}' is not a value of {name}"));
        }
        if !has_version {
            return wrong("the version is missing");
        }
    }
    if has_version {
        None
    } else {
        wrong("the version is missing")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn declarations_have_a_version_first() {
        for text in [
            "xml version='1.0'",
            "xml version=\"1.1\" encoding='UTF-8' standalone='yes' ",
            "xml version='1.0' standalone='no'",
        ] {
            assert_eq!(wrong_declaration(text), None, "{text}");
        }
        for text in [
            "xml",
            "xml encoding='UTF-8'",
            "xml version='2.0'",
            "xml version='1.0' encoding=''",
            "xml version='1.0' standalone='yes' encoding='UTF-8'",
            "xml version='1.0' standalone='YES'",
            "xml version='1.0'encoding='UTF-8'",
            "xml VERSION='1.0'",
            "xml version='1.0' quay='Ost'",
        ] {
            assert!(wrong_declaration(text).is_some(), "{text}");
        }
    }
}
