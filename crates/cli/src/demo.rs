//! x
pub(crate) fn run(_d: Option<&std::path::Path>, _j: bool) -> sieve_store::Result<crate::exit::Outcome> { Ok(crate::exit::Outcome::Fine) }
