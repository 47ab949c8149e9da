//! Reads a shape that is a sample of a JSON document.

use super::parts::{Body, Each, Item, Member, Value};
use super::word::Placeholder;
use super::{MARKS, Marks, ShapeProblem, Wrong};
use numerant_data::tree::{Kind, Paths, Tree};

struct Parser<'a> {
    tree: &'a Tree,
    paths: &'a Paths,
    /// The line of each value, in the order of the document.
    lines: Vec<usize>,
}

pub(super) fn parse(text: &str) -> Result<Body, Wrong> {
    let mut tree = Tree::default();
    let mut paths = Paths::default();
    let spans = numerant_documents::json::tree_of(text, &mut tree, &mut paths).map_err(
        |(line, what)| {
            (
                line,
                ShapeProblem::Malformed(format!("not well-formed JSON: {what}")),
            )
        },
    )?;
    let line = |at: u32| memchr::memchr_iter(b'\n', &text.as_bytes()[..at as usize]).count() + 1;
    let mut lines = Vec::with_capacity(tree.nodes.len());
    let mut values = spans.iter().peekable();
    let mut latest = 1;
    for node in &tree.nodes {
        if !matches!(node.kind, Kind::Object | Kind::List)
            && let Some((start, _)) = values.next()
        {
            latest = line(*start);
        }
        lines.push(latest);
    }
    let parser = Parser {
        tree: &tree,
        paths: &paths,
        lines,
    };
    let indent = text.trim().split_once('\n').map(|(_, rest)| {
        let first = rest.trim_start_matches(['\n', '\r']);
        (first.len() - first.trim_start_matches(' ').len()).max(1)
    });
    Ok(Body::Json(parser.value(0)?, indent))
}

impl Parser<'_> {
    fn text(&self, node: usize) -> String {
        let text = self.tree.text_of(&self.tree.nodes[node]);
        String::from_utf8_lossy(text).into_owned()
    }

    fn value(&self, node: usize) -> Result<Value, Wrong> {
        Ok(match self.tree.nodes[node].kind {
            Kind::Null => Value::Literal("null".to_owned()),
            Kind::Number | Kind::Boolean => Value::Literal(self.text(node)),
            Kind::Text => Value::Placeholder(Placeholder::new(&self.text(node), self.lines[node])?),
            Kind::Object => self.object(node)?,
            Kind::List => self.list(node)?,
        })
    }

    fn object(&self, node: usize) -> Result<Value, Wrong> {
        Ok(Value::Object(self.members(node)?))
    }

    fn members(&self, node: usize) -> Result<Vec<Member>, Wrong> {
        let mut optional: Vec<(String, usize)> = Vec::new();
        for child in self.tree.children(node) {
            if self.paths.name(self.tree.nodes[child].path) == "{optional}" {
                let names: Vec<usize> = match self.tree.nodes[child].kind {
                    Kind::List => self.tree.children(child).collect(),
                    _ => vec![child],
                };
                optional.extend(names.into_iter().map(|n| (self.text(n), self.lines[n])));
            }
        }
        let mut members = Vec::new();
        for child in self.tree.children(node) {
            let name = self.paths.name(self.tree.nodes[child].path).to_owned();
            let line = self.lines[child];
            if name == "{optional}" {
                continue;
            }
            if let Some((mark, rest)) = mark(&name) {
                members.push(self.marked(child, mark, rest, members.last())?);
                continue;
            }
            let found = optional.iter().position(|(known, _)| *known == name);
            if let Some(found) = found {
                optional.remove(found);
            }
            members.push(Member::One {
                name: Placeholder::new(&name, line)?,
                value: self.value(child)?,
                optional: found.is_some(),
            });
        }
        if let Some((name, line)) = optional.first() {
            let what = format!("the object has no member '{name}'");
            return Err((*line, ShapeProblem::Mark(what)));
        }
        Ok(members)
    }

    /// Members with a mark: an object whose members come in its place.
    fn marked(
        &self,
        node: usize,
        mark: &str,
        rest: &str,
        before: Option<&Member>,
    ) -> Result<Member, Wrong> {
        let line = self.lines[node];
        if self.tree.nodes[node].kind != Kind::Object {
            let what = format!("the value of '{{{mark}}}' is not an object with members");
            return Err((line, ShapeProblem::Mark(what)));
        }
        let mut marks = Marks::default();
        marks.add(mark, rest, line)?;
        let members = self.members(node)?;
        let follows = matches!(before, Some(Member::When(_)));
        Ok(match marks.when(members, follows)? {
            Ok(when) => Member::When(when),
            Err(body) => match marks.each {
                Some((over, line)) => Member::Each(Each { over, line, body }),
                None => {
                    let what = format!("the mark '{mark}' is not one for members");
                    return Err((line, ShapeProblem::Mark(what)));
                }
            },
        })
    }

    fn list(&self, node: usize) -> Result<Value, Wrong> {
        let mut items = Vec::new();
        let mut marks = Marks::default();
        for child in self.tree.children(node) {
            let line = self.lines[child];
            if self.tree.nodes[child].kind == Kind::Text {
                let text = self.text(child);
                let found =
                    mark(&text).filter(|(mark, rest)| *mark != "optional" || rest.is_empty());
                if let Some((mark, rest)) = found {
                    marks.add(mark, rest, line)?;
                    continue;
                }
            }
            let value = self.value(child)?;
            let mut marks = std::mem::take(&mut marks);
            let item = if marks.optional {
                Item::Optional(value)
            } else {
                Item::One(value)
            };
            let follows = marks.each.is_none() && matches!(items.last(), Some(Item::When(_)));
            let item = match marks.when(Box::new(item), follows)? {
                Ok(when) => Item::When(when),
                Err(item) => *item,
            };
            items.push(match marks.each {
                Some((over, line)) => Item::Each(Each {
                    over,
                    line,
                    body: Box::new(item),
                }),
                None => item,
            });
        }
        if !marks.is_empty() {
            let what = "a mark that no item follows".to_owned();
            return Err((self.lines[node], ShapeProblem::Mark(what)));
        }
        Ok(Value::List(items))
    }
}

/// The mark that a text is, and what is after its name.
fn mark(text: &str) -> Option<(&str, &str)> {
    let inside = text.strip_prefix('{')?.strip_suffix('}')?;
    let (mark, rest) = inside.split_once(' ').unwrap_or((inside, ""));
    MARKS.contains(&mark).then_some((mark, rest))
}
