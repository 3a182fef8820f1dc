//! `bivector lab load`

use crate::arguments::Global;
use crate::failure::Failure;
use std::process::ExitCode;

pub(crate) async fn run(_seconds: u64, _parallel: usize, _rounds: u64, _no_sync: bool, _global: &Global) -> Result<ExitCode, Failure> {
    Err(Failure::no("not yet", ""))
}
