//! Places: where in a device's facts something stands, and the patterns that pick some of them.

use std::fmt;

/// Where a value stands: a fact, an item of a list that has a key, a field of such an item.
///
/// Shown as `sshd.port`, `software[guardd]` and `software[guardd].version`.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Place {
    /// The path of the fact.
    pub fact: String,
    /// Of a list: what names the item.
    pub item: Option<String>,
    /// The path of a field of the item.
    pub field: Option<String>,
}

impl Place {
    /// Returns the place of a fact.
    pub fn of_fact(path: impl Into<String>) -> Self {
        Self { fact: path.into(), item: None, field: None }
    }

    /// Returns the path by which the fact dictionary knows it: of a field of an item, as `software.version`.
    pub fn dictionary_path(&self) -> String {
        match &self.field {
            Some(field) => format!("{}.{field}", self.fact),
            None => self.fact.clone(),
        }
    }
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.fact)?;
        if let Some(item) = &self.item {
            write!(f, "[{item}]")?;
        }
        match &self.field {
            Some(field) => write!(f, ".{field}"),
            None => Ok(()),
        }
    }
}

/// A pattern of places: a path, in which `*` stands for any text. A pattern that names an object or a list means all that is in it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FactPattern {
    text: String,
}

impl FactPattern {
    /// Creates a pattern.
    pub fn new(text: impl Into<String>) -> Self {
        Self { text: text.into() }
    }

    /// Returns the pattern as it was written.
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// Returns whether it names one path, and not all that fit.
    pub fn is_exact(&self) -> bool {
        !self.text.contains('*')
    }

    /// Returns whether a text fits.
    fn fits(&self, text: &str) -> bool {
        let mut parts = self.text.split('*');
        let first = parts.next().unwrap_or_default();
        let Some(mut rest) = text.strip_prefix(first) else { return false };
        let mut parts = parts.peekable();
        if parts.peek().is_none() {
            return rest.is_empty();
        }
        while let Some(part) = parts.next() {
            if parts.peek().is_none() {
                return rest.ends_with(part);
            }
            match rest.find(part) {
                Some(at) => rest = &rest[at + part.len()..],
                None => return false,
            }
        }
        true
    }

    /// Returns whether a path fits, or an object or list that it lies in.
    pub fn fits_path(&self, path: &str) -> bool {
        let ends = path.match_indices(['.', '[']).map(|(at, _)| at).chain([path.len()]);
        ends.into_iter().any(|end| self.fits(&path[..end]))
    }

    /// Returns whether a place fits, or what it lies in. A field of an item may be named with or without the item.
    pub fn fits_place(&self, place: &Place) -> bool {
        self.fits_path(&place.fact)
            || place.item.is_some() && self.fits_path(&place.to_string())
            || place.field.is_some() && self.fits(&place.dictionary_path())
    }

    /// Returns whether it names just this place, without `*`.
    pub fn names(&self, place: &Place) -> bool {
        self.is_exact()
            && (self.text == place.fact || self.text == place.dictionary_path() || self.text == place.to_string())
    }

    /// Returns whether something at a path, or inside it, may fit.
    fn may_fit_inside(&self, path: &str) -> bool {
        let goes_on = |rest: &str| rest.is_empty() || rest.starts_with(['.', '[']);
        match self.text.find('*') {
            // What stands before the `*` leads to the path, or further down.
            Some(star) => path.starts_with(&self.text[..star]) || self.text[..star].starts_with(path),
            None => self.text.strip_prefix(path).is_some_and(goes_on) || self.fits_path(path),
        }
    }
}

/// Which facts are compared.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FactScope {
    /// Those that fit one of these; all where there are none.
    pub facts: Vec<FactPattern>,
    /// But not those that fit one of these.
    pub except: Vec<FactPattern>,
}

impl FactScope {
    /// Returns whether something at the path of a fact, or inside it, may be compared.
    pub fn may_include(&self, path: &str) -> bool {
        let excepted = self.except.iter().any(|pattern| pattern.fits_path(path));
        !excepted && (self.facts.is_empty() || self.facts.iter().any(|pattern| pattern.may_fit_inside(path)))
    }

    /// Returns whether a place is compared.
    pub fn includes(&self, place: &Place) -> bool {
        let fits = |patterns: &[FactPattern]| patterns.iter().any(|pattern| pattern.fits_place(place));
        !fits(&self.except) && (self.facts.is_empty() || fits(&self.facts))
    }

    /// Returns whether a place is named itself, and not by a pattern.
    pub fn names(&self, place: &Place) -> bool {
        self.facts.iter().any(|pattern| pattern.names(place))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn place(fact: &str, item: Option<&str>, field: Option<&str>) -> Place {
        Place { fact: fact.into(), item: item.map(Into::into), field: field.map(Into::into) }
    }

    #[test]
    fn a_pattern_fits_paths_and_all_that_lies_in_what_it_names() {
        let fits = |pattern: &str, path: &str| FactPattern::new(pattern).fits_path(path);
        assert!(
            fits("sshd.*", "sshd.port") && fits("sshd", "sshd.port") && fits("*", "a") && fits("*.port", "sshd.port")
        );
        assert!(fits("a*c*e", "abcde") && fits("a*", "a") && fits("**", ""));
        assert!(!fits("sshd.*", "sshd") && !fits("ssh", "sshd.port") && !fits("a*c", "abcd") && !fits("a*b*b", "ab"));
    }

    #[test]
    fn fields_of_items_are_named_with_or_without_the_item() {
        let version = place("software", Some("guardd"), Some("version"));
        for pattern in
            ["software", "software[guardd]", "software[guardd].version", "software.version", "software[*].version"]
        {
            assert!(FactPattern::new(pattern).fits_place(&version), "{pattern}");
        }
        for pattern in ["software[ebbnote]", "software.name", "soft", "guardd"] {
            assert!(!FactPattern::new(pattern).fits_place(&version), "{pattern}");
        }
        assert_eq!(version.to_string(), "software[guardd].version");
    }

    #[test]
    fn what_may_lie_in_a_path_is_looked_for_there() {
        let scope = |facts: &[&str], except: &[&str]| FactScope {
            facts: facts.iter().map(|text| FactPattern::new(*text)).collect(),
            except: except.iter().map(|text| FactPattern::new(*text)).collect(),
        };
        assert!(scope(&["software[guardd].version"], &[]).may_include("software"));
        assert!(scope(&["software.version"], &[]).may_include("software"));
        assert!(scope(&["soft*"], &[]).may_include("software"));
        assert!(!scope(&["sshd.*"], &[]).may_include("queue.workers"));
        assert!(!scope(&[], &["queue.*"]).may_include("queue.workers"));
        assert!(scope(&[], &["software[guardd]"]).may_include("software"));
        assert!(!scope(&["sshd.port"], &[]).names(&Place::of_fact("sshd")));
        assert!(scope(&["sshd.port"], &[]).names(&Place::of_fact("sshd.port")));
        assert!(!scope(&["sshd.*"], &[]).names(&Place::of_fact("sshd.port")));
    }
}
