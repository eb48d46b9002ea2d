//! Numbers as exports write them: with marks of their own, and with units.

use fencepost_core::Conversion;
use rust_decimal::Decimal;

use crate::workspace::NumberMarks;

/// Reads numbers as an export writes them, in the unit that is wanted.
pub(super) struct NumberReader<'n> {
    pub marks: NumberMarks,
    /// The unit that the export gives it in.
    pub from: Option<&'n str>,
    /// The unit that the dictionary declares.
    pub to: Option<&'n str>,
    /// It is declared to be a number.
    pub is_number: bool,
}

impl NumberReader<'_> {
    fn conversion(&self) -> Option<Conversion> {
        Conversion::between(self.from?, self.to?).ok()
    }

    /// Reads a text as a number; none where it is none, or nobody says that it should be one.
    pub fn read(&self, text: &str) -> Option<String> {
        let conversion = self.conversion();
        if conversion.is_none() && !self.is_number {
            return None;
        }
        let number = match plain_number(text, self.marks) {
            Some(number) => conversion.map_or(Some(number), |way| way.apply(number)),
            None => self.with_its_unit(text),
        };
        // With all its digits.
        number.map(|number| number.normalize().to_string())
    }

    /// Reads a number that names its unit, `7.5 GiB`, where a unit of the same kind is wanted.
    fn with_its_unit(&self, text: &str) -> Option<Decimal> {
        let begins = text.find(|symbol: char| symbol.is_alphabetic() || symbol == '%')?;
        let (number, unit) = text.split_at(begins);
        let way = Conversion::between(unit.trim(), self.to.or(self.from)?).ok()?;
        way.apply(plain_number(number.trim(), self.marks)?)
    }

    /// Converts a number of JSON; none where it stands as it came.
    pub fn converted(&self, number: &str) -> Option<String> {
        let converted = self.conversion()?.apply(number.parse().ok()?)?;
        Some(converted.normalize().to_string())
    }
}

/// Reads a number without a unit. A mark between thousands stands before exactly three digits.
pub(crate) fn plain_number(text: &str, marks: NumberMarks) -> Option<Decimal> {
    let NumberMarks { decimal, thousands } = marks;
    let (whole, fraction) = match text.rsplit_once(decimal.unwrap_or('.')) {
        Some((whole, fraction)) => (whole, Some(fraction)),
        None => (text, None),
    };
    let is_mark = |symbol: char| match thousands {
        Some(' ') => matches!(symbol, ' ' | '\u{a0}' | '\u{202f}' | '\u{2009}'),
        mark => mark == Some(symbol),
    };
    let mut groups = whole.split(is_mark);
    let first = groups.next()?;
    let mut plain = first.to_owned();
    let mut count = 0;
    for group in groups {
        if group.len() != 3 || !group.bytes().all(|digit| digit.is_ascii_digit()) {
            return None;
        }
        plain.push_str(group);
        count += 1;
    }
    if count > 0 && !(1..=3).contains(&first.trim_start_matches(['-', '+']).len()) {
        return None;
    }
    let are_digits = |text: &str| !text.is_empty() && text.bytes().all(|digit| digit.is_ascii_digit());
    // A point where another mark was said is none.
    if decimal.is_some() && !are_digits(plain.trim_start_matches(['-', '+'])) {
        return None;
    }
    if let Some(fraction) = fraction {
        if decimal.is_some() && !are_digits(fraction) {
            return None;
        }
        plain.push('.');
        plain.push_str(fraction);
    }
    plain.parse().ok()
}
