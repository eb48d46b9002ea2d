//! Text that a device, a file or a person supplied, made harmless for a terminal.

/// Returns the text with everything shown that would move a cursor, turn the direction of reading, or hide.
pub fn harmless(text: &str) -> String {
    if text.chars().all(|c| !is_harmful(c)) {
        return text.to_owned();
    }
    let mut out = String::with_capacity(text.len() + 8);
    for c in text.chars() {
        match c {
            '\n' => out.push_str("\\n"),
            '\r' => out.push_str("\\r"),
            '\t' => out.push_str("\\t"),
            c if is_harmful(c) => out.push_str(&format!("\\u{{{:x}}}", u32::from(c))),
            c => out.push(c),
        }
    }
    out
}

fn is_harmful(c: char) -> bool {
    c.is_control()
        || matches!(c,
            // Marks and overrides of the direction of reading.
            '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}'
            // What has no width, or ends a line in some programs.
            | '\u{200b}'..='\u{200d}' | '\u{2060}'..='\u{2064}' | '\u{feff}' | '\u{2028}' | '\u{2029}'
            // Tags, and characters that have no meaning of their own.
            | '\u{e0000}'..='\u{e007f}' | '\u{fff9}'..='\u{fffb}')
}

/// Returns `one` or `many` after a number, `3 devices`.
pub fn count(number: u64, one: &str, many: &str) -> String {
    format!("{number} {}", if number == 1 { one } else { many })
}

/// Returns a number of bytes with a unit that a person reads, `44.5 GB`; none when it is no number.
pub fn bytes(number: &str) -> Option<String> {
    const UNITS: [&str; 5] = ["B", "kB", "MB", "GB", "TB"];
    let number: f64 = number.parse().ok()?;
    let power =
        UNITS.iter().enumerate().take_while(|(power, _)| number.abs() >= 1000_f64.powi(*power as i32)).count().max(1)
            - 1;
    let scaled = (number / 1000_f64.powi(power as i32) * 10.0).round() / 10.0;
    Some(format!("{scaled} {}", UNITS[power]))
}

/// A device's id as a shell takes it.
pub fn shell(device: &str) -> String {
    if device.starts_with('-') {
        // It would be read as an option.
        return format!("-- {}", quoted(device));
    }
    quoted(device)
}

fn quoted(device: &str) -> String {
    let plain = device.bytes().all(|b| b.is_ascii_alphanumeric() || b"-_./:@+".contains(&b));
    if plain { device.to_owned() } else { format!("'{}'", harmless(device).replace('\'', "'\\''")) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bytes_are_said_in_the_unit_that_fits() {
        for (number, said) in
            [("0", "0 B"), ("999", "999 B"), ("1000", "1 kB"), ("44500000000", "44.5 GB"), ("9e15", "9000 TB")]
        {
            assert_eq!(bytes(number).as_deref(), Some(said));
        }
        assert_eq!(bytes("much"), None);
    }

    #[test]
    fn a_device_is_written_as_a_shell_takes_it() {
        for (device, written) in [
            ("tern-phone-5", "tern-phone-5"),
            ("a b", "'a b'"),
            ("it's; rm $HOME", "'it'\\''s; rm $HOME'"),
            ("--all", "-- --all"),
            ("-a b", "-- '-a b'"),
        ] {
            assert_eq!(shell(device), written);
        }
    }

    #[test]
    fn nothing_that_steers_a_terminal_gets_through() {
        assert_eq!(harmless("plain ø 日本"), "plain ø 日本");
        assert_eq!(harmless("\u{1b}[31mred\u{7}"), "\\u{1b}[31mred\\u{7}");
        assert_eq!(harmless("a\u{202e}b\u{200b}c\nd\0\u{9b}"), "a\\u{202e}b\\u{200b}c\\nd\\u{0}\\u{9b}");
    }
}
