//! What there is to tell of messages: how many, and what does not agree.

use super::EdiTrees;
use crate::layout::Layout;
use crate::options::Miscounted;
use crate::segments::Segment;
use numerant_data::source::{ReadError, ReadProblem};
use numerant_data::value::Number;
use numerant_format::messages::MessageFacts;

impl EdiTrees {
    /// What was found of a kind of message so far.
    pub(super) fn fact(&mut self, kind: &str, layout: Option<&Layout>) -> &mut MessageFacts {
        if let Some(place) = self.facts.iter().position(|fact| fact.kind == kind) {
            return &mut self.facts[place];
        }
        let knows = layout.and_then(|layout| layout.balance.as_ref());
        self.facts.push(MessageFacts {
            kind: kind.to_owned(),
            layout: layout.map(|layout| layout.name.clone()),
            messages: 0,
            records: 0,
            stated: knows.map(|_| Number::ZERO),
            found: knows.map(|_| Number::ZERO),
            unbalanced: 0,
            miscounted: 0,
            lower_case: 0,
            first: None,
        });
        let last = self.facts.len() - 1;
        &mut self.facts[last]
    }

    /// Takes note of a count or control number that does not agree.
    pub(super) fn expect(
        &mut self,
        segment: &Segment,
        element: usize,
        expected: &str,
        what: &str,
    ) -> Result<(), ReadError> {
        let said = segment.value(element, 1);
        let same = match (said.parse::<u64>(), expected.parse::<u64>()) {
            (Ok(said), Ok(expected)) => said == expected,
            _ => said == expected,
        };
        if same {
            return Ok(());
        }
        let text = format!(
            "{}{element:02} states {said}, and {what} {expected}",
            segment.id
        );
        if self.source.miscounted == Miscounted::Refuse {
            let offset = self.segments.offset();
            return Err(self
                .path
                .error(ReadProblem::Miscounted { offset, what: text }));
        }
        let kind = self
            .facts
            .last()
            .map_or_else(String::new, |fact| fact.kind.clone());
        let fact = self.fact(&kind, None);
        fact.miscounted += 1;
        fact.first.get_or_insert(text);
        Ok(())
    }

    /// Takes note of a segment whose name is not written in capitals.
    #[cold]
    pub(super) fn small(&mut self, segment: &str) {
        let text = format!("{segment} is read as {}", segment.to_ascii_uppercase());
        let kind = match (&self.message, self.facts.last()) {
            (Some(message), _) => message.kind.clone(),
            (None, Some(last)) => last.kind.clone(),
            // It is text with the first message.
            (None, None) => {
                self.early.push(text);
                return;
            }
        };
        self.note_small(&kind, text);
    }

    /// Takes note of those that stood before the first message.
    pub(super) fn early(&mut self, kind: &str) {
        for text in std::mem::take(&mut self.early) {
            self.note_small(kind, text);
        }
    }

    fn note_small(&mut self, kind: &str, text: String) {
        let fact = self.fact(kind, None);
        fact.lower_case += 1;
        fact.first.get_or_insert(text);
    }
}
