//! The steps of finishing, in their fixed order.

/// The steps, in their order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Step {
    /// The picture as it comes, stretched.
    Start,
    /// The leftover gradient taken off.
    Gradient,
    /// The sky made neutral.
    Neutral,
    /// White found.
    White,
    /// Green held down.
    Green,
    /// Noise taken out.
    Denoise,
    /// Blur taken back.
    Deconvolve,
    /// A bright core and faint light brought together.
    Range,
    /// Structures of middle size lifted.
    Contrast,
    /// Colours made stronger.
    Saturation,
    /// Stars made smaller, or taken out.
    Stars,
    /// Small detail lifted.
    Sharpen,
}

impl Step {
    /// All steps in order.
    pub const ALL: [Self; 12] = [
        Self::Start,
        Self::Gradient,
        Self::Neutral,
        Self::White,
        Self::Green,
        Self::Denoise,
        Self::Deconvolve,
        Self::Range,
        Self::Contrast,
        Self::Saturation,
        Self::Stars,
        Self::Sharpen,
    ];

    /// As it is called.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Start => "as it comes",
            Self::Gradient => "gradient",
            Self::Neutral => "neutral sky",
            Self::White => "white",
            Self::Green => "green",
            Self::Denoise => "denoise",
            Self::Deconvolve => "deconvolution",
            Self::Range => "range compression",
            Self::Contrast => "local contrast",
            Self::Saturation => "saturation",
            Self::Stars => "stars",
            Self::Sharpen => "sharpness",
        }
    }
}
