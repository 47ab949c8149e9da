//! Where the records of a document are: an XPath of steps to child elements (`/port/call`) or to
//! elements at any depth (`//call`), with `*` for any name.

use numerant_markup::name::is_name;

/// Which steps the elements in an element are held against: a bit for each.
pub(super) type States = u64;

/// The steps from the document to its records.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct ElementPath {
    steps: Vec<Step>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
struct Step {
    /// At any depth.
    descends: bool,
    /// The name; `None` for any.
    name: Option<String>,
}

impl ElementPath {
    /// Reads an XPath.
    pub(super) fn new(path: &str) -> Result<Self, String> {
        let mut steps = Vec::new();
        let mut rest = path.trim();
        if !rest.starts_with('/') {
            return Err("it must begin with / or //".to_owned());
        }
        while !rest.is_empty() {
            let descends = rest.starts_with("//");
            rest = rest.trim_start_matches('/');
            let end = rest.find('/').unwrap_or(rest.len());
            let (name, behind) = rest.split_at(end);
            rest = behind;
            if name.contains(['[', '(', '@', '.']) && !is_name(name) {
                return Err(format!(
                    "'{name}' is more than the name of an element; choose records by their values \
                     with --where"
                ));
            }
            if name != "*" && !is_name(name) {
                return Err(format!("'{name}' is not an element name"));
            }
            steps.push(Step {
                descends,
                name: (name != "*").then(|| name.to_owned()),
            });
        }
        if steps.len() > 60 {
            return Err("more than 60 steps".to_owned());
        }
        Ok(Self { steps })
    }

    pub(super) fn step(&self, states: States, name: &str) -> States {
        let mut next = 0;
        for (place, step) in self.steps.iter().enumerate() {
            if states & (1 << place) == 0 {
                continue;
            }
            if step.descends {
                next |= 1 << place;
            }
            if step.name.as_deref().is_none_or(|wanted| wanted == name) {
                next |= 1 << (place + 1);
            }
        }
        next
    }

    /// Whether records are looked for at any depth.
    pub(super) fn descends(&self) -> bool {
        self.steps.iter().any(|step| step.descends)
    }

    pub(super) fn selects(&self, states: States) -> bool {
        states & (1 << self.steps.len()) != 0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn steps_lead_to_elements() {
        let reaches = |path: &str, names: &[&str]| {
            let path = ElementPath::new(path).expect(path);
            let states = names.iter().fold(1, |states, name| path.step(states, name));
            path.selects(states)
        };
        assert!(reaches("/port/call", &["port", "call"]));
        assert!(!reaches("/port/call", &["port", "quay", "call"]));
        assert!(reaches("//call", &["port", "quay", "call"]));
        assert!(reaches("//call", &["call"]));
        assert!(reaches("/port//call", &["port", "quay", "call"]));
        assert!(reaches("/port/*/call", &["port", "quay", "call"]));
        assert!(reaches("/p:port/p:call", &["p:port", "p:call"]));
        for wrong in ["call", "/port/call[1]", "/port/@id", "/", "/port/", "/1"] {
            assert!(ElementPath::new(wrong).is_err(), "{wrong}");
        }
    }
}
