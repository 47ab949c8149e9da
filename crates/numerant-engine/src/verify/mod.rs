//! Holds outputs against a kept ledger, and parts against the whole.

mod compared;
mod ledger;
mod parts;
mod run;

pub use ledger::{ChangedOutput, LedgerCheck, outputs_of_ledger, verify_ledger};
pub(super) use ledger::{folder_of_outputs, read_ledger};
pub use parts::{ChangedValue, FoundRecord, PartsCheck, PartsOptions, verify_parts};
pub use run::parts_of_run;
