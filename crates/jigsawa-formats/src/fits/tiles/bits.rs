//! Bits of a byte stream, the highest of each byte first. The end of the stream is an answer, not a fault.

use jigsawa_core::number::Convert;

/// A stream of bits.
pub(super) struct Bits<'a> {
    bytes: &'a [u8],
    /// Bits that are read already, in the low end; those above `held` are zero.
    buffer: u64,
    held: u32,
}

impl<'a> Bits<'a> {
    pub(super) const fn new(bytes: &'a [u8]) -> Self {
        Self {
            bytes,
            buffer: 0,
            held: 0,
        }
    }

    /// Holds at least `count` bits (32 at most), if there are so many.
    fn fill(&mut self, count: u32) -> bool {
        while self.held < count {
            let Some((first, rest)) = self.bytes.split_first() else {
                return false;
            };
            self.buffer = (self.buffer << 8) | u64::from(*first);
            self.held += 8;
            self.bytes = rest;
        }
        true
    }

    /// The next `count` bits (32 at most) as a number; `None` at the end.
    #[inline]
    pub(super) fn take(&mut self, count: u32) -> Option<u32> {
        if count == 0 {
            return Some(0);
        }
        if !self.fill(count) {
            return None;
        }
        self.held -= count;
        let value = (self.buffer >> self.held).u32();
        self.buffer &= (1 << self.held) - 1;
        Some(value)
    }

    /// How many zeros stand before the next one, which is passed over; `None` at the end.
    #[inline]
    pub(super) fn zeros(&mut self) -> Option<u32> {
        let mut zeros = 0;
        while self.buffer == 0 {
            zeros += self.held;
            self.held = 0;
            if !self.fill(8) {
                return None;
            }
        }
        let lead = self.held - (64 - self.buffer.leading_zeros());
        self.held -= lead + 1;
        self.buffer &= (1 << self.held) - 1;
        Some(zeros + lead)
    }

    /// Passes over the rest of the byte that is being read.
    pub(super) const fn next_byte(&mut self) {
        self.held -= self.held % 8;
        self.buffer &= (1 << self.held) - 1;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bits_come_from_the_high_end_and_stop_at_the_end() {
        let mut bits = Bits::new(&[0b1010_0000, 0b0000_0001, 0xff]);
        assert_eq!(bits.take(3), Some(0b101));
        assert_eq!(bits.zeros(), Some(12));
        assert_eq!(bits.take(4), Some(15));
        bits.next_byte();
        assert_eq!(bits.take(1), None);
        assert_eq!(Bits::new(&[0, 0]).zeros(), None);
    }
}
