//! One module per command.

pub(crate) mod audit;
pub(crate) mod budget;
pub(crate) mod chain;
pub(crate) mod directory;
pub(crate) mod doctor;
pub(crate) mod drill;
mod eap_login;
pub(crate) mod factor;
pub(crate) mod gateway;
pub(crate) mod lab;
pub(crate) mod load;
pub(crate) mod locate;
pub(crate) mod login;
pub(crate) mod operator;
pub(crate) mod person;
pub(crate) mod push;
pub(crate) mod read;
pub(crate) mod rehearse;
pub(crate) mod replay;
pub(crate) mod rule;
pub(crate) mod secret;
pub(crate) mod serve;
pub(crate) mod session;
pub(crate) mod site;
pub(crate) mod trace;
pub(crate) mod upstream;
pub(crate) mod who;
