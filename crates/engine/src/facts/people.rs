//! The people of a workspace: what lists say of them, and which groups they belong to. Of most of them nothing is asked, so that
//! each is read when something is.

use std::borrow::Cow;
use std::collections::HashMap;
use std::ops::Range;
use std::sync::OnceLock;

use bumpalo::Bump;
use fencepost_core::{Acceptance, Canonical, Datum, Holder, Membership, Person, PersonId, Reason, Watch};
use fencepost_formats::{datum_of_json, is_address};
use fencepost_store::{LedgerError, Reader};
use jiff::Timestamp;

use crate::workspace::project::Project;

/// The people of a workspace. Memberships are those by the rules of one project, which is given wherever they are asked for.
#[derive(Debug, Default)]
pub struct People {
    at: Timestamp,
    /// What the lists say of each, as JSON, one text behind the other.
    texts: String,
    /// Ascending by id.
    listed: Vec<ListedPerson>,
    /// The terms that people accepted, those on no list among them.
    accepted: HashMap<PersonId, Vec<Acceptance>>,
    /// What a holder belongs to whom the list does not know.
    stranger: Vec<Membership>,
}

/// Of which project, and as of when, memberships are asked for.
#[derive(Clone, Copy)]
pub(crate) struct AskedMemberships<'w, 'a> {
    pub project: &'w Project,
    pub at: Timestamp,
    pub watch: Option<&'w Watch>,
    pub arena: &'a Bump,
}

#[derive(Debug)]
struct ListedPerson {
    id: PersonId,
    /// Where its texts lie, one a line, in the order in which they count.
    texts: Range<usize>,
    /// None where no text can be read.
    person: OnceLock<Option<Box<Person>>>,
    belongs: OnceLock<Box<Belongs>>,
}

/// What follows from the groups of a project.
#[derive(Debug)]
struct Belongs {
    memberships: Vec<Membership>,
    /// Of everything that is known of the person.
    digest: [u8; 16],
}

impl People {
    /// Returns nobody, in a project's groups.
    pub fn nobody(project: &Project, at: Timestamp) -> Self {
        let stranger = vec![Membership::Unknown(Reason::Missing); project.rules.group_count()];
        Self { at, stranger, ..Self::default() }
    }

