//! Goes through the records of one JSON document, one at a time: the items of a list at its root or at a path inside it, or
//! the one object there, or the members of an object. Holds one record; what is not a record is passed over by its brackets alone.

use std::io::{self, BufRead};

use fencepost_core::limits::RECORD_BYTES;

/// One record as it stands in the file.
pub(crate) struct RawRecord<'i> {
    /// The line it begins on, from 1.
    pub line: u64,
    /// Where it begins, in bytes.
    pub offset: u64,
    /// Its bytes; none when they are too many.
    pub bytes: Option<&'i [u8]>,
    /// The key that it stands at, where records are the members of an object.
    pub key: Option<String>,
}

/// Goes through the records at a dotted path; no path means the root. With `.*` at the end they are the members of the object there.
///
/// # Errors
/// When the file is cut short, has no such path, or what `each` returns.
pub(crate) fn for_each_item(
    reader: impl BufRead,
    path: Option<&str>,
    mut each: impl FnMut(RawRecord<'_>) -> Result<(), String>,
) -> Result<(), String> {
    let mut scan = Scan { reader, offset: 0, line: 1 };
    if scan.peek()? == Some(0xef) {
        for expected in [0xef, 0xbb, 0xbf] {
            if scan.next()? != Some(expected) {
                return Err("the file does not begin as UTF-8".to_owned());
            }
        }
    }
    scan.space()?;
    let (path, form) = match path {
        None => (None, Form::Items),
        Some("*") => (None, Form::Members),
        Some(path) => match path.strip_suffix(".*") {
            Some(object) => (Some(object), Form::Members),
            None => (Some(path), Form::Items),
        },
    };
    match path {
        None => scan.records(form, &mut each)?,
        Some(path) => scan.descend(path, form, &mut each, 0)?,
    }
    scan.space()?;
    match scan.peek()? {
        None => Ok(()),
        Some(b'{') if path.is_none() => {
            Err(scan.error("a second document begins here; one object a line is format = \"jsonl\""))
        }
        Some(_) => Err(scan.error("something follows the end of the document")),
    }
}

/// What the records are.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Form {
    /// The items of a list, or one object.
    Items,
    /// The members of an object.
    Members,
}

struct Scan<R> {
    reader: R,
    offset: u64,
    line: u64,
}

impl<R: BufRead> Scan<R> {
    fn error(&self, message: &str) -> String {
        format!("line {}, byte {}: {message}", self.line, self.offset)
    }

    fn peek(&mut self) -> Result<Option<u8>, String> {
        loop {
            match self.reader.fill_buf() {
                Ok(bytes) => return Ok(bytes.first().copied()),
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(error.to_string()),
            }
        }
    }

    fn next(&mut self) -> Result<Option<u8>, String> {
        let byte = self.peek()?;
        if let Some(byte) = byte {
            self.reader.consume(1);
            self.offset += 1;
            self.line += u64::from(byte == b'\n');
        }
        Ok(byte)
    }

    fn space(&mut self) -> Result<(), String> {
        while matches!(self.peek()?, Some(b' ' | b'\t' | b'\n' | b'\r')) {
            self.next()?;
        }
        Ok(())
    }

    /// Goes past one value; its bytes go into `into` while there is room. Returns whether there was.
    fn value(&mut self, into: &mut Vec<u8>) -> Result<bool, String> {
        into.clear();
        let (mut depth, mut quoted, mut escaped, mut room) = (0_u32, false, false, true);
        loop {
            let available = match self.reader.fill_buf() {
                Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                other => other.map_err(|error| error.to_string())?,
            };
            if available.is_empty() {
                return match (depth, quoted) {
                    (0, false) => Ok(room),
                    _ => Err(self.error("the file ends in the middle of a record")),
                };
            }
            let mut taken = 0;
            let mut done = false;
            for byte in available {
                if quoted {
                    match (*byte, escaped) {
                        (b'"', false) => quoted = false,
                        (b'\\', false) => escaped = true,
                        _ => escaped = false,
                    }
                } else {
                    match byte {
                        b'"' => quoted = true,
                        b'{' | b'[' => depth += 1,
                        b'}' | b']' | b',' if depth == 0 => {
                            done = true;
                            break;
                        }
                        b'}' | b']' => depth -= 1,
                        _ => {}
                    }
                }
                taken += 1;
                self.line += u64::from(*byte == b'\n');
                if depth == 0 && !quoted && matches!(*byte, b'}' | b']') {
                    done = true;
                    break;
                }
            }
            if into.len() + taken > RECORD_BYTES {
                room = false;
                into.clear();
            }
            if room {
                into.extend_from_slice(&available[..taken]);
            }
            self.reader.consume(taken);
            self.offset += taken as u64;
            if done {
                return Ok(room);
            }
        }
    }

