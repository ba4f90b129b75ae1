//! What people ask for: planning, beginning, rehearsing, deciding. It sends to the loop, and knows nothing of its turn.

mod beginning;
mod deciding;
pub(crate) mod deeds;
mod diverting;
mod of_hosts;
mod planning;
pub(crate) mod rehearsing;
pub(crate) mod requests;
