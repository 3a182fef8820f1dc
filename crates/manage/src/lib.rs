//! What operators change: the site (applied as a whole, confirmed or taken back), and people by the file, and sessions that are to end.

pub mod apply;
pub mod confirm;
pub mod edit;
pub mod edits;
pub mod people;
pub mod sessions;