    fn record(
        &mut self,
        key: Option<String>,
        each: &mut impl FnMut(RawRecord<'_>) -> Result<(), String>,
    ) -> Result<(), String> {
        let (line, offset) = (self.line, self.offset);
        let mut bytes = Vec::new();
        let room = self.value(&mut bytes)?;
        each(RawRecord { line, offset, bytes: room.then_some(bytes.as_slice()), key })
    }

    /// The records at hand.
    fn records(
        &mut self,
        form: Form,
        each: &mut impl FnMut(RawRecord<'_>) -> Result<(), String>,
    ) -> Result<(), String> {
        if form == Form::Members {
            if self.peek()? != Some(b'{') {
                return Err(self.error("the records are the members of an object, and this is none"));
            }
            return self.members(|scan, key| scan.record(Some(key), each));
        }
        match self.peek()? {
            Some(b'{') => return self.record(None, each),
            Some(b'[') => {
                self.next()?;
            }
            Some(_) => return Err(self.error("records are a list of objects, or one object")),
            None => return Err(self.error("the file ends where records were expected")),
        }
        self.space()?;
        if self.peek()? == Some(b']') {
            self.next()?;
            return Ok(());
        }
        loop {
            self.space()?;
            self.record(None, each)?;
            self.space()?;
            match self.next()? {
                Some(b',') => {}
                Some(b']') => return Ok(()),
                Some(_) => return Err(self.error("expected `,` or `]` after a record")),
                None => return Err(self.error("the file ends before its list of records does")),
            }
        }
    }

    /// Goes through the members of an object; `each` goes past the value of each.
    fn members(&mut self, mut each: impl FnMut(&mut Self, String) -> Result<(), String>) -> Result<(), String> {
        self.next()?;
        loop {
            self.space()?;
            match self.peek()? {
                Some(b'}') => {
                    self.next()?;
                    return Ok(());
                }
                Some(b'"') => {}
                Some(_) => return Err(self.error("expected a key in double quotes")),
                None => return Err(self.error("the file ends in the middle of an object")),
            }
            let key = self.key()?;
            self.space()?;
            if self.next()? != Some(b':') {
                return Err(self.error("expected `:` after a key"));
            }
            self.space()?;
            each(self, key)?;
            self.space()?;
            match self.peek()? {
                Some(b',') => {
                    self.next()?;
                }
                Some(b'}') => {}
                Some(_) => return Err(self.error("expected `,` or `}`")),
                None => return Err(self.error("the file ends in the middle of an object")),
            }
        }
    }

    /// Goes down to the records at a path, and past all that follows them.
    fn descend(
        &mut self,
        path: &str,
        form: Form,
        each: &mut impl FnMut(RawRecord<'_>) -> Result<(), String>,
        depth: usize,
    ) -> Result<(), String> {
        if self.peek()? != Some(b'{') {
            return Err(self.error(&format!("`{path}` is looked for here, and this is no object")));
        }
        let (mut found, mut keys) = (false, Vec::new());
        self.members(|scan, key| {
            let rest = path.strip_prefix(key.as_str()).and_then(|rest| rest.strip_prefix('.'));
            if key == path && !found {
                found = true;
                scan.records(form, each)?;
            } else if let (Some(rest), false, true) = (rest, found, depth < 16) {
                found = true;
                scan.descend(rest, form, each, depth + 1)?;
            } else {
                // Only what is kept takes memory, and nothing of this is.
                scan.value(&mut Vec::new())?;
            }
            if keys.len() < 12 {
                keys.push(format!("`{}`", key.escape_debug()));
            }
            Ok(())
        })?;
        if found {
            return Ok(());
        }
        Err(format!("there is no `{path}`; the object has {}. Correct `records` of the [[source]]", keys.join(", ")))
    }

    fn key(&mut self) -> Result<String, String> {
        let mut raw = vec![];
        let mut escaped = false;
        loop {
            let Some(byte) = self.next()? else { return Err(self.error("the file ends in the middle of a key")) };
            raw.push(byte);
            match (byte, escaped, raw.len()) {
                (b'"', false, 2..) => break,
                (b'\\', false, _) => escaped = true,
                _ => escaped = false,
            }
            if raw.len() > 10_000 {
                return Err(self.error("this key is longer than 10000 bytes"));
            }
        }
        serde_json::from_slice(&raw).map_err(|_| self.error("this key is no text"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn items(text: &str, path: Option<&str>) -> Result<Vec<String>, String> {
        let mut all = Vec::new();
        for_each_item(text.as_bytes(), path, |item| {
            let bytes = item.bytes.map(|bytes| String::from_utf8_lossy(bytes).into_owned());
            let key = item.key.map_or(String::new(), |key| format!("{key}="));
            all.push(format!("{}:{}:{key}{}", item.line, item.offset, bytes.as_deref().unwrap_or("too long")));
            Ok(())
        })?;
        Ok(all)
    }

    #[test]
    fn lists_objects_and_lists_inside_objects() {
        assert_eq!(items("\u{feff}[ {\"a\":\"]},\"},\n {} ]", None).unwrap(), ["1:5:{\"a\":\"]},\"}", "2:19:{}"]);
        assert_eq!(items("{\"a\":[1]}\n", None).unwrap(), ["1:0:{\"a\":[1]}"]);
        assert_eq!(items("[]", None).unwrap(), [""; 0]);
        let wrapped = r#"{"meta":{"items":[0]},"data":{"n":1,"items":[{"x":1},2],"m":"]"},"z":null}"#;
        assert_eq!(items(wrapped, Some("data.items")).unwrap(), ["1:45:{\"x\":1}", "1:53:2"]);
        assert_eq!(items(r#"{"data.items":[{}]}"#, Some("data.items")).unwrap(), ["1:15:{}"]);
        assert_eq!(items(r#"{"data":{"y":1}}"#, Some("data")).unwrap(), ["1:8:{\"y\":1}"]);
    }

    #[test]
    fn members_of_an_object_are_records_with_their_keys() {
        let keyed = r#"{"meta":{"n":2},"hosts":{"a":{"x":1}, "b\"":{},"c":7},"z":0}"#;
        assert_eq!(items(keyed, Some("hosts.*")).unwrap(), ["1:29:a={\"x\":1}", "1:44:b\"={}", "1:51:c=7"]);
        assert_eq!(items(r#"{"a":{}}"#, Some("*")).unwrap(), ["1:5:a={}"]);
        assert_eq!(items("{}", Some("*")).unwrap(), [""; 0]);
        assert!(
            items(r#"{"hosts":[]}"#, Some("hosts.*")).unwrap_err().contains("members of an object, and this is none")
        );
        assert!(items(r#"{"hosts":{"a":{}"#, Some("hosts.*")).unwrap_err().contains("middle of an object"));
    }

    #[test]
    fn what_is_cut_short_or_elsewhere_is_said() {
        for (text, path, says) in [
            ("[{\"a\":1}", None, "ends before its list"),
            ("[{\"a\":1", None, "middle of a record"),
            ("", None, "ends where records"),
            ("7", None, "records are a list"),
            ("{}\n{}", None, "format = \"jsonl\""),
            ("[{}]]", None, "something follows"),
            ("[{} {}]", None, "expected `,` or `]`"),
            (r#"{"rows":[]}"#, Some("data"), "the object has `rows`"),
            (r#"{"data":[]"#, Some("data"), "middle of an object"),
            ("[]", Some("data"), "this is no object"),
        ] {
            let error = items(text, path).unwrap_err();
            assert!(error.contains(says), "{text}: {error}");
        }
    }

    proptest! {
        /// The items that serde_json finds are the items found here.
        #[test]
        fn finds_what_serde_json_finds(list in proptest::collection::vec(r#"\{("k":("[a-z\\n,\]\}]{0,4}"|\[1,\{\}\]|null))?\}|[0-9]|"[,\]]""#, 0..5), gap in "[ \n]{0,2}") {
            let text = format!("{gap}[{gap}{}{gap}]", list.join(&format!("{gap},{gap}")));
            let Ok(serde_json::Value::Array(oracle)) = serde_json::from_str(&text) else { return Ok(()) };
            let found: Vec<serde_json::Value> =
                items(&text, None).unwrap().iter().map(|item| serde_json::from_str(item.splitn(3, ':').nth(2).unwrap()).unwrap()).collect();
            prop_assert_eq!(found, oracle);
        }
    }
}
