//! Terms: texts that people have to accept before a service lets them in with a device.

use crate::diagnostic::Named;
use crate::fleet::group::Whom;
use crate::id::TermsId;

/// Terms as written.
#[derive(Clone, Debug)]
pub struct TermsSource {
    /// Their id.
    pub id: Named,
    /// What people call them.
    pub title: Option<String>,
    /// The version that has to be accepted.
    pub version: String,
    /// Where their text lies, from the workspace's root.
    pub file: Option<Named>,
    /// Groups or branches of people who have to accept them; everybody, when empty.
    pub people: Vec<Named>,
}

/// Terms that access rules may ask for.
#[derive(Clone, Debug)]
pub struct Terms {
    /// Their id.
    pub id: TermsId,
    /// What people call them.
    pub title: String,
    /// The version that has to be accepted.
    pub version: String,
    pub(crate) people: Vec<Whom>,
}
