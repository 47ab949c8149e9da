//! Digests of files: SHA-256 (FIPS 180-4), which other tools can check as well.

use std::fmt::Write;

use sha2::{Digest, Sha256};

/// The digest of a file as its bytes come.
#[derive(Clone, Debug, Default)]
pub struct FileDigest(Sha256);

impl FileDigest {
    /// Takes the next bytes.
    pub fn update(&mut self, bytes: &[u8]) {
        self.0.update(bytes);
    }

    /// The digest in hexadecimal.
    pub fn finish(self) -> String {
        let mut text = String::with_capacity(64);
        for byte in self.0.finalize() {
            // Writing to a String cannot fail.
            let _ = write!(text, "{byte:02x}");
        }
        text
    }
}

/// The digest of `bytes` in hexadecimal.
pub fn sha256_hex(bytes: &[u8]) -> String {
    let mut digest = FileDigest::default();
    digest.update(bytes);
    digest.finish()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn digests_are_those_of_the_standard() {
        // FIPS 180-4, example of one block.
        assert_eq!(
            sha256_hex(b"abc"),
            "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"
        );
    }
}
