//! Judges the program's JSON by the schemas in `docs/schema/`, with a validator that is not ours.

use jsonschema::Validator;
use serde_json::Value;
use std::collections::BTreeMap;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

static KNOWN: Mutex<BTreeMap<String, Arc<Validator>>> = Mutex::new(BTreeMap::new());

/// Fails the test if an answer, or a line of one, does not fit the schema of its command.
///
/// The schemas allow members that they do not name, since names are only ever added; here those are faults.
#[track_caller]
pub fn assert_fits(command: &str, answer: &Value) {
    let validator = {
        let mut known = KNOWN.lock().unwrap_or_else(PoisonError::into_inner);
        Arc::clone(known.entry(command.to_owned()).or_insert_with(|| Arc::new(validator(command))))
    };
    let faults: Vec<String> = validator.iter_errors(answer).map(|e| format!("{}: {e}", e.instance_path())).collect();
    assert!(faults.is_empty(), "the answer of {command} does not fit its schema: {}\n{answer:#}", faults.join("\n"));
}

fn validator(command: &str) -> Validator {
    let file = Path::new(env!("CARGO_MANIFEST_DIR")).join(format!("../../docs/schema/{command}.json"));
    let text = std::fs::read_to_string(&file).unwrap_or_else(|e| panic!("{}: {e}", file.display()));
    let mut schema: Value = serde_json::from_str(&text).unwrap();
    close(&mut schema);
    jsonschema::validator_for(&schema).unwrap()
}

/// Forbids members without a name in every object that the schema describes. Only where a value stands, not in the parts of which its
/// schema is composed: `unevaluatedProperties` looks through those (JSON Schema 2020-12 core, section 11.3).
fn close(site: &mut Value) {
    parts(site);
    if let Value::Object(members) = site {
        members.insert("unevaluatedProperties".into(), false.into());
    }
}

fn parts(schema: &mut Value) {
    let Value::Object(members) = schema else { return };
    for (word, value) in members {
        match (word.as_str(), value) {
            ("properties", Value::Object(all)) => all.values_mut().for_each(close),
            ("items" | "additionalProperties", value) => close(value),
            ("prefixItems", Value::Array(all)) => all.iter_mut().for_each(close),
            ("anyOf" | "allOf" | "oneOf", Value::Array(all)) => all.iter_mut().for_each(parts),
            ("$defs", Value::Object(all)) => all.values_mut().for_each(parts),
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn what_the_schema_does_not_name_or_names_otherwise_is_a_fault() {
        let good = json!({"tamga": 1, "command": "hosts", "ok": true, "file": "/etc/hosts", "hosts": [
            {"name": "a.test", "address": null, "state": "present", "change": "none", "why": null}]});
        assert_fits("hosts", &good);
        let fails = |change: &dyn Fn(&mut Value)| {
            let mut bad = good.clone();
            change(&mut bad);
            assert!(!validator("hosts").is_valid(&bad), "{bad}");
        };
        fails(&|v| v["surplus"] = json!(1));
        fails(&|v| v["hosts"][0]["surplus"] = json!(1));
        fails(&|v| v["hosts"][0]["name"] = json!(7));
        fails(&|v| drop(v.as_object_mut().unwrap().remove("file")));
        fails(&|v| v["command"] = json!("list"));
        fails(&|v| v["tamga"] = json!(2));
    }
}
