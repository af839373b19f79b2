//! The recipe's JSON schema for editors, made from the command lines themselves.

use clap::{Arg, ArgAction};
use serde_json::{Map, Value, json};

use super::options::{is_switch, of_command};
use super::{COMMANDS, FOR_PARTS, FORMAT};

/// The schema (JSON Schema 2020-12).
pub fn schema() -> Value {
    let text = |about: &str| json!({ "type": "string", "minLength": 1, "description": about });
    let texts = |about: &str| json!({ "description": about, "type": ["array", "string"], "items": { "type": "string" } });
    let mut properties = Map::new();
    let mut put = |key: &str, value: Value| {
        properties.insert(key.to_owned(), value);
    };
    put("format", json!({ "const": FORMAT }));
    put("name", text("Start of every result's name"));
    put(
        "frames",
        texts("Folders, files and patterns, as seen from the recipe"),
    );
    put("target", text("The target, where the frames show several"));
    put("out", text("Folder of the results"));
    put("library", text("Where calibration masters are kept"));
    put(
        "panels",
        json!({ "type": "boolean", "description": "Several frames of a filter are panels of a mosaic" }),
    );
    put(
        "filters",
        json!({
            "type": "object",
            "description": "Filters of frames, by patterns of their names",
            "additionalProperties": { "type": ["string", "array"], "items": { "type": "string" } }
        }),
    );
    put("memory", text("Memory for tiles in flight, as in 1G"));
    put("palettes", texts("Palettes, each for one picture"));
    for command in COMMANDS {
        put(command, section(command));
    }
    let of_picture = json!({
        "type": "array",
        "items": {
            "type": "object",
            "required": ["palette"],
            "additionalProperties": false,
            "properties": {
                "name": text("What it is called besides the target"),
                "palette": text("Its palette"),
                "compose": section("compose"),
                "finish": section("finish"),
            }
        }
    });
    put("picture", of_picture);
    json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Recipe of jigsawa",
        "type": "object",
        "required": ["format", "frames"],
        "additionalProperties": false,
        "properties": properties,
    })
}

/// The options of a command. Both strokes are read in a key; the schema has that of the command line.
fn section(command: &str) -> Value {
    let mut properties: Map<String, Value> = of_command(command)
        .iter()
        .filter_map(|a| Some((a.get_long()?.to_owned(), option(a))))
        .collect();
    let whole = |properties: &Map<String, Value>| json!({ "type": "object", "additionalProperties": false, "properties": properties });
    if FOR_PARTS.contains(&command) {
        let parts = json!({
            "type": "object",
            "description": "Options of one filter or one panel alone, by its name",
            "additionalProperties": whole(&properties),
        });
        properties.insert("for".to_owned(), parts);
    }
    whole(&properties)
}

fn option(arg: &Arg) -> Value {
    let about = arg.get_help().map(ToString::to_string).unwrap_or_default();
    if is_switch(arg) {
        return json!({ "type": "boolean", "description": about });
    }
    let choices: Vec<String> = arg
        .get_possible_values()
        .iter()
        .map(|v| v.get_name().to_owned())
        .collect();
    if !choices.is_empty() {
        let one = json!({ "enum": choices });
        if matches!(arg.get_action(), ArgAction::Append) {
            let several = json!({ "type": "array", "items": { "type": "string" } });
            return json!({ "anyOf": [one, several], "description": about });
        }
        return json!({ "enum": choices, "description": about });
    }
    json!({ "type": ["string", "number", "array"], "description": about })
}
