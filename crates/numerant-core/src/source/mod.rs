//! Opening what is to be read: files, standard input, compressed or not.
//!
//! A source is only ever read. What a file holds wins over what its name claims: compression and
//! formats that are no text are told by their first bytes. A zip archive is a folder of sources.

mod archive;
mod detect_encoding;
mod encoding;
mod error;
mod lock;
mod natural;
mod open;
mod select;
mod shared;
mod utf32;

pub use archive::Member;
pub(crate) use archive::{is_bomb, members};
pub(crate) use detect_encoding::{DetectedEncoding, detect_encoding, detect_legacy};
pub use encoding::{Encoding, EncodingError};
pub(crate) use encoding::{Malformed, Transcoder, mostly_utf16};
pub use error::{Place, ReadError, ReadProblem};
pub(crate) use lock::{is_lock, is_open_elsewhere};
pub use open::{Compression, Identity, Input, SourcePath};
pub(crate) use open::{as_text, as_texts, common_folder, plain};
pub use select::{FilePattern, Found, SelectError, Selected, Selection, select};
pub(crate) use shared::SharedFile;
pub(crate) use utf32::{Utf32, Utf32Reader};
