//! Fuzz targets for every parser of input from outside.
//!
//! The targets are the tests of this crate. `cargo test --package bivector-fuzz` gives each of them a thousand random inputs.
//! `cargo bolero test --package bivector-fuzz --test packets -- access_requests` (from `cargo-bolero`) searches one of them for as
//! long as wanted, guided by coverage.
