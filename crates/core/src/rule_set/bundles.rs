//! Bundles: sets of settings that another tool applies, each for the devices of a group of its own.

use crate::diagnostic::{Diagnostic, Named};
use crate::facts::fingerprint::Fingerprint;
use crate::fleet::group::GroupSource;
use crate::id::ActionId;

/// A bundle as written.
#[derive(Clone, Debug)]
pub struct BundleSource {
    /// Its id.
    pub id: Named,
    /// What it is, for people.
    pub title: Option<String>,
    /// The channel that is told who enters and who leaves.
    pub to: Option<String>,
    /// Which devices should have it.
    pub group: GroupSource,
}

/// A bundle, ready to be asked for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Bundle {
    /// Its id.
    pub id: String,
    /// What it is, for people.
    pub title: Option<String>,
    /// The channel that is told who enters and who leaves; none where nobody is.
    pub to: Option<String>,
}

/// Returns the number by which deliveries name a bundle where they name findings else.
pub fn bundle_number(bundle: &str) -> u64 {
    let mut id = Fingerprint::new();
    id.text("bundle");
    id.text(bundle);
    id.value()
}

impl ActionId {
    /// Returns the id of a change of a bundle: that a device enters or leaves it, after so many changes that were handed over.
    pub fn of_bundle_change(bundle: &str, device: &str, change: &str, handed_over: u32) -> Self {
        let mut id = Fingerprint::new();
        for text in ["bundle", bundle, device, change] {
            id.text(text);
        }
        id.bytes(&handed_over.to_le_bytes());
        Self::of_number(id.value())
    }
}

impl BundleSource {
    /// Returns the group of its devices, under a name that no group of the workspace can have.
    pub(super) fn hidden_group(&self) -> GroupSource {
        let id = Named { text: format!("bundle:{}", self.id.text), span: self.id.span.clone() };
        GroupSource { id, ..self.group.clone() }
    }
}

/// Returns the bundles, and reports those of one id.
pub(super) fn compile_bundles(sources: &[BundleSource], mistakes: &mut Vec<Diagnostic>) -> Vec<Bundle> {
    super::responses::check_ids(sources.iter().map(|source| &source.id), "two bundles are", mistakes);
    let bundle = |source: &BundleSource| Bundle {
        id: source.id.text.clone(),
        title: source.title.clone(),
        to: source.to.clone(),
    };
    sources.iter().map(bundle).collect()
}
