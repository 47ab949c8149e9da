//! From trees to columns: records of documents are laid out as records of named columns.

mod alike;
mod lay;
mod opened;
mod reader;
mod source;
mod text;

pub use alike::Likenesses;
pub use opened::{FoundRecords, Leaf, MOST_DEPTH, OpenedTrees, RecordOddities, TreeFormat, Trees};
pub use reader::TreeReader;
pub use source::TreeSource;
pub use text::Text;
