//! Reads property lists, XML and binary, as JSON. Both forms are streams of events, which one builder puts together: it
//! counts levels, values and bytes while they come, since a short file may refer to the same values again and again.

use std::io::{Cursor, Read};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use fencepost_core::limits::{self, DEPTH, RECORD_BYTES};
use plist::Date;
use plist::stream::{BinaryReader, Event as PlistEvent};
use quick_xml::Reader as XmlReader;
use quick_xml::escape::resolve_xml_entity;
use quick_xml::events::Event as XmlEvent;
use serde_json::{Map, Number, Value as Json};

use super::mapping::RawRecord;

/// Reads a whole property list: one dictionary, or a list of them.
///
/// Dates become RFC 3339, data becomes base64 (RFC 4648).
///
/// # Errors
/// Fails if it is no property list, too large or too deep, or holds what cannot be read.
pub(crate) fn read_property_list(input: impl Read) -> Result<Vec<RawRecord>, String> {
    let mut bytes = Vec::new();
    input.take(RECORD_BYTES as u64 + 1).read_to_end(&mut bytes).map_err(|error| error.to_string())?;
    if bytes.len() > RECORD_BYTES {
        return Err(format!("a property list may not be longer than {}", limits::size(RECORD_BYTES as u64)));
    }
    let mut builder = Builder::new(bytes.len());
    if bytes.starts_with(b"bplist") {
        read_binary(&bytes, &mut builder)?;
    } else {
        let text = std::str::from_utf8(&bytes)
            .map_err(|error| format!("byte {}: not UTF-8; this is no property list", error.valid_up_to()))?;
        read_xml(text, &mut builder)?;
    }
    builder.finish()
}

/// One step of a property list.
enum Event {
    StartArray,
    StartDictionary,
    End,
    /// A text, or a key of a dictionary.
    Text(String),
    Value(Json),
}

/// A list or a dictionary that has begun.
enum Open {
    Array(Vec<Json>),
    Dictionary { fields: Map<String, Json>, key: Option<String> },
}

/// Puts values together.
struct Builder {
    open: Vec<Open>,
    /// The value, once it is whole.
    root: Option<Json>,
    /// Values that may still come, and the bytes of text in them.
    values_left: usize,
    bytes_left: usize,
    /// How many values there may be, for the error.
    most_values: usize,
    /// For each record, the paths of keys that were given twice.
    doubled: Vec<Vec<String>>,
}

impl Builder {
    /// `length` is that of the file: every value takes at least a byte where it stands or where it is referred to.
    fn new(length: usize) -> Self {
        Self {
            open: Vec::new(),
            root: None,
            values_left: length,
            bytes_left: RECORD_BYTES,
            most_values: length,
            doubled: Vec::new(),
        }
    }

    fn add(&mut self, event: Event) -> Result<(), String> {
        self.values_left = self.values_left.checked_sub(1).ok_or_else(|| {
            format!("more than {} values, the same ones referred to again and again", self.most_values)
        })?;
        match event {
            Event::StartArray => self.begin(Open::Array(Vec::new())),
            Event::StartDictionary => self.begin(Open::Dictionary { fields: Map::new(), key: None }),
            Event::End => match self.open.pop() {
                Some(Open::Array(items)) => self.place(Json::Array(items)),
                Some(Open::Dictionary { fields, key: None }) => self.place(Json::Object(fields)),
                Some(Open::Dictionary { key: Some(key), .. }) => {
                    Err(format!("no value under the key `{}`", limits::quoted(&key)))
                }
                None => Err("a list or dictionary ends that did not begin".to_owned()),
            },
            Event::Text(text) => {
                self.take_bytes(text.len())?;
                if let Some(Open::Dictionary { key: key @ None, .. }) = self.open.last_mut() {
                    *key = Some(text);
                    return Ok(());
                }
                self.place(Json::String(text))
            }
            Event::Value(value) => {
                self.take_bytes(value.as_str().map_or(0, str::len))?;
                self.place(value)
            }
        }
    }

    fn take_bytes(&mut self, count: usize) -> Result<(), String> {
        self.bytes_left = self
            .bytes_left
            .checked_sub(count)
            .ok_or_else(|| format!("more than {} of text in it", limits::size(RECORD_BYTES as u64)))?;
        Ok(())
    }

    fn begin(&mut self, open: Open) -> Result<(), String> {
        if self.open.len() >= DEPTH {
            return Err(format!("nested deeper than {DEPTH} levels"));
        }
        if let Some(Open::Dictionary { key: None, .. }) = self.open.last() {
            return Err("a list or dictionary stands where a key is due".to_owned());
        }
        self.open.push(open);
        Ok(())
    }

