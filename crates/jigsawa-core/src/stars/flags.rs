//! What is known against a star: one table that code, files and reports read.

use serde::{Deserialize, Serialize};

/// A reason not to trust some part of a star's measurements.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Flag {
    /// Its core is flat or at the saturation level: position and flux are unreliable.
    Saturated,
    /// Another star lies within its profile.
    Blended,
    /// Missing pixels or the frame's edge lie within its profile.
    Edge,
}

/// Every flag with its short name and what it means.
pub const FLAGS: [(Flag, &str, &str); 3] = [
    (
        Flag::Saturated,
        "saturated",
        "core at the saturation level or flat",
    ),
    (
        Flag::Blended,
        "blended",
        "another star within twice the FWHM",
    ),
    (
        Flag::Edge,
        "edge",
        "missing pixels or the frame's edge within the profile",
    ),
];

/// The flags of one star.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Flags(u8);

impl Flags {
    /// Sets a flag.
    pub fn set(&mut self, flag: Flag) {
        self.0 |= 1 << flag as u8;
    }

    /// The same without a flag.
    #[must_use]
    pub const fn without(self, flag: Flag) -> Self {
        Self(self.0 & !(1 << flag as u8))
    }

    /// Is the flag set?
    pub const fn has(self, flag: Flag) -> bool {
        self.0 & (1 << flag as u8) != 0
    }

    /// Nothing is known against the star.
    pub const fn is_clean(self) -> bool {
        self.0 == 0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn flags_do_not_touch_each_other() {
        for (flag, _, _) in FLAGS {
            let mut set = Flags::default();
            assert!(set.is_clean());
            set.set(flag);
            for (other, _, _) in FLAGS {
                assert_eq!(set.has(other), flag == other);
            }
            assert!(set.without(flag).is_clean());
        }
    }
}
