//! One number as another: the only casts there are.
//!
//! Pixels, indices and counts change their type all day here. Reals that the other type cannot hold become the nearest that it
//! can; whole numbers are held to fit by whoever asks, and wrap where they do not. Nothing panics.

/// A number that becomes another.
pub trait Convert: Copy {
    /// As a real number: whole ones are exact below 2^53.
    fn real(self) -> f64;
    /// In single precision: whole numbers are exact below 2^24.
    fn single(self) -> f32;
    /// As a whole number: reals are cut towards zero; what is too large becomes the largest, no number 0.
    fn whole(self) -> i64;
    /// As an index or a count: reals are cut towards zero, and below zero there is 0. Whole numbers must not be below zero.
    fn index(self) -> usize;
    /// As a grey of eight bits: reals are cut towards zero and to 0 to 255; whole numbers must fit.
    fn byte(self) -> u8;
    /// For formats and bits: reals are cut towards zero and to what there is; whole numbers must fit.
    fn u16(self) -> u16;
    /// The same with 32 bits.
    fn u32(self) -> u32;
    /// The same with 64 bits.
    fn u64(self) -> u64;
    /// The same with a sign.
    fn i16(self) -> i16;
    /// The same with a sign and 32 bits.
    fn i32(self) -> i32;
    /// The same, as a distance between indices.
    fn isize(self) -> isize;
}

macro_rules! number {
    ($($from:ty),*) => { $(
        #[allow(
            clippy::cast_possible_truncation,
            clippy::cast_possible_wrap,
            clippy::cast_precision_loss,
            clippy::cast_sign_loss,
            clippy::cast_lossless,
            clippy::unnecessary_cast
        )]
        impl Convert for $from {
            #[inline]
            fn real(self) -> f64 { self as f64 }
            #[inline]
            fn single(self) -> f32 { self as f32 }
            #[inline]
            fn whole(self) -> i64 { self as i64 }
            #[inline]
            fn index(self) -> usize { self as usize }
            #[inline]
            fn byte(self) -> u8 { self as u8 }
            #[inline]
            fn u16(self) -> u16 { self as u16 }
            #[inline]
            fn u32(self) -> u32 { self as u32 }
            #[inline]
            fn u64(self) -> u64 { self as u64 }
            #[inline]
            fn i16(self) -> i16 { self as i16 }
            #[inline]
            fn i32(self) -> i32 { self as i32 }
            #[inline]
            fn isize(self) -> isize { self as isize }
        }
    )* };
}

number!(u8, u16, u32, u64, usize, i16, i32, i64, isize, f32, f64);

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_type_cannot_hold_becomes_the_nearest_that_it_can() {
        assert_eq!((300.7f64.byte(), (-3.0f32).byte()), (255, 0));
        assert_eq!((-0.5f64).index(), 0);
        assert_eq!((2.9f64.whole(), (-2.9f64).whole()), (2, -2));
        assert_eq!((f64::NAN.index(), f64::INFINITY.whole()), (0, i64::MAX));
        assert_eq!((16_777_217usize.single(), 7u64.real()), (16_777_216.0, 7.0));
    }
}
