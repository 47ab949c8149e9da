//! The form of job files as JSON Schema, made of the types that they are read into.

use std::collections::HashMap;

use schemars::{JsonSchema, SchemaGenerator, generate::SchemaSettings};
use serde_json::{Map, Value, json};

use super::{COMMANDS, VerifyJob};
use crate::job::{DeliverJob, InspectJob, Job, Notification};
use numerant_format::{ReadOptions, Side, Takes};
use numerant_formats::options;

/// Keys of a job that are for some commands only.
const ONLY_FOR: &[(&str, &[&str])] = &[
    ("by", &["split", "fill"]),
    ("case", &["split", "fill"]),
    ("others", &["split", "fill"]),
    ("rows", &["split"]),
    ("parts", &["split"]),
    ("max-size", &["split"]),
    ("each", &["split"]),
    ("per-sheet", &["split"]),
    ("like-source", &["split"]),
    ("as", &["combine"]),
    ("formulas", &["split", "combine"]),
    ("template", &["fill"]),
    ("put", &["fill"]),
    ("occupied", &["fill"]),
    ("incomplete", &["fill"]),
    ("style-down", &["fill"]),
    ("columns", &["split", "combine"]),
    ("to", &["split", "convert"]),
    ("stop-on-error", &["convert"]),
];

/// Keys of a job that is only looked at, besides those of how it is read.
const INSPECTED: &[&str] = &[
    "values",
    "show",
    "details",
    "sources",
    "recursive",
    "pick",
    "skip",
    "from-name",
    "source-column",
    "date-format",
    "decimal-comma",
    "steps",
    "on-error",
    "memory",
    "page",
];

/// The properties of a command's job by key, and the definitions that they refer to.
fn properties(command: &str, generator: &mut SchemaGenerator) -> Map<String, Value> {
    let schema = match command {
        "verify" => VerifyJob::json_schema(generator),
        "deliver" => DeliverJob::json_schema(generator),
        "inspect" => InspectJob::json_schema(generator),
        _ => Job::json_schema(generator),
    };
    let mut properties = match schema.get("properties") {
        Some(Value::Object(properties)) => properties.clone(),
        _ => Map::new(),
    };
    let sides: &[Side] = match command {
        "deliver" => &[],
        "inspect" | "verify" => &[Side::Reading],
        _ => &[Side::Reading, Side::Writing],
    };
    let mut described = Map::new();
    for option in sides.iter().flat_map(|side| options(*side)) {
        let mut property = match option.takes {
            Takes::Nothing => json!({ "type": "boolean" }),
            Takes::Text | Takes::File => json!({ "type": "string" }),
            Takes::Texts => json!({ "type": "array", "items": { "type": "string" } }),
            Takes::Number => json!({ "type": "integer", "minimum": 0 }),
            Takes::Choice { of, default } => json!({ "enum": of, "default": default }),
        };
        property["description"] = json!(option.help);
        described.insert(option.name.to_owned(), property);
    }
    if command == "inspect" {
        let read = ReadOptions::json_schema(generator);
        let read = read.get("properties").and_then(Value::as_object);
        let is_read = |key: &String| read.is_some_and(|read| read.contains_key(key));
        properties.retain(|key, _| INSPECTED.contains(&key.as_str()) || is_read(key));
    } else if command != "verify" && command != "deliver" {
        for (key, commands) in ONLY_FOR {
            if !commands.contains(&command) {
                properties.remove(*key);
            }
        }
    }
    properties.extend(described);
    properties
}

fn generator() -> SchemaGenerator {
    SchemaSettings::draft2020_12().into_generator()
}

/// The keys that a job of this command may have.
pub(super) fn keys(command: &str) -> Vec<String> {
    let mut keys: Vec<String> = properties(command, &mut generator())
        .into_iter()
        .map(|(key, _)| key)
        .collect();
    keys.push("command".to_owned());
    keys
}

/// The keys of `[notify]`.
pub(super) fn notification_keys() -> Vec<String> {
    let schema = Notification::json_schema(&mut generator());
    let properties = schema.get("properties").and_then(Value::as_object);
    properties.map_or_else(Vec::new, |properties| properties.keys().cloned().collect())
}

/// What the keys of a command's job mean, each in one line.
pub(super) fn meanings(command: &str) -> HashMap<String, String> {
    let properties = properties(command, &mut generator()).into_iter();
    let meaning = |(key, property): (String, Value)| {
        let text = property.get("description")?.as_str()?;
        Some((key, text.split_whitespace().collect::<Vec<_>>().join(" ")))
    };
    properties.filter_map(meaning).collect()
}

/// The JSON Schema of job files.
pub fn schema() -> Value {
    let mut generator = generator();
    let jobs: Vec<Value> = COMMANDS
        .iter()
        .map(|command| {
            let mut all = Map::new();
            let said = json!({ "const": command, "description": "What the job does." });
            all.insert("command".to_owned(), said);
            all.extend(properties(command, &mut generator));
            json!({
                "title": command,
                "type": "object",
                "properties": all,
                "required": ["command"],
                "additionalProperties": false,
            })
        })
        .collect();
    let mut notification = Notification::json_schema(&mut generator);
    notification.insert("required".to_owned(), json!(Notification::REQUIRED));
    notification.insert("additionalProperties".to_owned(), json!(false));
    let scalar = json!({ "type": ["string", "integer", "number", "boolean"] });
    json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Numerant job file",
        "description": "Jobs of Numerant, as TOML; docs/jobs.md explains them.",
        "type": "object",
        "properties": {
            "params": {
                "description": "Parameters that texts of the jobs name as ${name}, with defaults.",
                "type": "object",
                "additionalProperties": {
                    "anyOf": [
                        scalar,
                        {
                            "type": "object",
                            "properties": {
                                "about": { "type": "string", "description": "What it is for." },
                                "default": scalar,
                            },
                            "additionalProperties": false,
                        },
                    ],
                },
            },
            "notify": notification,
            "job": {
                "description": "The jobs, which run in this order.",
                "type": "array",
                "minItems": 1,
                "items": { "oneOf": jobs },
            },
        },
        "required": ["job"],
        "additionalProperties": false,
        "$defs": generator.take_definitions(true),
    })
}
