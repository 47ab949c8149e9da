//! Samples of JSON Schemas.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use serde_json::{Map, Value};

use super::super::SchemaProblem;
use super::{MAX_DEPTH, MAX_PARTS, Sample, place};

pub(super) fn sample(path: &Path, text: &str) -> Result<Option<Sample>, SchemaProblem> {
    let Ok(schema) = serde_json::from_str::<Value>(text) else {
        return Ok(None);
    };
    let draft = schema.get("$schema").and_then(Value::as_str);
    if !draft.is_some_and(|draft| draft.contains("json-schema.org")) {
        return Ok(None);
    }
    let mut sampler = Sampler {
        files: HashMap::new(),
        parts: 0,
        has_records: false,
        notes: Vec::new(),
    };
    let file = std::path::absolute(path)?;
    sampler.files.insert(file.clone(), schema.clone());
    let value = sampler.value(&schema, &file, &mut Vec::new(), 0)?;
    let mut text = serde_json::to_string_pretty(&value)
        .map_err(|error| SchemaProblem::Invalid(error.to_string()))?;
    text.push('\n');
    Ok(Some(Sample {
        text,
        notes: sampler.notes,
    }))
}

struct Sampler {
    files: HashMap<PathBuf, Value>,
    parts: usize,
    /// There is a part for each record.
    has_records: bool,
    notes: Vec<String>,
}

impl Sampler {
    fn note(&mut self, path: &[String], what: &str) {
        let path = match path {
            [] => "the document".to_owned(),
            path => path.join("."),
        };
        let note = format!("{path}: {what}");
        if !self.notes.contains(&note) {
            self.notes.push(note);
        }
    }

    /// The schema that another refers to, and the file that it is in; `None` if it refers to none.
    fn referred(
        &mut self,
        schema: &Value,
        file: &Path,
    ) -> Result<Option<(Value, PathBuf)>, SchemaProblem> {
        let Some(reference) = schema.get("$ref").and_then(Value::as_str) else {
            return Ok(None);
        };
        let missing = || SchemaProblem::Missing(reference.to_owned());
        let (location, pointer) = reference.split_once('#').unwrap_or((reference, ""));
        let target = match location {
            "" => file.to_owned(),
            location if location.contains("://") => return Err(missing()),
            location => file.parent().unwrap_or(file).join(location),
        };
        if !self.files.contains_key(&target) {
            let text = std::fs::read_to_string(&target).map_err(|_| missing())?;
            let schema = serde_json::from_str(&text)
                .map_err(|error| SchemaProblem::Invalid(error.to_string()))?;
            self.files.insert(target.clone(), schema);
        }
        let found = self.files[&target].pointer(pointer).cloned();
        Ok(Some((found.ok_or_else(missing)?, target)))
    }

    fn value(
        &mut self,
        schema: &Value,
        file: &Path,
        path: &mut Vec<String>,
        depth: usize,
    ) -> Result<Value, SchemaProblem> {
        self.parts += 1;
        if depth > MAX_DEPTH || self.parts > MAX_PARTS {
            self.note(path, "is nested too deeply to be shown");
            return Ok(Value::from(place(path)));
        }
        if let Some((target, file)) = self.referred(schema, file)? {
            return self.value(&target, &file, path, depth + 1);
        }
        for word in ["oneOf", "anyOf"] {
            if let Some(choices) = schema.get(word).and_then(Value::as_array)
                && let Some(first) = choices.first()
            {
                let what = format!("one of {} alternatives; the first is shown", choices.len());
                self.note(path, &what);
                return self.value(first, file, path, depth + 1);
            }
        }
        if let Some(constant) = schema.get("const") {
            return Ok(match constant {
                Value::String(text) => Value::from(text.replace('{', "{{").replace('}', "}}")),
                other => other.clone(),
            });
        }
        if let Some(values) = schema.get("enum").and_then(Value::as_array) {
            let values: Vec<String> = values.iter().map(ToString::to_string).collect();
            self.note(path, &format!("one of {}", values.join(", ")));
        }
        let kind = match schema.get("type") {
            Some(Value::String(kind)) => kind.as_str(),
            Some(Value::Array(kinds)) => kinds
                .iter()
                .filter_map(Value::as_str)
                .find(|kind| *kind != "null")
                .unwrap_or("string"),
            _ if schema.get("properties").is_some() || schema.get("allOf").is_some() => "object",
            _ if schema.get("items").is_some() => "array",
            _ => "string",
        };
        match kind {
            "object" => self.object(schema, file, path, depth),
            "array" => self.list(schema, file, path, depth),
            "null" => Ok(Value::Null),
            _ => Ok(Value::from(place(path))),
        }
    }

    fn object(
        &mut self,
        schema: &Value,
        file: &Path,
        path: &mut Vec<String>,
        depth: usize,
    ) -> Result<Value, SchemaProblem> {
        let mut members = Map::new();
        let mut required = Vec::new();
        self.members(schema, file, path, depth, &mut members, &mut required)?;
        let optional: Vec<&str> = members
            .keys()
            .map(String::as_str)
            .filter(|name| !name.contains(['{', '}']) && !required.iter().any(|one| one == name))
            .collect();
        if optional.is_empty() {
            return Ok(Value::Object(members));
        }
        let mut object = Map::new();
        object.insert("{optional}".to_owned(), Value::from(optional));
        object.extend(members);
        Ok(Value::Object(object))
    }

    fn members(
        &mut self,
        schema: &Value,
        file: &Path,
        path: &mut Vec<String>,
        depth: usize,
        members: &mut Map<String, Value>,
        required: &mut Vec<String>,
    ) -> Result<(), SchemaProblem> {
        self.parts += 1;
        if depth > MAX_DEPTH || self.parts > MAX_PARTS {
            return Ok(());
        }
        if let Some((target, file)) = self.referred(schema, file)? {
            return self.members(&target, &file, path, depth + 1, members, required);
        }
        let parts = schema.get("allOf").and_then(Value::as_array);
        for part in parts.into_iter().flatten() {
            self.members(part, file, path, depth + 1, members, required)?;
        }
        let names = schema.get("required").and_then(Value::as_array);
        let names = names.into_iter().flatten().filter_map(Value::as_str);
        required.extend(names.map(str::to_owned));
        let properties = schema.get("properties").and_then(Value::as_object);
        for (name, property) in properties.into_iter().flatten() {
            path.push(name.clone());
            let value = self.value(property, file, path, depth + 1)?;
            path.pop();
            members.insert(name.replace('{', "{{").replace('}', "}}"), value);
        }
        Ok(())
    }

    fn list(
        &mut self,
        schema: &Value,
        file: &Path,
        path: &[String],
        depth: usize,
    ) -> Result<Value, SchemaProblem> {
        let Some(items) = schema.get("items") else {
            return Ok(Value::Array(Vec::new()));
        };
        // The first list has the records; those in them are lists of columns.
        if !std::mem::replace(&mut self.has_records, true) {
            let value = self.value(items, file, &mut Vec::new(), depth + 1)?;
            let value = match value.as_str() {
                Some("{}") => Value::from("{value}"),
                _ => value,
            };
            return Ok(Value::from(vec![Value::from("{each}"), value]));
        }
        let mut inner = path.to_vec();
        if let Some(last) = inner.last_mut() {
            last.push_str("[*]");
        }
        let mark = format!("{{each {}}}", inner.join("."));
        let value = self.value(items, file, &mut inner, depth + 1)?;
        Ok(Value::from(vec![Value::from(mark), value]))
    }
}
