//! What inquiries of a leg may take: time, bytes and wear.

use crate::quantity::units::Bytes;

/// What may be spent, or is left of it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Budget {
    /// Time.
    pub seconds: f64,
    /// Bytes read and written.
    pub bytes: Bytes,
    /// Bytes written, where their wear has a bound of its own: ratings count what a host writes.
    pub written: Option<Bytes>,
}

impl Budget {
    /// What is left once so much was spent.
    pub fn less(self, seconds: f64, bytes: Bytes, written: Bytes) -> Self {
        Self {
            seconds: self.seconds - seconds,
            bytes: self.bytes.saturating_sub(bytes),
            written: self.written.map(|w| w.saturating_sub(written)),
        }
    }

    /// So many bytes, of which so many were written, are more than it allows.
    pub fn is_exceeded_by(&self, bytes: Bytes, written: Bytes) -> bool {
        bytes > self.bytes || self.written.is_some_and(|most| written > most)
    }

    /// Nothing can be written any more.
    pub fn is_spent(&self) -> bool {
        self.bytes == Bytes::ZERO || self.written == Some(Bytes::ZERO)
    }
}
