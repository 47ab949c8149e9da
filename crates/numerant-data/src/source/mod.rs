//! Opening what is to be read: files, standard input, compressed or not.
//!
//! A source is only ever read. What a file holds wins over what its name claims: compression and
//! binary formats are detected from their first bytes. A zip archive is a folder of sources.

mod archive;
mod error;
mod lock;
mod natural;
mod open;
mod select;
mod shared;

pub use archive::{Member, is_bomb, members};
pub use error::{Place, ReadError, ReadProblem};
pub use lock::{is_lock, is_open_elsewhere};
pub use natural::natural;
pub use open::{Compression, Identity, Input, SourcePath, as_text, as_texts, common_folder, plain};
pub use select::{FilePattern, Found, SelectError, Selected, Selection, select};
pub use shared::SharedFile;
