//! Text that a device, a file or a person supplied, made harmless for a terminal.

pub use fencepost_core::harmless;

/// Returns `one` or `many` after a number, `3 devices`.
pub fn count(number: u64, one: &str, many: &str) -> String {
    format!("{number} {}", if number == 1 { one } else { many })
}

/// A part of the whole, as `83 %`; nothing where there is no whole.
pub fn percent(fraction: Option<f64>) -> String {
    fraction.map(fencepost_core::percent).unwrap_or_default()
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

/// Returns a value in the unit that its fact is declared in: `44.5 GB` of bytes, `35 d`.
pub fn in_unit(value: String, unit: Option<&str>) -> String {
    match unit {
        Some("B") => bytes(&value).unwrap_or(value),
        Some(unit) => format!("{value} {}", harmless(unit)),
        None => value,
    }
}

/// A device's id as a shell takes it.
pub fn shell(device: &str) -> String {
    if device.starts_with('-') {
        // It would be read as an option.
        return format!("-- {}", quoted(device));
    }
    quoted(device)
}

/// A text as a shell takes it.
pub fn quoted(text: &str) -> String {
    let plain = text.bytes().all(|b| b.is_ascii_alphanumeric() || b"-_./:@+".contains(&b));
    if plain { text.to_owned() } else { format!("'{}'", harmless(text).replace('\'', "'\\''")) }
}

/// `, 2 of them with no other way to it`: how many of those who lose something have no other way.
pub fn without_another_way(people: u64, alone: u64) -> String {
    match (people, alone) {
        (0, _) => String::new(),
        (1, 0) => ", with another way to it".to_owned(),
        (_, 0) => ", each with another way to it".to_owned(),
        (1, _) => ", with no other way to it".to_owned(),
        (all, alone) if all == alone => ", all with no other way to it".to_owned(),
        (_, alone) => format!(", {alone} of them with no other way to it"),
    }
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
}
