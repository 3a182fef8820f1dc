//! Time: whether everybody waits long enough for whom they wait for, and what thousands of logins would see of it.

pub mod budget;
pub mod simulate;
