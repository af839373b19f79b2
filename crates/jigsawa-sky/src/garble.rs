//! Bytes and texts spoilt by chance: what tests give to everything that reads what others have written.
//!
//! A seed of the corpus is changed a few times over: bits turned, bytes and records taken out, doubled, put elsewhere or
//! taken from another seed, numbers set to what programs stumble over. The same number gives the same spoilt text, so
//! that a failure is found again.

use jigsawa_core::number::Convert;
use std::path::Path;

/// Numbers at which programs stumble.
const NUMBERS: [&str; 18] = [
    "0",
    "-1",
    "1",
    "2",
    "3",
    "255",
    "65536",
    "2147483647",
    "-2147483648",
    "4294967296",
    "9223372036854775807",
    "1e308",
    "-1e308",
    "1e-320",
    "NaN",
    "inf",
    "1e9",
    "0.1",
];

/// Bytes of a record of a FITS header.
const RECORD: usize = 80;

/// A source of spoilt seeds.
pub struct Garble {
    state: u64,
    corpus: Vec<Vec<u8>>,
}

impl Garble {
    /// Of a corpus, which must not be empty.
    ///
    /// # Panics
    /// When it is: a test without seeds tests nothing.
    pub fn new(corpus: Vec<Vec<u8>>) -> Self {
        assert!(!corpus.is_empty(), "a corpus without seeds");
        Self { state: 0, corpus }
    }

    /// Of the files in a folder, in the order of their names.
    ///
    /// # Panics
    /// When the folder cannot be read or holds no file.
    pub fn of_folder(folder: &Path) -> Self {
        let mut paths: Vec<_> = std::fs::read_dir(folder)
            .unwrap_or_else(|e| panic!("{}: {e}", folder.display()))
            .flatten()
            .map(|e| e.path())
            .filter(|p| p.is_file())
            .collect();
        paths.sort();
        Self::new(paths.iter().flat_map(std::fs::read).collect())
    }

    /// The seeds themselves.
    pub fn seeds(&self) -> &[Vec<u8>] {
        &self.corpus
    }

    /// The spoilt bytes of this number.
    pub fn bytes(&mut self, number: u64) -> Vec<u8> {
        self.state = number.wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ 0xD1B5_4A32_D192_ED03;
        let mut bytes = self.seed().clone();
        for _ in 0..=self.below(6) {
            self.spoil(&mut bytes);
        }
        bytes
    }

    /// The spoilt text of this number.
    pub fn text(&mut self, number: u64) -> String {
        String::from_utf8_lossy(&self.bytes(number)).into_owned()
    }

    fn next(&mut self) -> u64 {
        // Xorshift (Marsaglia 2003) after a step that lets no state stay zero.
        self.state = self.state.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut x = self.state;
        x = (x ^ (x >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        x = (x ^ (x >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        x ^ (x >> 31)
    }

    fn below(&mut self, n: usize) -> usize {
        (self.next() % n.max(1) as u64).index()
    }

    fn seed(&mut self) -> &Vec<u8> {
        let i = self.below(self.corpus.len());
        &self.corpus[i]
    }

    fn spoil(&mut self, bytes: &mut Vec<u8>) {
        let length = bytes.len();
        if length == 0 {
            bytes.extend(self.seed().clone());
            return;
        }
        let at = self.below(length);
        let reach = [1, 2, 4, 8, RECORD, 400][self.below(6)];
        let end = (at + 1 + self.below(reach)).min(length);
        match self.below(9) {
            0 => bytes[at] ^= 1 << self.below(8),
            1 => bytes[at] = self.next().byte(),
            2 => drop(bytes.drain(at..end)),
            3 => {
                let piece = bytes[at..end].to_vec();
                let to = self.below(length);
                bytes.splice(to..to, piece);
            }
            4 => {
                let other = self.seed().clone();
                let from = self.below(other.len());
                let to = (from + 1 + self.below(400)).min(other.len());
                bytes.splice(at..at, other[from.min(to)..to].iter().copied());
            }
            5 => bytes.truncate(at),
            6 | 7 => self.number(bytes, at),
            _ => self.record(bytes),
        }
    }

    /// Sets the number that follows a place to another. A header's records keep their length.
    fn number(&mut self, bytes: &mut Vec<u8>, at: usize) {
        let digit = |b: &u8| b.is_ascii_digit();
        let Some(from) = bytes[at..].iter().position(digit).map(|i| at + i) else {
            return;
        };
        let word = NUMBERS[self.below(NUMBERS.len())].as_bytes();
        let to = bytes[from..]
            .iter()
            .position(|b| !(b.is_ascii_digit() || b".eE+-".contains(b)))
            .map_or(bytes.len(), |i| from + i);
        // A header's number is followed by blanks: they take what is longer.
        let blanks = bytes[to..].iter().take_while(|b| **b == b' ').count();
        let wide = (to + blanks).min(from + word.len()).max(to);
        let mut new = word.to_vec();
        if bytes.len().is_multiple_of(RECORD) {
            new.resize((wide - from).max(word.len()), b' ');
        }
        bytes.splice(from..wide, new);
    }

    /// Moves, doubles or takes out a record.
    fn record(&mut self, bytes: &mut Vec<u8>) {
        let records = bytes.len() / RECORD;
        let at = self.below(records) * RECORD;
        let Some(record) = bytes.get(at..at + RECORD).map(<[u8]>::to_vec) else {
            return;
        };
        if self.below(2) == 0 {
            bytes.drain(at..at + RECORD);
        }
        let to = self.below(records) * RECORD;
        if to <= bytes.len() {
            bytes.splice(to..to, record);
        }
    }
}

/// How many spoilt seeds a test tries: `usual`, or what `JIGSAWA_FUZZ_RUNS` says.
pub fn runs(usual: u64) -> u64 {
    let asked = std::env::var("JIGSAWA_FUZZ_RUNS");
    asked.ok().and_then(|n| n.parse().ok()).unwrap_or(usual)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_same_number_gives_the_same_bytes_and_most_are_spoilt() {
        let seed = b"NAXIS1  =                  100 / pixels".to_vec();
        let mut garble = Garble::new(vec![seed.clone(), b"70% OIII + 30% Ha".to_vec()]);
        let first: Vec<Vec<u8>> = (0..500).map(|n| garble.bytes(n)).collect();
        let again: Vec<Vec<u8>> = (0..500).map(|n| garble.bytes(n)).collect();
        assert_eq!(first, again);
        let untouched = first.iter().filter(|b| garble.seeds().contains(b)).count();
        assert!(untouched < 50, "{untouched}");
    }
}
