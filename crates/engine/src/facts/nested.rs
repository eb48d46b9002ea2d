//! Facts by their paths, as objects in objects: how templates ask for them.

use serde_json::{Map, Value as Json, json};

/// Puts a value at a path, `os.version`; where something stands there already, or on the way, nothing is changed.
pub(crate) fn insert_at(place: &mut Map<String, Json>, path: &str, value: Json) {
    match path.split_once('.') {
        None => {
            place.entry(path).or_insert(value);
        }
        Some((key, rest)) => {
            if let Json::Object(inner) = place.entry(key).or_insert_with(|| json!({})) {
                insert_at(inner, rest, value);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_stands_in_the_way_of_a_path_stays() {
        let mut place = Map::new();
        for (path, value) in [("os.version", 1), ("os.build", 2), ("os.version", 3), ("os.version.major", 4), ("id", 5)]
        {
            insert_at(&mut place, path, json!(value));
        }
        assert_eq!(Json::Object(place), json!({ "os": { "version": 1, "build": 2 }, "id": 5 }));
    }
}
