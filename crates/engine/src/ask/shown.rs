//! What somebody means by an id: a device, a person, a rule, a baseline, a service or a group.

use fencepost_core::nearest;

use crate::error::{EngineError, escaped};
use crate::ledger_view::reading::Reading;
use crate::workspace::project::Project;

/// Kinds of things that have a page of their own.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PageKind {
    /// A device.
    Device,
    /// A person.
    Person,
    /// A rule.
    Rule,
    /// A baseline.
    Baseline,
    /// A service.
    Service,
    /// A group.
    Group,
}

impl PageKind {
    /// All of them.
    pub const ALL: [Self; 6] = [Self::Device, Self::Person, Self::Rule, Self::Baseline, Self::Service, Self::Group];

    /// Returns its word.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Device => "device",
            Self::Person => "person",
            Self::Rule => "rule",
            Self::Baseline => "baseline",
            Self::Service => "service",
            Self::Group => "group",
        }
    }
}

/// Something that has a page of its own.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PageOf {
    /// Its kind.
    pub kind: PageKind,
    /// Its id.
    pub id: String,
}

impl Reading<'_> {
    /// Returns what somebody means by an id or, of a person, a name; of one kind alone where it is given. `now` is the workspace as it
    /// is written, which may have rules that the assessment did not know.
    ///
    /// # Errors
    /// When nothing is called so, several things are, or the ledger cannot be read.
    pub fn page_of(&self, id: &str, kind: Option<PageKind>, now: &Project) -> Result<PageOf, EngineError> {
        let asked = |other: PageKind| kind.is_none_or(|kind| kind == other);
        let mut found = Vec::new();
        for kind in PageKind::ALL.into_iter().filter(|kind| asked(*kind)) {
            if self.has_page(kind, id, now)? {
                found.push(kind);
            }
        }
        match found.as_slice() {
            [kind] => Ok(PageOf { kind: *kind, id: id.to_owned() }),
            // Only now is it worth going through the names of people, and through all devices for who holds them.
            [] if asked(PageKind::Person) => match self.unlisted_or_named(id)? {
                Some(person) => Ok(PageOf { kind: PageKind::Person, id: person }),
                None => Err(self.no_page(id, kind, now)?),
            },
            [] => Err(self.no_page(id, kind, now)?),
            several => {
                let words: Vec<&str> = several.iter().map(|kind| kind.as_str()).collect();
                Err(EngineError::refused(
                    format!("`{}` is the id of a {}", escaped(id), words.join(" and of a ")),
                    format!("say which is meant: --kind {}", words.join(", --kind ")),
                ))
            }
        }
    }

    fn has_page(&self, kind: PageKind, id: &str, now: &Project) -> Result<bool, EngineError> {
        Ok(match kind {
            PageKind::Device => self.knows_device(id)?,
            PageKind::Person => self.people.get(id).is_some() || !self.reader.person_history(id)?.is_empty(),
            PageKind::Rule => self.knows_rule(id, now),
            PageKind::Baseline => self.project.baselines().any(|known| known == id),
            PageKind::Service => self.project.rules.access().services().iter().any(|service| service.id.as_str() == id),
            PageKind::Group => self.project.rules.groups().any(|group| group.id.as_str() == id),
        })
    }

    /// Returns the error for an id that nothing has, with the nearest that something has.
    fn no_page(&self, id: &str, kind: Option<PageKind>, now: &Project) -> Result<EngineError, EngineError> {
        let rules = &self.project.rules;
        match kind {
            Some(PageKind::Device) => return self.nobody(id, false),
            Some(PageKind::Person | PageKind::Rule | PageKind::Baseline | PageKind::Service | PageKind::Group)
            | None => {}
        }
        let known = |kind: PageKind| -> Result<Vec<String>, EngineError> {
            Ok(match kind {
                PageKind::Device => self.reader.device_names()?,
                PageKind::Person => self.people.ids().map(str::to_owned).collect(),
                PageKind::Rule => rules.rules().iter().map(|rule| rule.id.to_string()).collect(),
                PageKind::Baseline => self.project.baselines().map(str::to_owned).collect(),
                PageKind::Service => rules.access().services().iter().map(|service| service.id.to_string()).collect(),
                PageKind::Group => rules.groups().map(|group| group.id.to_string()).collect(),
            })
        };
        let kinds: Vec<PageKind> =
            PageKind::ALL.into_iter().filter(|one| kind.is_none_or(|kind| kind == *one)).collect();
        let names: Vec<String> =
            kinds.iter().map(|kind| known(*kind)).collect::<Result<Vec<_>, _>>()?.into_iter().flatten().collect();
        let is_family = rules.rules().iter().chain(now.rules.rules()).any(|rule| rule.family() == id);
        let came_since = self.imported_since > 0 && self.came_since(id)?;
        let help = match nearest(id, names.iter().map(String::as_str)) {
            _ if came_since => "it came in after the last assessment; run: fencepost assess".to_owned(),
            _ if is_family => {
                format!("it is a family of rules; see it with: fencepost list verdicts --where 'family = \"{id}\"'")
            }
            Some(near) => format!("did you mean `{near}`?"),
            None => {
                let lists: Vec<&str> = kinds.iter().map(|kind| kind.plural()).collect();
                format!("see what there is with: fencepost list {}", lists.join(", fencepost list "))
            }
        };
        let words: Vec<&str> = kinds.iter().map(|kind| kind.as_str()).collect();
        let what = match words.split_last() {
            Some((last, before)) if !before.is_empty() => format!("{} or {last}", before.join(", ")),
            _ => words.concat(),
        };
        Ok(EngineError::refused(format!("there is no {what} `{}`", escaped(id)), help))
    }
}

impl PageKind {
    fn plural(self) -> &'static str {
        match self {
            Self::Device => "devices",
            Self::Person => "people",
            Self::Rule => "rules",
            Self::Baseline => "baselines",
            Self::Service => "services",
            Self::Group => "groups",
        }
    }
}
