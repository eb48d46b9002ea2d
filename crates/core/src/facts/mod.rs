//! Facts: values and their types, how documents are read into slots, how what several sources say is merged, and until when it
//! holds. Start reading at [`merge`](merge::merge).

pub(crate) mod comparison;
pub(crate) mod dictionary;
pub(crate) mod fingerprint;
pub(crate) mod layout;
pub(crate) mod merge;
pub(crate) mod packed;
pub(crate) mod period;
pub(crate) mod secrecy;
pub(crate) mod temporal;
pub(crate) mod validity;
pub(crate) mod value;
pub(crate) mod version;