    /// Reads the people of a ledger as of a run; what a later source says of somebody adds to what an earlier one did.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn load(reader: &Reader<'_>, run: Option<i64>, project: &Project, at: Timestamp) -> Result<Self, LedgerError> {
        let mut people = Self::nobody(project, at);
        reader.each_person(run, |id, body| people.add(id, body))?;
        for row in reader.acceptances(run)? {
            let device = project.lifecycles.name(&row.device, at).to_owned();
            let acceptance = Acceptance { device, terms: row.terms, version: row.version };
            people.accepted.entry(PersonId::from(row.person.as_str())).or_default().push(acceptance);
        }
        Ok(people)
    }

    /// Adds an entry of a list; ids come in ascending order.
    fn add(&mut self, id: &str, body: &str) {
        let begin = self.texts.len();
        self.texts.push_str(body);
        self.texts.push('\n');
        match self.listed.last_mut().filter(|last| last.id.as_str() == id) {
            Some(last) => last.texts.end = self.texts.len(),
            None => self.listed.push(ListedPerson {
                id: PersonId::from(id),
                texts: begin..self.texts.len(),
                person: OnceLock::new(),
                belongs: OnceLock::new(),
            }),
        }
    }

    fn listed(&self, id: &str) -> Option<&ListedPerson> {
        let at = self.listed.binary_search_by(|listed| listed.id.as_str().cmp(id)).ok()?;
        Some(&self.listed[at])
    }

    /// Reads what the lists say of somebody.
    fn read(&self, listed: &ListedPerson) -> Option<Person> {
        let mut facts: Option<Vec<(String, Datum)>> = None;
        for text in self.texts[listed.texts.clone()].lines() {
            let Ok(json) = serde_json::from_str(text) else { continue };
            let Datum::Object(fields) = datum_of_json(&json) else { continue };
            let known = facts.get_or_insert_default();
            known.retain(|(key, _)| !fields.iter().any(|(new, _)| new == key));
            known.extend(fields);
        }
        Some(Person { id: listed.id.clone(), facts: Datum::Object(facts?) })
    }

    fn person<'p>(&self, listed: &'p ListedPerson) -> Option<&'p Person> {
        listed.person.get_or_init(|| self.read(listed).map(Box::new)).as_deref()
    }

    /// Returns somebody without keeping what had to be read for it.
    fn passing<'p>(&self, listed: &'p ListedPerson) -> Option<Cow<'p, Person>> {
        match listed.person.get() {
            Some(known) => known.as_deref().map(Cow::Borrowed),
            None => self.read(listed).map(Cow::Owned),
        }
    }

    fn belongs<'p>(&self, listed: &'p ListedPerson, person: &Person, project: &Project) -> &'p Belongs {
        listed.belongs.get_or_init(|| {
            let (zone, watch) = (&project.config.calendar.zone, Watch::default());
            let memberships = project.rules.memberships_of_person(person, self.at, zone, &watch);
            let mut known = Canonical::default();
            known.add(&person.facts).add(&Some(&memberships));
            for one in self.accepted(person.id.as_str()) {
                known.add(&one.device).add(&one.terms).add(&one.version);
            }
            let digest = blake3::hash(&known.into_bytes());
            Box::new(Belongs { memberships, digest: std::array::from_fn(|at| digest.as_bytes()[at]) })
        })
    }

    fn accepted(&self, id: &str) -> &[Acceptance] {
        if self.accepted.is_empty() {
            return &[];
        }
        self.accepted.get(&PersonId::from(id)).map_or(&[], Vec::as_slice)
    }

    /// Returns the first moment after `at` at which time alone may change who belongs to which groups.
    pub(crate) fn until(&self, project: &Project, at: Timestamp) -> Timestamp {
        let (zone, watch) = (&project.config.calendar.zone, Watch::default());
        if project.rules.people_groups_read_clock() {
            for person in self.listed.iter().filter_map(|listed| self.passing(listed)) {
                project.rules.memberships_of_person(&person, at, zone, &watch);
            }
        }
        watch.until()
    }

    /// Returns a digest of what is known of a person: nothing where the list does not know the id.
    pub(crate) fn digest(&self, id: &str, project: &Project) -> &[u8] {
        let known = self.listed(id).and_then(|listed| Some((listed, self.person(listed)?)));
        known.map_or(&[], |(listed, person)| &self.belongs(listed, person, project).digest)
    }

    /// Returns a person by id.
    pub fn get(&self, id: &str) -> Option<&Person> {
        self.person(self.listed(id)?)
    }

    /// Returns a person by id, of whom nothing more will be asked: what had to be read for it is not kept.
    pub(crate) fn get_once(&self, id: &str) -> Option<Cow<'_, Person>> {
        self.passing(self.listed(id)?)
    }

    /// Returns the mail address of a person, where the lists have one that can be written to.
    pub(crate) fn mail_of(&self, id: &str) -> Option<String> {
        let person = self.get_once(id)?;
        person.text("mail").filter(|mail| is_address(mail)).map(str::to_owned)
    }

    /// Returns everybody, ascending by id.
    pub fn all(&self) -> impl Iterator<Item = &Person> {
        self.listed.iter().filter_map(|listed| self.person(listed))
    }

    /// Returns the ids of everybody on a list, ascending.
    pub fn ids(&self) -> impl Iterator<Item = &str> {
        self.listed.iter().map(|listed| listed.id.as_str())
    }

    /// Returns a person's memberships, one a group of the project.
    pub fn memberships(&self, id: &str, project: &Project) -> &[Membership] {
        let known = self.listed(id).and_then(|listed| Some((listed, self.person(listed)?)));
        known.map_or(&self.stranger, |(listed, person)| &self.belongs(listed, person, project).memberships)
    }

    /// Returns somebody as the holder of a device at a moment; `watch` notes until when the memberships hold.
    pub(crate) fn holder<'a>(&'a self, id: &'a str, of: &AskedMemberships<'_, 'a>) -> Holder<'a> {
        let AskedMemberships { project, at, watch, arena } = *of;
        let accepted = self.accepted(id);
        let Some(person) = self.get(id) else {
            return Holder { id, person: None, memberships: &self.stranger, accepted };
        };
        let memberships = if project.rules.people_groups_read_clock() {
            let own = Watch::default();
            let zone = &project.config.calendar.zone;
            let found = project.rules.memberships_of_person(person, at, zone, watch.unwrap_or(&own));
            arena.alloc_slice_fill_iter(found)
        } else {
            self.memberships(id, project)
        };
        Holder { id, person: Some(person), memberships, accepted }
    }
}
