//! What commands print, and how they end when they do not end well.

pub mod failure;
pub mod findings;
pub mod output;
pub mod waterfall;
