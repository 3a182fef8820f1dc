//! The HTTP side: connections and their limits, who calls, the routes of the API, the console, the handset and the own page.

pub mod api;
pub mod console;
pub mod doctor;
pub mod operators;
pub mod server;
pub mod tls;
