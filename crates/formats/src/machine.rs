//! Values for machines: JSON, and CSV cells that no spreadsheet takes for a formula.

use fencepost_core::{Datum, Value};
use fencepost_core::{harmless, is_harmful};
use rust_decimal::Decimal;
use serde_json::{Map, Number, Value as Json};

/// Returns a value as JSON; what is not known is null, dates and durations are texts.
pub fn json_of_value(value: &Value<'_>) -> Json {
    json_of_datum(&value.to_datum())
}

/// Returns an owned value as JSON.
pub fn json_of_datum(datum: &Datum) -> Json {
    match datum {
        Datum::Null => Json::Null,
        Datum::Boolean(truth) => Json::Bool(*truth),
        Datum::Number(number) => {
            let number = number.normalize();
            i64::try_from(number)
                .ok()
                .filter(|_| number.is_integer())
                .map(Number::from)
                .or_else(|| number.to_string().parse::<f64>().ok().and_then(Number::from_f64))
                .map_or(Json::Null, Json::Number)
        }
        Datum::Text(text) => Json::String(text.clone()),
        Datum::List(items) => Json::Array(items.iter().map(json_of_datum).collect()),
        Datum::Object(fields) => {
            Json::Object(fields.iter().map(|(key, value)| (key.clone(), json_of_datum(value))).collect::<Map<_, _>>())
        }
    }
}

/// Returns JSON as an owned value; a number that no decimal holds becomes its text.
pub fn datum_of_json(json: &Json) -> Datum {
    match json {
        Json::Null => Datum::Null,
        Json::Bool(truth) => Datum::Boolean(*truth),
        Json::Number(number) => {
            let text = number.to_string();
            let read = if text.contains(['e', 'E']) { Decimal::from_scientific(&text).ok() } else { text.parse().ok() };
            read.map_or(Datum::Text(text), Datum::Number)
        }
        Json::String(text) => Datum::Text(text.clone()),
        Json::Array(items) => Datum::List(items.iter().map(datum_of_json).collect()),
        Json::Object(fields) => {
            Datum::Object(fields.iter().map(|(key, value)| (key.clone(), datum_of_json(value))).collect())
        }
    }
}

/// Adds a cell of a CSV file (RFC 4180) to a line. A text that a spreadsheet would run as a formula gets a `'` before it.
fn add_csv_cell(line: &mut String, json: &Json) {
    let shown;
    let text = match json {
        Json::Null => return,
        Json::String(text) => text.as_str(),
        other => {
            shown = other.to_string();
            &shown
        }
    };
    let prefix = if json.is_string() && begins_formula(text) { "'" } else { "" };
    let is_plain = |byte: u8| !matches!(byte, 0..0x20 | b'"' | b',' | 0x7f..);
    if text.bytes().all(is_plain) {
        line.push_str(prefix);
        line.push_str(text);
        return;
    }
    let quoted = text.contains(['"', ',', '\n', '\r']);
    if quoted {
        line.push('"');
    }
    line.push_str(prefix);
    for symbol in text.chars() {
        match symbol {
            '"' => line.push_str("\"\""),
            // Line breaks are as they are within quotes.
            '\n' | '\r' => line.push(symbol),
            // What steers, hides or ends a cell in some readers is shown instead.
            c if is_harmful(c) => line.push_str(&harmless(c.encode_utf8(&mut [0; 4]))),
            other => line.push(other),
        }
    }
    if quoted {
        line.push('"');
    }
}

/// Whether a spreadsheet may take a text for a formula: some leave out what is blank before it, or read full-width signs as the
/// plain ones.
fn begins_formula(text: &str) -> bool {
    let shown = text.trim_start_matches(|c: char| c.is_whitespace() || is_harmful(c));
    text.starts_with(['\t', '\r'])
        || shown.starts_with(['=', '+', '-', '@', '\u{ff1d}', '\u{ff0b}', '\u{ff0d}', '\u{ff20}'])
}

/// Returns a line of a CSV file, its end included.
pub fn csv_line<'j>(cells: impl IntoIterator<Item = &'j Json>) -> String {
    let mut line = String::new();
    for (at, cell) in cells.into_iter().enumerate() {
        if at > 0 {
            line.push(',');
        }
        add_csv_cell(&mut line, cell);
    }
    line.push_str("\r\n");
    line
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn formulas_and_quotes_are_made_harmless_and_numbers_are_not_touched() {
        let line = csv_line(&[
            json!("=SUM(A1)"),
            json!(-5),
            json!("a \"b\", c"),
            json!(null),
            json!("-x"),
            json!("line\nbreak"),
        ]);
        assert_eq!(line, "'=SUM(A1),-5,\"a \"\"b\"\", c\",,'-x,\"line\nbreak\"\r\n");
    }

    #[test]
    fn what_steers_or_hides_is_shown_and_formulas_are_found_behind_it() {
        let line = csv_line(&[
            json!("\u{1b}[31mred\u{9b}"),
            json!("\u{202e}evil"),
            json!("\u{200b} =1+1"),
            json!("\u{ff1d}1"),
            json!("  @x"),
            json!("ø 日本"),
        ]);
        assert_eq!(line, "\\u{1b}[31mred\\u{9b},\\u{202e}evil,'\\u{200b} =1+1,'\u{ff1d}1,'  @x,ø 日本\r\n");
    }

    #[test]
    fn numbers_keep_their_value_both_ways() {
        for text in ["0", "-5", "12500000000", "0.1", "1.25"] {
            let json: Json = serde_json::from_str(text).unwrap();
            assert_eq!(json_of_datum(&datum_of_json(&json)), json, "{text}");
        }
    }
}
