//! Eight numbers at once: one set of words, two ways to do them.
//!
//! `wide` is compiled for the least machine and uses halves of the registers that most machines have; with
//! it alone a sample took half as long again (bench `resample_a_megapixel`). On x86 machines with AVX2 a
//! token of `pulp` says so and gives whole registers, without unsafe code here. Multiplications and additions
//! stay apart in both, so that both give the same bits.

// What runs under a token must be part of the function that the token belongs to; a call in between would
// lose the wide registers.
#![allow(clippy::inline_always)]

use wide::f32x8;

/// Arithmetic on eight numbers.
pub(super) trait Lanes: Copy {
    /// The eight.
    type Eight: Copy;
    /// The first eight of a slice.
    fn load(self, values: &[f32]) -> Self::Eight;
    /// Eight times the same.
    fn splat(self, value: f32) -> Self::Eight;
    /// Products.
    fn mul(self, a: Self::Eight, b: Self::Eight) -> Self::Eight;
    /// Sums.
    fn add(self, a: Self::Eight, b: Self::Eight) -> Self::Eight;
    /// As an array.
    fn array(self, a: Self::Eight) -> [f32; 8];
}

/// On any machine.
#[derive(Clone, Copy)]
pub(super) struct Portable;

#[inline(always)]
fn first_eight(values: &[f32]) -> [f32; 8] {
    let mut lanes = [0.0; 8];
    lanes.copy_from_slice(&values[..8]);
    lanes
}

impl Lanes for Portable {
    type Eight = f32x8;

    #[inline(always)]
    fn load(self, values: &[f32]) -> f32x8 {
        f32x8::new(first_eight(values))
    }

    #[inline(always)]
    fn splat(self, value: f32) -> f32x8 {
        f32x8::splat(value)
    }

    #[inline(always)]
    fn mul(self, a: f32x8, b: f32x8) -> f32x8 {
        a * b
    }

    #[inline(always)]
    fn add(self, a: f32x8, b: f32x8) -> f32x8 {
        a + b
    }

    #[inline(always)]
    fn array(self, a: f32x8) -> [f32; 8] {
        a.to_array()
    }
}

#[cfg(target_arch = "x86_64")]
impl Lanes for pulp::x86::V3 {
    type Eight = pulp::f32x8;

    #[inline(always)]
    fn load(self, values: &[f32]) -> pulp::f32x8 {
        pulp::cast(first_eight(values))
    }

    #[inline(always)]
    fn splat(self, value: f32) -> pulp::f32x8 {
        self.splat_f32x8(value)
    }

    #[inline(always)]
    fn mul(self, a: pulp::f32x8, b: pulp::f32x8) -> pulp::f32x8 {
        self.mul_f32x8(a, b)
    }

    #[inline(always)]
    fn add(self, a: pulp::f32x8, b: pulp::f32x8) -> pulp::f32x8 {
        self.add_f32x8(a, b)
    }

    #[inline(always)]
    fn array(self, a: pulp::f32x8) -> [f32; 8] {
        pulp::cast(a)
    }
}
