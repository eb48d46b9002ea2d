use super::*;
use crate::records::{Chunk, Chunks};
use fencepost_core::limits::{DEPTH, FIELDS};
use fencepost_core::{Declaration, Dictionary, FactType};
use proptest::prelude::*;

fn dictionary() -> Dictionary {
    let mut dictionary = Dictionary::default();
    let version = Declaration { ty: Some(FactType::Version), ..Declaration::default() };
    dictionary.facts.insert("os.version".into(), version.clone());
    dictionary.facts.insert("software.version".into(), version);
    dictionary
}

/// Reads a document and shows what is at each of the paths.
fn read(document: &str, paths: &[&str]) -> Result<Vec<String>, ReadError> {
    let dictionary = dictionary();
    let mut layout = Layout::new(&dictionary);
    let slots: Vec<SlotId> = paths.iter().map(|path| layout.want(path, &dictionary)).collect();
    let arena = Bump::new();
    let read = JsonDocuments::default().read(document.as_bytes(), &layout, &arena)?;
    Ok(slots.iter().map(|slot| read.slots[slot.0 as usize].show()).collect())
}

#[track_caller]
fn shows(document: &str, path: &str, shown: &str) {
    assert_eq!(read(document, &[path]).unwrap(), [shown], "{document}");
}

