//! Reads property lists, XML and binary, as JSON.

use std::io::{Cursor, Read};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use plist::Value;
use serde_json::{Map, Number, Value as Json};

use super::pieces::MAX_LINE;
use crate::json_walk::MAX_DEPTH;

/// Reads a whole property list: one dictionary, or a list of them.
///
/// Dates become RFC 3339, data becomes base64 (RFC 4648).
///
/// # Errors
/// When it is none, too large or too deep.
pub(crate) fn read_property_list(input: impl Read) -> Result<Vec<Map<String, Json>>, String> {
    let mut bytes = Vec::new();
    input.take(MAX_LINE as u64 + 1).read_to_end(&mut bytes).map_err(|error| error.to_string())?;
    if bytes.len() > MAX_LINE {
        return Err(format!("a property list may not be longer than {} MiB", MAX_LINE >> 20));
    }
    check_depth(&bytes)?;
    let value = Value::from_reader(Cursor::new(bytes)).map_err(|error| format!("this is no property list: {error}"))?;
    let records = match json(&value, 0)? {
        Json::Object(record) => vec![Json::Object(record)],
        Json::Array(records) => records,
        _ => return Err("a property list of a device is a dictionary".to_owned()),
    };
    records
        .into_iter()
        .map(|record| match record {
            Json::Object(record) => Ok(record),
            _ => Err("a property list of devices holds dictionaries alone".to_owned()),
        })
        .collect()
}

/// The elements of an XML property list are counted before it is read, since the reader goes down without a bound.
fn check_depth(bytes: &[u8]) -> Result<(), String> {
    if bytes.starts_with(b"bplist") {
        return Ok(());
    }
    let mut depth = 0_usize;
    let mut at = 0;
    while let Some(found) = bytes[at..].iter().position(|byte| *byte == b'<') {
        at += found + 1;
        match bytes.get(at) {
            Some(b'/') => depth = depth.saturating_sub(1),
            Some(b'!' | b'?') | None => {}
            Some(_) => {
                let end = bytes[at..].iter().position(|byte| *byte == b'>').map_or(bytes.len(), |end| at + end);
                depth += usize::from(bytes.get(end.wrapping_sub(1)) != Some(&b'/'));
            }
        }
        // The list itself, its values and their keys each count.
        if depth > MAX_DEPTH + 2 {
            return Err(format!("byte {at}: nested deeper than {MAX_DEPTH} levels"));
        }
    }
    Ok(())
}

fn json(value: &Value, depth: usize) -> Result<Json, String> {
    if depth > MAX_DEPTH {
        return Err(format!("nested deeper than {MAX_DEPTH} levels"));
    }
    Ok(match value {
        Value::Array(items) => Json::Array(items.iter().map(|item| json(item, depth + 1)).collect::<Result<_, _>>()?),
        Value::Dictionary(fields) => Json::Object(
            fields
                .iter()
                .map(|(key, value)| Ok((key.clone(), json(value, depth + 1)?)))
                .collect::<Result<_, String>>()?,
        ),
        Value::Boolean(truth) => Json::Bool(*truth),
        Value::Data(bytes) => Json::String(STANDARD.encode(bytes)),
        Value::Date(date) => Json::String(date.to_xml_format()),
        Value::Real(number) => Number::from_f64(*number).map_or(Json::Null, Json::Number),
        Value::Integer(number) => match (number.as_signed(), number.as_unsigned()) {
            (Some(number), _) => Json::from(number),
            (None, Some(number)) => Json::from(number),
            (None, None) => Json::Null,
        },
        Value::String(text) => Json::String(text.clone()),
        Value::Uid(uid) => Json::from(uid.get()),
        _ => return Err("a kind of value that is not known".to_owned()),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn xml(body: &str) -> String {
        format!("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<plist version=\"1.0\">{body}</plist>")
    }

    fn read(text: &str) -> Result<String, String> {
        Ok(Json::Array(read_property_list(text.as_bytes())?.into_iter().map(Json::Object).collect()).to_string())
    }

    #[test]
    fn every_kind_of_value_has_its_json_in_xml_and_binary() {
        let text = xml(
            "<dict><key>n</key><integer>-5</integer><key>r</key><real>1.5</real><key>t</key><true/><key>d</key>\
             <date>2027-03-01T06:00:00Z</date><key>b</key><data>aGk=</data><key>l</key><array><string>x</string></array></dict>",
        );
        let json = r#"[{"n":-5,"r":1.5,"t":true,"d":"2027-03-01T06:00:00Z","b":"aGk=","l":["x"]}]"#;
        assert_eq!(read(&text).unwrap(), json);
        let value = Value::from_reader_xml(text.as_bytes()).unwrap();
        let mut binary = Vec::new();
        value.to_writer_binary(&mut binary).unwrap();
        let records = read_property_list(&binary[..]).unwrap();
        assert_eq!(Json::Array(records.into_iter().map(Json::Object).collect()).to_string(), json);
    }

    #[test]
    fn what_is_none_or_too_deep_is_refused() {
        assert!(read("hello").unwrap_err().contains("no property list"));
        assert!(read(&xml("<string>x</string>")).unwrap_err().contains("is a dictionary"));
        assert!(read(&xml("<array><true/></array>")).unwrap_err().contains("dictionaries alone"));
        for depth in [200, 100_000] {
            let deep = xml(&format!("{}{}", "<array>".repeat(depth), "</array>".repeat(depth)));
            assert!(read(&deep).unwrap_err().contains("deeper"));
        }
        assert!(read(&xml("<dict><key>a</key>")).is_err());
        assert!(read_property_list(&b"bplist00\xff\xff"[..]).is_err());
    }
}