    /// Puts a value where it belongs.
    fn place(&mut self, value: Json) -> Result<(), String> {
        match self.open.last_mut() {
            None if self.root.is_some() => return Err("something stands behind the end of the list".to_owned()),
            None => self.root = Some(value),
            Some(Open::Array(items)) => items.push(value),
            Some(Open::Dictionary { fields, key }) => {
                let key = key.take().ok_or("a value stands where a key is due")?;
                if fields.contains_key(&key) {
                    self.note_doubled(key);
                } else {
                    fields.insert(key, value);
                }
            }
        }
        Ok(())
    }

    /// Remembers a key that was given twice, by its path in its record.
    fn note_doubled(&mut self, key: String) {
        let mut record = 0;
        let mut path = Vec::new();
        for (level, open) in self.open.iter().enumerate() {
            match open {
                Open::Array(items) if level == 0 => record = items.len(),
                Open::Dictionary { key: Some(key), .. } => path.push(key.clone()),
                Open::Array(_) | Open::Dictionary { key: None, .. } => {}
            }
        }
        path.push(key);
        self.doubled.resize(self.doubled.len().max(record + 1), Vec::new());
        self.doubled[record].push(path.join("."));
    }

    fn finish(self) -> Result<Vec<RawRecord>, String> {
        let records = match self.root {
            _ if !self.open.is_empty() => return Err("the property list ends too soon".to_owned()),
            Some(Json::Object(record)) => vec![Json::Object(record)],
            Some(Json::Array(records)) => records,
            Some(_) => return Err("a property list of a device is a dictionary".to_owned()),
            None => return Err("this is no property list: nothing stands in it".to_owned()),
        };
        let mut doubled = self.doubled.into_iter();
        records
            .into_iter()
            .map(|record| match record {
                Json::Object(members) => {
                    Ok(RawRecord { members, doubled: doubled.next().unwrap_or_default(), key: None })
                }
                _ => Err("a property list of devices holds dictionaries alone".to_owned()),
            })
            .collect()
    }
}

fn read_binary(bytes: &[u8], builder: &mut Builder) -> Result<(), String> {
    for event in BinaryReader::new(Cursor::new(bytes)) {
        let event = event.map_err(|error| format!("this is no property list: {error}"))?;
        let signed_or_not = |number: plist::Integer| match (number.as_signed(), number.as_unsigned()) {
            (Some(number), _) => Json::from(number),
            (None, number) => number.map_or(Json::Null, Json::from),
        };
        builder.add(match event {
            PlistEvent::StartArray(_) => Event::StartArray,
            PlistEvent::StartDictionary(_) => Event::StartDictionary,
            PlistEvent::EndCollection => Event::End,
            PlistEvent::String(text) => Event::Text(text.into_owned()),
            PlistEvent::Boolean(truth) => Event::Value(Json::Bool(truth)),
            PlistEvent::Data(bytes) => Event::Value(Json::String(STANDARD.encode(bytes))),
            PlistEvent::Date(date) => Event::Value(Json::String(date.to_xml_format())),
            PlistEvent::Integer(number) => Event::Value(signed_or_not(number)),
            PlistEvent::Real(number) => Event::Value(number_of(number)),
            PlistEvent::Uid(uid) => Event::Value(Json::from(uid.get())),
            _ => return Err("a kind of value that is not known".to_owned()),
        })?;
    }
    Ok(())
}

/// JSON has no infinite numbers.
fn number_of(number: f64) -> Json {
    Number::from_f64(number).map_or(Json::Null, Json::Number)
}

fn read_xml(text: &str, builder: &mut Builder) -> Result<(), String> {
    let mut reader = XmlReader::from_str(text);
    reader.config_mut().expand_empty_elements = true;
    reader.config_mut().check_end_names = true;
    let mut in_list = false;
    loop {
        let at = reader.buffer_position();
        let place = |message: String| format!("byte {at}: {message}");
        let event = reader.read_event().map_err(|error| place(format!("this is no property list: {error}")))?;
        match event {
            XmlEvent::Start(start) => match start.local_name().as_ref() {
                "plist" if !in_list => in_list = true,
                _ if !in_list => return Err(place("this is no property list: it begins with <plist>".to_owned())),
                "array" => builder.add(Event::StartArray).map_err(place)?,
                "dict" => builder.add(Event::StartDictionary).map_err(place)?,
                kind => {
                    let kind = kind.to_owned();
                    let content = content(&mut reader).map_err(place)?;
                    let event = scalar(&kind, content).map_err(place)?;
                    builder.add(event).map_err(place)?;
                }
            },
            XmlEvent::End(end) => {
                if matches!(end.local_name().as_ref(), "array" | "dict") {
                    builder.add(Event::End).map_err(place)?;
                }
            }
            XmlEvent::Eof => return Ok(()),
            XmlEvent::Text(text) if text.as_ref().chars().all(char::is_whitespace) => {}
            XmlEvent::Text(_) | XmlEvent::CData(_) | XmlEvent::GeneralRef(_) => {
                return Err(place("this is no property list: text stands where a value is due".to_owned()));
            }
            XmlEvent::Decl(_) | XmlEvent::DocType(_) | XmlEvent::PI(_) | XmlEvent::Comment(_) | XmlEvent::Empty(_) => {}
        }
    }
}

