//! A place where a star may be.

/// A place where a star may be.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Candidate {
    pub(crate) x: usize,
    pub(crate) y: usize,
    /// Amplitude of the best Gaussian there.
    pub(crate) amplitude: f32,
    /// The amplitude in units of its noise.
    pub(crate) snr: f32,
}