#[test]
fn nested_and_dotted_keys_mean_the_same() {
    shows(r#"{"os":{"version":"13"}}"#, "os.version", "13");
    shows(r#"{"os.version":"13"}"#, "os.version", "13");
    shows(r#"{"a":{"b.c":{"d":1}}}"#, "a.b.c.d", "1");
    shows(r#"{"os":null}"#, "os.version", "not collected");
    shows(r#"{"os":5}"#, "os.version", "not collected");
}

#[test]
fn a_key_given_twice_is_of_the_wrong_type() {
    shows(r#"{"a":1,"a":1}"#, "a", "wrong type");
    shows(r#"{"os":{"name":"x"},"os.name":"y"}"#, "os.name", "wrong type");
    shows(r#"{"os":{"name":"x"},"os":{"kind":"y"}}"#, "os.name", "wrong type");
    shows(r#"{"os":{"name":"x"},"os.kind":"y"}"#, "os.name", "x");
    let twice = read(r#"{"device":"a","x":1,"device":"a"}"#, &[]).unwrap_err();
    assert!(twice.message.contains("`device` is given twice"));
}

#[test]
fn lists_are_projected_and_declared_types_hold_inside_them() {
    shows(
        r#"{"software":[{"version":"1.2"},{"name":"x"},{"version":"latest"}]}"#,
        "software.version",
        "[1.2, not collected, wrong type]",
    );
    assert_eq!(read(r#"{"a":{"b":1,"c":[2]}}"#, &["a", "a.b", "a.c"]).unwrap(), ["{b: 1, c: [2]}", "1", "[2]"]);
}

#[test]
fn a_field_of_a_lists_items_is_of_its_type_item_by_item() {
    let dictionary = dictionary();
    let mut layout = Layout::new(&dictionary);
    let slot = layout.want("software.version", &dictionary);
    let arena = Bump::new();
    let document = br#"{"software":[{"version":"1.2"},{"version":"latest"}]}"#;
    let read = JsonDocuments::default().read(document, &layout, &arena).unwrap();
    let said = [fencepost_core::Observation {
        source: "s",
        trust: 0,
        collected: None,
        fresh_for: None,
        calendar: None,
        slots: read.slots,
    }];
    let facts = fencepost_core::merge(&said, std::iter::empty(), &layout, jiff::Timestamp::UNIX_EPOCH, &arena);
    assert_eq!(facts.slot(slot).value.show(), "[1.2, wrong type]");
}

#[test]
fn what_json_allows_and_no_value_holds_is_of_the_wrong_type() {
    shows(r#"{"a":1e400}"#, "a", "wrong type");
    shows(r#"{"a":"\ud800"}"#, "a", "wrong type");
    shows(r#"{"a":"\ud83d\ude00 \u00e9\n"}"#, "a", "😀 é\n");
    shows(r#"{"b":1e400,"c":"\ud800","a":1}"#, "a", "1");
}

#[test]
fn malformed_documents_are_refused_with_their_place() {
    for (document, offset) in [
        ("", 0),
        ("[]", 0),
        ("{", 1),
        (r#"{"a"}"#, 4),
        (r#"{"a":}"#, 5),
        (r#"{"a":01}"#, 6),
        (r#"{"a":1,}"#, 7),
        (r#"{"a":1}x"#, 7),
        ("{\"a\":\"\t\"}", 6),
        (r#"{"a":"\x"}"#, 7),
        (r#"{"a":tru}"#, 5),
        (r#"{"a":"b"#, 7),
        (r#"{"a":1.}"#, 7),
    ] {
        assert_eq!(read(document, &["a"]).unwrap_err().offset, offset, "{document}");
        assert_eq!(read(document, &[]).unwrap_err().offset, offset, "{document}, wanting nothing");
    }
}

#[test]
fn depth_is_bounded_wherever_it_is() {
    let deep = |depth: usize| format!("{{\"a\":{}1{}}}", "[".repeat(depth), "]".repeat(depth));
    for path in ["a", "b"] {
        assert!(read(&deep(DEPTH - 1), &[path]).is_ok());
        assert!(read(&deep(DEPTH), &[path]).unwrap_err().message.contains("deeper"));
        assert!(read(&deep(100_000), &[path]).is_err());
    }
}

#[test]
fn the_number_of_fields_is_bounded_wherever_they_are() {
    let wide = |count: usize| {
        let fields: Vec<String> = (0..count).map(|at| format!("\"f{at}\":1")).collect();
        format!("{{\"a\":[{{{}}}]}}", fields.join(","))
    };
    for path in ["a", "b"] {
        assert!(read(&wide(FIELDS - 1), &[path]).is_ok());
        assert!(read(&wide(FIELDS), &[path]).unwrap_err().message.contains("more than 100000 fields"));
    }
}

#[test]
fn secrets_are_read_as_digests_and_stored_documents_as_they_are() {
    let mut dictionary = dictionary();
    let secret = |secret| Declaration { secret, ..Declaration::default() };
    dictionary.facts.insert("vault".into(), secret(true));
    dictionary.facts.insert("door.token".into(), secret(false));
    let mut layout = Layout::new(&dictionary);
    let slots: Vec<SlotId> = ["vault", "door.token", "wifi.password", "users", "vault.pin", "users.password"]
        .map(|path| layout.want(path, &dictionary))
        .to_vec();
    let document = r#"{"vault":{"pin":1234},"door":{"token":"open"},"wifi":{"password":"hunter\u0032"},"users":[{"name":"x","password":"hunter2"},{"password":null}]}"#;
    let arena = Bump::new();
    let key = SecretKey::new([7; 32]);
    let mut reader = JsonDocuments::with_secrets(&key);
    let read = reader.read(document.as_bytes(), &layout, &arena).unwrap();
    let shown: Vec<String> = slots.iter().map(|slot| read.slots[slot.0 as usize].show()).collect();
    let digest = key.digest(b"hunter2");
    assert_eq!(shown[0], key.digest(br#"{"pin":1234}"#));
    assert_eq!(shown[1], "open");
    assert_eq!(shown[2], digest);
    assert_eq!(shown[3], format!("[{{name: x, password: {digest}}}, {{password: empty}}]"));
    assert_eq!(shown[4], "not collected");
    assert_eq!(shown[5], format!("[{digest}, empty]"));
    let stored =
        JsonDocuments::default().read(b"{\"wifi\":{\"password\":\"x\"},\"users\":\x03}", &layout, &arena).unwrap();
    assert_eq!(stored.slots[slots[2].0 as usize].show(), "x");
    assert_eq!(stored.slots[slots[3].0 as usize].show(), "not collected");
    assert!(reader.read(b"{\"users\":\x03}", &layout, &arena).is_err());
}

/// A layout that rules want `list` for: for `a` and `d.e` of its items, or whole.
fn layout_of_rules(whole: bool) -> Layout {
    let more = if whole { " and list != 5" } else { "" };
    let rules = format!(
        "[[rule]]\nid = \"r\"\ngroups = [\"every-device\"]\nrequire = 'some x in list satisfies x.a = 1 or x.d.e = 2{more}'\n"
    );
    let files = vec![crate::FileText { path: "rules/r.toml".to_owned(), text: rules }];
    let workspace = crate::load_workspace(files);
    let (rules, mistakes) = fencepost_core::RuleSet::compile(&workspace.rules, &workspace.dictionary, &[]);
    rules.unwrap_or_else(|| panic!("{mistakes:?}")).layout().clone()
}

/// The items of `list` as they are read, field by field.
fn items(document: &str, layout: &Layout) -> Vec<Vec<(String, String)>> {
    let arena = Bump::new();
    let key = SecretKey::new([1; 32]);
    let read = JsonDocuments::with_secrets(&key).read(document.as_bytes(), layout, &arena).unwrap();
    let slot = layout.child(Layout::ROOT, "list").and_then(|node| layout.slot(node)).unwrap();
    let Value::List(list) = read.slots[slot.0 as usize] else { panic!("{document}") };
    let fields = |item: &Value<'_>| match item {
        Value::Object(object) => {
            object.fields.iter().map(|(key, value)| ((*key).to_owned(), value.show())).collect::<Vec<_>>()
        }
        other => vec![("an item".to_owned(), other.show())],
    };
    list.items.iter().map(fields).collect()
}

#[test]
fn of_items_only_what_rules_look_at_is_read() {
    let document = r#"{"list":[{"a":1,"b":2,"name":"x"},{"name":"y","d":{"e":3,"f":4},"a":5},7,{"d.e":6,"d.x":7}]}"#;
    let shown = |layout: &Layout| {
        let item = |fields: Vec<(String, String)>| {
            fields.iter().map(|(key, value)| format!("{key}={value}")).collect::<Vec<_>>().join(" ")
        };
        items(document, layout).into_iter().map(item).collect::<Vec<_>>().join("; ")
    };
    assert_eq!(shown(&layout_of_rules(false)), "a=1 name=x; name=y d={e: 3, f: 4} a=5; an item=7; d.e=6");
    assert_eq!(shown(&layout_of_rules(true)), "a=1 b=2 name=x; name=y d={e: 3, f: 4} a=5; an item=7; d.e=6 d.x=7");
}

proptest! {
    /// Whatever keys the items have, in whatever order and however often, each is read as if it stood alone.
    #[test]
    fn items_are_read_alike_whatever_stood_before(
        list in prop::collection::vec(
            prop::collection::vec((prop::sample::select(vec!["a", "b", "name", "d", "d.e", "a key that is longer than others", "\u{e9}\\u0041", "\\ud800"]), 0_usize..6), 0..5),
            0..6,
        ),
        spaced in any::<bool>(),
    ) {
        let (space, comma) = if spaced { (" ", " , ") } else { ("", ",") };
        let member = |(key, value): &(&str, usize)| {
            let value = ["1", "\"text\"", "null", "{\"e\":2}", "[1,{\"a\":2}]", "\"\\u0041\\\"\""][*value];
            format!("\"{key}\"{space}:{space}{value}")
        };
        let objects: Vec<String> =
            list.iter().map(|item| format!("{{{}}}", item.iter().map(member).collect::<Vec<_>>().join(comma))).collect();
        let document = |objects: &[String]| format!("{{\"list\":[{}]}}", objects.join(comma));
        let layout = layout_of_rules(true);
        let together = items(&document(&objects), &layout);
        for (at, object) in objects.iter().enumerate() {
            prop_assert_eq!(&together[at], &items(&document(std::slice::from_ref(object)), &layout)[0]);
        }
        // What is left out is left out, and nothing else is different.
        let looked_at = |key: &str| ["a", "d", "d.e", "name"].contains(&key);
        let narrow: Vec<Vec<_>> = together
            .into_iter()
            .map(|item| item.into_iter().filter(|(key, _)| looked_at(key)).collect())
            .collect();
        prop_assert_eq!(items(&document(&objects), &layout_of_rules(false)), narrow);
    }
}

proptest! {
    /// Many objects that are alike, and now and then one that is not: whatever stops a run of them, nothing is lost.
    #[test]
    fn a_run_of_alike_items_is_read_item_by_item(
        items_at in prop::collection::vec((0_usize..24, 0_usize..5, any::<u8>()), 1..40),
        width in 1_usize..5,
        settings in any::<bool>(),
    ) {
        let keys = ["name", "a", "b with a key of its own", "c"];
        let object = |(odd, place, value): &(usize, usize, u8)| {
            let mut members: Vec<String> =
                keys[..width].iter().map(|key| format!("\"{key}\":\"{}\"", "v".repeat(usize::from(*value) % 40))).collect();
            let member = members[place % width].clone();
            let key = member.split(':').next().unwrap_or_default();
            let other = match odd {
                0 => format!("{key}:{value}"),
                1 => format!("{key}:\"\\u0041{value}\""),
                2 => format!("{key}: \"spaced\""),
                3 => format!("{member},\"more\":\"m\""),
                4 => format!("{key}:{{\"e\":[{value}]}}"),
                5 => format!("{member} , \"d\":\"e\""),
                6 => format!("{member},{member}"),
                7 => format!("{key}:\"é\u{7f}\""),
                _ => member,
            };
            members[place % width] = other;
            if *odd == 8 {
                members.remove(place % width);
            }
            if *odd == 9 {
                members.reverse();
            }
            format!("{{{}}}", members.join(","))
        };
        let mut objects: Vec<String> = items_at.iter().map(object).collect();
        if settings {
            objects.insert(objects.len() / 2, "7".to_owned());
        }
        let document = |objects: &[String]| format!("{{\"list\":[{}],\"x\":\"y\"}}", objects.join(","));
        for whole in [true, false] {
            let layout = layout_of_rules(whole);
            let together = items(&document(&objects), &layout);
            prop_assert_eq!(together.len(), objects.len());
            for (at, object) in objects.iter().enumerate() {
                let alone = &items(&document(std::slice::from_ref(object)), &layout)[0];
                prop_assert_eq!(&together[at], alone, "{} of {}", at, document(&objects));
            }
        }
    }
}

#[test]
fn a_run_of_alike_items_stops_where_a_document_may_have_no_more_fields() {
    let (layout, key) = (layout_of_rules(false), SecretKey::new([1; 32]));
    let mut reader = JsonDocuments::with_secrets(&key);
    // Four fields each, and the list itself.
    let document = |count: usize, rest: &str| {
        let objects = vec!["{\"name\":\"n\",\"a\":\"b\",\"b\":\"c\",\"c\":\"d\"}"; count];
        format!("{{\"list\":[{}]{rest}}}", objects.join(","))
    };
    for (count, rest, fits) in [
        (FIELDS / 4 - 1, "", true),
        (FIELDS / 4 - 1, ",\"x\":1,\"y\":2,\"z\":3", true),
        (FIELDS / 4 - 1, ",\"x\":1,\"y\":2,\"z\":3,\"w\":4", false),
        (FIELDS / 4, "", false),
        (FIELDS / 4 - 1, "", true),
    ] {
        let (document, arena) = (document(count, rest), Bump::new());
        let found = reader.read(document.as_bytes(), &layout, &arena);
        assert_eq!(
            found.as_ref().map(|_| ()).map_err(|error| error.message.contains("more than")),
            if fits { Ok(()) } else { Err(true) }
        );
    }
}

/// A text of JSON, well formed or not, of few different keys, so that they come twice and in other orders.
fn some_json() -> impl Strategy<Value = String> {
    let leaf = prop::sample::select(vec![
        "1",
        "\"text\"",
        "null",
        "\"\\u0041\\\"\"",
        "true",
        "\"\"",
        "-",
        "\"",
        "\"a longer text, with room for more\"",
    ]);
    let key = prop::sample::select(vec![
        "a",
        "b",
        "c",
        "d",
        "e",
        "f",
        "g",
        "h",
        "i",
        "a.b",
        "device",
        "password",
        "list",
        "\\u0061",
        "\\ud800",
        "a key that is longer than the others are",
    ]);
    leaf.prop_map(str::to_owned).prop_recursive(4, 60, 12, move |inner| {
        let space = prop::sample::select(vec!["", "", "", " "]);
        let member = (key.clone(), inner.clone(), space).prop_map(|(key, value, space)| format!("{space}\"{key}\"{space}:{space}{value}"));
        let object = prop::collection::vec(member, 0..12).prop_map(|members| format!("{{{}}}", members.join(",")));
        prop_oneof![3 => object, 1 => prop::collection::vec(inner, 0..4).prop_map(|items| format!("[{}]", items.join(",")))]
    })
}

proptest! {
    /// A reader that has read other documents reads the next as one that has read none.
    #[test]
    fn documents_are_read_alike_whatever_was_read_before(documents in prop::collection::vec(some_json(), 1..8), whole in any::<bool>()) {
        let dictionary = dictionary();
        let mut layout = layout_of_rules(whole);
        for path in ["a", "b.c", "a.b", "d.e.f", "g.password", "h.a"] {
            layout.want(path, &dictionary);
        }
        let layouts = [layout, layout_of_rules(whole)];
        let key = SecretKey::new([1; 32]);
        let mut reader = JsonDocuments::with_secrets(&key);
        for (at, document) in documents.iter().chain(&documents).enumerate() {
            // Now and then something else is wanted of them.
            let layout = &layouts[at / 5 % 2];
            let arena = Bump::new();
            let show = |read: Result<Read<'_>, ReadError>| {
                read.map(|read| format!("{:?}", read.slots)).map_err(|error| format!("{error:?}"))
            };
            let found = show(reader.read(document.as_bytes(), layout, &arena));
            let fresh = show(JsonDocuments::with_secrets(&key).read(document.as_bytes(), layout, &arena));
            prop_assert_eq!(found, fresh, "{}", document);
        }
    }
}

#[test]
fn limits_are_the_same_whatever_was_read_before() {
    let layout = layout_of_rules(false);
    let key = SecretKey::new([1; 32]);
    let mut reader = JsonDocuments::with_secrets(&key);
    // 250 objects of 400 fields, and the list and the settings themselves.
    let object = |fields: usize| {
        let fields: Vec<String> = (0..fields).map(|at| format!("\"k{}\":\"v\"", at % 200)).collect();
        format!("{{{}}}", fields.join(","))
    };
    let document = |last: usize| {
        let mut objects = vec![object(400); 249];
        objects.push(object(last));
        format!("{{\"list\":[{{\"a\":\"1\"}},{{\"a\":\"2\"}}],\"settings\":[{}]}}", objects.join(","))
    };
    for last in [400, 396, 397, 396, 10, 397] {
        let document = document(last);
        let arena = Bump::new();
        let show = |read: Result<Read<'_>, ReadError>| read.map(|_| ()).map_err(|error| (error.offset, error.message));
        let found = show(reader.read(document.as_bytes(), &layout, &arena));
        assert_eq!(found, show(JsonDocuments::with_secrets(&key).read(document.as_bytes(), &layout, &arena)), "{last}");
        // Four fields besides those of the settings.
        assert_eq!(found.is_ok(), 249 * 400 + last + 4 <= FIELDS, "{last}");
    }
    for depth in [DEPTH - 2, DEPTH + 2, DEPTH - 2] {
        let document = format!("{{\"x\":{}{}}}", "{\"y\":".repeat(depth) + "1", "}".repeat(depth));
        let arena = Bump::new();
        assert_eq!(reader.read(document.as_bytes(), &layout, &arena).is_ok(), depth < DEPTH, "{depth}");
    }
}

#[test]
fn objects_of_ever_new_keys_are_read_without_remembering_them() {
    let layout = layout_of_rules(true);
    let arena = Bump::new();
    let mut reader = JsonDocuments::default();
    for turn in 0..3 {
        let members: Vec<String> = (0..400).map(|at| format!("\"k{}\":{at}", at * (turn + 1))).collect();
        let document = format!("{{\"list\":[{{\"a\":1,{}}}]}}", members.join(","));
        let read = reader.read(document.as_bytes(), &layout, &arena).unwrap();
        let slot = layout.child(Layout::ROOT, "list").and_then(|node| layout.slot(node)).unwrap();
        let Value::List(list) = read.slots[slot.0 as usize] else { panic!() };
        let Value::Object(object) = list.items[0] else { panic!() };
        assert_eq!(object.fields.len(), 401);
        assert_eq!(object.fields[400].1.show(), "399");
    }
}

proptest! {
    /// serde_json is the oracle for the grammar: what it takes, we take, whether or not anything is wanted.
    #[test]
    fn accepts_what_serde_json_accepts(mut document in r#"\{("[a-c.]{1,3}":(1|-0|1\.5e3|"[a-z\\u0-9"]{0,6}"|\[[1,\[\]{}]{0,5}\]|null|tru?e|\{"a":[0-9]{1,2}\}),?){0,4}\}?"#, cut in 0usize..40) {
        if cut < document.len() && document.is_char_boundary(cut) && cut % 3 == 0 {
            document.truncate(cut);
        }
        let oracle: Result<serde::de::IgnoredAny, _> = serde_json::from_str(&document);
        for paths in [&["x"][..], &["a", "b", "a.b"]] {
            prop_assert_eq!(read(&document, paths).is_ok(), oracle.is_ok() && document.starts_with('{'), "{}", document);
        }
    }
}

proptest! {
    /// Where a document lies in a stream, what stands behind it changes nothing: whole, cut short or broken.
    #[test]
    fn what_stands_behind_a_document_is_not_read(
        document in some_json().prop_map(|json| format!("{{\"a\":{json},\"name\":\"x\"}}")),
        cut in prop::option::weighted(0.5, any::<prop::sample::Index>()),
        behind in prop::sample::select(vec!["", "\"}", "\",\"a\":\"", "}]}", "9e9", "rue", "\u{e9}\"", "                \\\""]),
        before in any::<bool>(),
    ) {
        let layout = layout_of_rules(true);
        let mut end = cut.map_or(document.len(), |cut| cut.index(document.len()));
        while !document.is_char_boundary(end) {
            end -= 1;
        }
        let part = &document[..end];
        let arena = Bump::new();
        let mut reader = JsonDocuments::default();
        if before {
            for _ in 0..2 {
                // Whether it is one or not.
                let _ = reader.read(document.as_bytes(), &layout, &arena);
            }
        }
        let text = format!("{part}\n{behind}");
        let (mut chunks, mut chunk) = (Chunks::new(text.as_bytes()), Chunk::default());
        prop_assert!(chunks.read_into(&mut chunk).unwrap());
        let mut lines = chunk.lines();
        let Some(line) = lines.next_line() else { return Ok(()) };
        let content = line.content.unwrap();
        if line.number == 1 {
            prop_assert_eq!(content.bytes(), part.as_bytes());
        }
        let show = |read: Result<Read<'_>, ReadError>| format!("{:?}", read.map(|read| read.slots));
        let alone = show(JsonDocuments::default().read(content.bytes(), &layout, &arena));
        prop_assert_eq!(show(reader.read_in_place(content, &layout, &arena)), alone);
    }
}
