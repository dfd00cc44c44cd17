//! Reads big-endian values from some bytes, each in turn, as files of keys and of tickets hold them.

/// What is left to be read. Every value that is not there whole is none.
pub(super) struct Reader<'a>(pub(super) &'a [u8]);

impl<'a> Reader<'a> {
    pub(super) fn take(&mut self, n: usize) -> Option<&'a [u8]> {
        let (head, rest) = self.0.split_at_checked(n)?;
        self.0 = rest;
        Some(head)
    }
    pub(super) fn u8(&mut self) -> Option<u8> {
        self.take(1).map(|b| b[0])
    }
    pub(super) fn u16(&mut self) -> Option<u16> {
        self.take(2).map(|b| u16::from_be_bytes([b[0], b[1]]))
    }
    pub(super) fn u32(&mut self) -> Option<u32> {
        self.take(4).map(|b| u32::from_be_bytes([b[0], b[1], b[2], b[3]]))
    }
    /// Bytes after their length in two.
    pub(super) fn short(&mut self) -> Option<&'a [u8]> {
        let length = self.u16()?;
        self.take(usize::from(length))
    }
    /// Bytes after their length in four.
    pub(super) fn long(&mut self) -> Option<&'a [u8]> {
        let length = self.u32()?;
        self.take(usize::try_from(length).ok()?)
    }
}

/// Bytes as text; whatever is no UTF-8 is marked as such.
pub(super) fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}
