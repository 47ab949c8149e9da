//! Holds outputs against a kept ledger, and parts against the whole.

mod ledger;
mod parts;

pub use ledger::{ChangedOutput, LedgerCheck, verify_ledger};
pub use parts::{ChangedValue, FoundRecord, PartsCheck, PartsOptions, verify_parts};
