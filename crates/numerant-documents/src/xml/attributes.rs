//! The attributes of a tag, after XML 1.0, 3.1.

use numerant_markup::name::is_name;

/// Goes through the attributes of a start tag.
pub(super) struct Attributes<'t> {
    /// The tag from after the name of its element on.
    rest: &'t str,
}

/// A name and a value verbatim, without its quotes.
pub(super) type Attribute<'t> = (&'t str, &'t str);

impl<'t> Attributes<'t> {
    pub(super) fn new(rest: &'t str) -> Self {
        Self { rest }
    }

    fn blanks(&mut self) -> usize {
        let length = self.rest.len();
        let blank = |c: char| matches!(c, ' ' | '\t' | '\n' | '\r');
        self.rest = self.rest.trim_start_matches(blank);
        length - self.rest.len()
    }

    /// The next attribute, or what is wrong with it.
    pub(super) fn next(&mut self) -> Result<Option<Attribute<'t>>, String> {
        let blanks = self.blanks();
        if self.rest.is_empty() {
            return Ok(None);
        }
        let end = self
            .rest
            .find(['=', ' ', '\t', '\n', '\r'])
            .unwrap_or(self.rest.len());
        let (name, rest) = self.rest.split_at(end);
        if blanks == 0 {
            return Err(format!("a blank is missing before the attribute '{name}'"));
        }
        if !is_name(name) {
            return Err(format!("'{name}' is not a name of an attribute"));
        }
        self.rest = rest;
        self.blanks();
        let Some(rest) = self.rest.strip_prefix('=') else {
            return Err(format!("the attribute '{name}' has no value"));
        };
        self.rest = rest;
        self.blanks();
        let quote = match self.rest.as_bytes().first() {
            Some(quote @ (b'"' | b'\'')) => *quote,
            _ => {
                return Err(format!("the value of the attribute '{name}' has no quotes"));
            }
        };
        let inside = &self.rest[1..];
        let Some(end) = memchr::memchr(quote, inside.as_bytes()) else {
            return Err(format!(
                "the value of the attribute '{name}' has no closing quote"
            ));
        };
        self.rest = &inside[end + 1..];
        Ok(Some((name, &inside[..end])))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn all(tag: &str) -> Result<Vec<Attribute<'_>>, String> {
        let mut attributes = Attributes::new(tag);
        let mut found = Vec::new();
        while let Some(attribute) = attributes.next()? {
            found.push(attribute);
        }
        Ok(found)
    }

    #[test]
    fn attributes_are_names_with_quoted_values() {
        assert_eq!(
            all(" quay = 'Ost \"7\"'\n  id=\"\" ").as_deref(),
            Ok(&[("quay", "Ost \"7\""), ("id", "")][..])
        );
        for (tag, what) in [
            (" a='1'b='2'", "a blank is missing before the attribute 'b'"),
            (" a", "has no value"),
            (" a=1", "has no quotes"),
            (" a='1", "no closing quote"),
            (" 1='a'", "'1' is not a name"),
            (" ='a'", "'' is not a name"),
            (" a='1'/ ", "a blank is missing"),
        ] {
            let error = all(tag).expect_err(tag);
            assert!(error.contains(what), "{tag}: {error}");
        }
    }
}
