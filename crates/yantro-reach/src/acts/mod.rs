//! Acts: what gives them, what records them, whose account and secrets they take.

pub(crate) mod accounts;
pub(crate) mod descriptors;
pub(crate) mod leave;
pub(crate) mod recorder;
pub(crate) mod secrets;
pub(crate) mod whole;
