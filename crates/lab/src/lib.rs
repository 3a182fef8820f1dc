//! Stand-ins that ship with Bivector: a directory that speaks LDAP, gateways that send real packets, handsets, load.
//!
//! Nothing here knows the service: what it proves is proved from outside, over sockets.

pub mod badges;
pub mod certificates;
pub mod courier;
pub mod crowd;
pub mod directory;
pub mod eap_load;
mod entries;
pub mod gateway;
pub mod handset;
pub mod link;
pub mod load;
pub mod odd;
pub mod online;
pub mod push;
pub mod slapd;
pub mod upstream;
