//! Digests of files: BLAKE3, which other programs can check as well.

/// The digest of a file as its bytes come.
#[derive(Clone, Debug, Default)]
pub struct FileDigest(Box<blake3::Hasher>);

impl FileDigest {
    /// Takes the next bytes.
    pub fn update(&mut self, bytes: &[u8]) {
        self.0.update(bytes);
    }

    /// The digest in hexadecimal, 64 digits.
    pub fn finish(self) -> String {
        self.0.finalize().to_hex().to_string()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn digests_are_those_of_the_specification() {
        let mut digest = FileDigest::default();
        digest.update(b"abc");
        assert_eq!(
            digest.finish(),
            "6437b3ac38465133ffb63b75273a8db548c558465d79db03fd359c6cd5bd9d85"
        );
    }
}
