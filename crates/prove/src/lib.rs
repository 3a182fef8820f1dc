//! Proves the chain with logins of its own: rehearsals, drills, and looking for the layer that fails.

pub mod drill;
pub mod eap;
pub mod locate;
pub mod rehearsal;