/// Reads the text of an element up to its end.
fn content(reader: &mut XmlReader<&[u8]>) -> Result<String, String> {
    let mut content = String::new();
    loop {
        match reader.read_event().map_err(|error| format!("this is no property list: {error}"))? {
            XmlEvent::Text(text) => content.push_str(text.as_ref()),
            XmlEvent::CData(text) => content.push_str(text.as_ref()),
            XmlEvent::GeneralRef(name) => {
                if let Some(c) = name.resolve_char_ref().map_err(|error| error.to_string())? {
                    content.push(c);
                } else {
                    let name: &str = name.as_ref();
                    let known = resolve_xml_entity(name);
                    content.push_str(known.ok_or_else(|| format!("`&{};` stands for nothing", limits::quoted(name)))?);
                }
            }
            XmlEvent::End(_) => return Ok(content),
            XmlEvent::Eof => return Err("the property list ends too soon".to_owned()),
            XmlEvent::Start(_) | XmlEvent::Empty(_) => return Err("an element within a value".to_owned()),
            XmlEvent::PI(_) | XmlEvent::Comment(_) | XmlEvent::Decl(_) | XmlEvent::DocType(_) => {}
        }
    }
}

/// Reads an element without elements in it.
fn scalar(kind: &str, content: String) -> Result<Event, String> {
    let no = |what: &str| format!("`{}` is no {what}", limits::quoted(content.trim()));
    Ok(match kind {
        "key" | "string" => Event::Text(content),
        "true" => Event::Value(Json::Bool(true)),
        "false" => Event::Value(Json::Bool(false)),
        "integer" => Event::Value(integer(content.trim()).ok_or_else(|| no("whole number"))?),
        "real" => Event::Value(number_of(content.trim().parse().map_err(|_| no("number"))?)),
        "date" => {
            let date = Date::from_xml_format(content.trim()).map_err(|_| no("date"))?;
            Event::Value(Json::String(date.to_xml_format()))
        }
        "data" => {
            let mut encoded = content;
            encoded.retain(|c| !c.is_ascii_whitespace());
            let bytes = STANDARD.decode(&encoded).map_err(|_| "this data is no base64".to_owned())?;
            Event::Value(Json::String(STANDARD.encode(bytes)))
        }
        other => return Err(format!("<{}> is no kind of value", limits::quoted(other))),
    })
}

/// Reads a whole number, decimal or hexadecimal.
fn integer(text: &str) -> Option<Json> {
    let (sign, digits) = text.strip_prefix('-').map_or((1, text), |digits| (-1, digits));
    if let Some(digits) = digits.strip_prefix("0x").or_else(|| digits.strip_prefix("0X")) {
        let number = i128::from(u64::from_str_radix(digits, 16).ok()?) * sign;
        return i64::try_from(number).map(Json::from).or_else(|_| u64::try_from(number).map(Json::from)).ok();
    }
    text.parse::<i64>().map(Json::from).or_else(|_| text.parse::<u64>().map(Json::from)).ok()
}

#[cfg(test)]
mod tests {
    use plist::Value;

    use super::*;

    fn xml(body: &str) -> String {
        format!("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<plist version=\"1.0\">{body}</plist>")
    }

    fn json(bytes: &[u8]) -> Result<String, String> {
        let records = read_property_list(bytes)?.into_iter().map(|record| Json::Object(record.members));
        Ok(Json::Array(records.collect()).to_string())
    }

    fn read(text: &str) -> Result<String, String> {
        json(text.as_bytes())
    }

