//! Black-box tests: the real binary, driven through its command line, its HTTP API, its UDP sockets and its page.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test says by panicking what went wrong")]

mod accessibility;
mod active_directory;
mod api;
mod approval;
mod browser;
mod causes;
mod change;
mod cli;
mod console;
mod console_prove;
mod console_timing;
mod demo;
mod directory;
mod durability;
mod eap;
mod explain;
mod gateway;
mod handset_page;
mod harness;
mod ike;
mod locate;
mod operators;
mod people;
mod probe;
mod push;
mod push_page;
mod radius;
mod real_gateways;
mod rehearsal;
mod rules;
mod second;
mod security;
mod security_sign_ins;
mod session_peers;
mod sessions;
mod shape;
mod site;
mod slapd;
mod snapshots;
mod start;
mod timing;
mod upstream;