    #[test]
    fn every_kind_of_value_has_its_json_in_xml_and_binary() {
        let text = xml(
            "<dict><key>n</key><integer>-5</integer><key>r</key><real>1.5</real><key>t</key><true/><key>d</key>\
             <date>2027-03-01T06:00:00Z</date><key>b</key><data>aGk=</data><key>l</key><array><string>x</string></array></dict>",
        );
        let expected = r#"[{"n":-5,"r":1.5,"t":true,"d":"2027-03-01T06:00:00Z","b":"aGk=","l":["x"]}]"#;
        assert_eq!(read(&text).unwrap(), expected);
        let value = Value::from_reader_xml(text.as_bytes()).unwrap();
        let mut binary = Vec::new();
        value.to_writer_binary(&mut binary).unwrap();
        assert_eq!(json(&binary).unwrap(), expected);
    }

    #[test]
    fn text_is_read_as_it_is_meant_or_refused() {
        let text = |body: &str| read(&xml(&format!("<dict><key>a</key><string>{body}</string></dict>")));
        assert_eq!(text("<![CDATA[<x>]]> &amp; &#233;").unwrap(), r#"[{"a":"<x> & é"}]"#);
        assert!(text("ye&foo;s").unwrap_err().contains("`&foo;` stands for nothing"));
        assert!(text("<b/>").unwrap_err().contains("an element within a value"));
        assert!(read(&xml("<dict>x<key>a</key><true/></dict>")).unwrap_err().contains("text stands"));
        assert!(read(&xml("<dict><key>a</key></dict>")).unwrap_err().contains("no value under the key `a`"));
        assert!(read(&xml("<dict><true/></dict>")).unwrap_err().contains("where a key is due"));
        assert!(read(&xml("<dict><key>a</key><integer>1.5</integer></dict>")).unwrap_err().contains("no whole number"));
        assert_eq!(read(&xml("<dict><key>a</key><integer>0xff</integer></dict>")).unwrap(), r#"[{"a":255}]"#);
    }

    #[test]
    fn keys_given_twice_are_remembered_by_their_path() {
        let device = |body: &str| format!("<dict><key>id</key><string>a</string>{body}</dict>");
        let twice = "<key>x</key><dict><key>y</key><true/><key>y</key><false/></dict>";
        let text = xml(&format!("<array>{}{}</array>", device(""), device(twice)));
        let doubled: Vec<_> =
            read_property_list(text.as_bytes()).unwrap().into_iter().map(|record| record.doubled).collect();
        assert_eq!(doubled, [vec![], vec!["x.y".to_owned()]]);
    }

    #[test]
    fn what_is_none_or_too_deep_is_refused() {
        assert!(read("hello").unwrap_err().contains("no property list"));
        assert!(read("<other/>").unwrap_err().contains("begins with <plist>"));
        assert!(read(&xml("<string>x</string>")).unwrap_err().contains("is a dictionary"));
        assert!(read(&xml("<array><true/></array>")).unwrap_err().contains("dictionaries alone"));
        for depth in [200, 100_000] {
            let deep = xml(&format!("{}{}", "<array>".repeat(depth), "</array>".repeat(depth)));
            assert!(read(&deep).unwrap_err().contains("deeper"));
        }
        assert!(read(&xml("<dict><key>a</key>")).is_err());
        assert!(read_property_list(&b"bplist00\xff\xff"[..]).is_err());
    }

    /// A binary property list of lists: each names the next so many times, and the last is empty.
    fn binary_lists(count: usize, times: usize) -> Vec<u8> {
        let mut out = b"bplist00".to_vec();
        let mut offsets = Vec::new();
        for object in 0..count {
            offsets.push(out.len() as u32);
            let refs = if object + 1 == count { 0 } else { times };
            match u8::try_from(refs) {
                Ok(refs) if refs < 15 => out.push(0xa0 | refs),
                _ => out.extend([0xaf, 0x10, refs as u8]),
            }
            for _ in 0..refs {
                out.extend((object as u32 + 1).to_be_bytes());
            }
        }
        let table = out.len() as u64;
        offsets.iter().for_each(|offset| out.extend(offset.to_be_bytes()));
        out.extend([0, 0, 0, 0, 0, 0, 4, 4]);
        out.extend((count as u64).to_be_bytes());
        out.extend(0_u64.to_be_bytes());
        out.extend(table.to_be_bytes());
        out
    }

    #[test]
    fn a_binary_list_that_is_deep_or_refers_to_itself_again_and_again_ends() {
        assert!(json(&binary_lists(500_000, 1)).unwrap_err().contains("deeper"));
        let error = json(&binary_lists(10, 20)).unwrap_err();
        assert!(error.contains("again and again"), "{error}");
    }
}
