//! The merge that makes a colour composite: one mix a channel, on light above the sky.
//!
//! Balanced frames all have the reference's sky level. It is taken off before mixing and put back
//! after, so that "2 R" doubles stars and nebula and leaves the sky's level alone, ratios are ratios
//! of light, and any mix leaves a neutral sky neutral.
//!
//! What a mix names is a [`Source`]: one frame, or several of one filter, which are averaged by their weights
//! wherever they have data, without what only one of three or more shows.

use crate::merge::{Averaged, LeftOut, Row, TileOp};

use super::luminance::{Luminance, with_luminance};
use super::mix::BoundMix;

/// Levels that a composite needs, in the reference's units.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct White {
    /// The sky's level.
    pub sky: f32,
    /// Noise of the sky's pixels.
    pub noise: f32,
    /// The level of full light, above the sky: the reference's saturation, or its brightest star.
    pub full: f32,
}

/// An input that a source is made of.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Part {
    /// Its number.
    pub input: usize,
    /// How much it counts.
    pub weight: f32,
    /// Noise of its sky's pixels, balanced; 0 where it is not known.
    pub noise: f32,
}

/// What a name in a mix stands for.
#[derive(Debug, Clone, PartialEq)]
pub struct Source {
    /// The inputs of the merge that it is the mean of.
    pub inputs: Vec<Part>,
    /// What its light above the sky is multiplied by: lines are brought to comparable strength.
    pub factor: f32,
    /// The source whose light is taken off, and how much of it, before the factor: the starlight that a line's
    /// filter lets through.
    pub continuum: Option<(usize, f32)>,
}

impl Source {
    /// One input, as it is.
    pub fn of(input: usize) -> Self {
        Self {
            inputs: vec![Part {
                input,
                weight: 1.0,
                noise: 0.0,
            }],
            factor: 1.0,
            continuum: None,
        }
    }
}

/// A composite of some mixes over sources, with a luminance if there is one.
#[derive(Debug)]
pub struct Composite {
    /// What the mixes name by number.
    pub sources: Vec<Source>,
    /// A mix for each plane of the result: red, green, blue, of one picture or of several.
    pub channels: Vec<BoundMix>,
    /// Brightness from a mix of its own, for the first three planes.
    pub luminance: Option<(BoundMix, Luminance)>,
    /// Levels.
    pub white: White,
    /// What is left out where three or more frames of a source overlap.
    pub left_out: LeftOut,
}

impl TileOp for Composite {
    fn planes(&self) -> usize {
        self.channels.len()
    }

    fn run(&self, row: &Row<'_>, out: &mut [&mut [f32]]) {
        let White { sky, noise, full } = self.white;
        let above = self.above_sky(row.values);
        let above: Vec<&[f32]> = above.iter().map(Vec::as_slice).collect();
        for (mix, channel) in self.channels.iter().zip(out.iter_mut()) {
            mix.eval(&above, full, channel);
        }
        if let Some((mix, how)) = &self.luminance {
            let mut brightness = vec![0.0; out[0].len()];
            mix.eval(&above, full, &mut brightness);
            for (i, l) in brightness.iter().enumerate() {
                let rgb = [out[0][i], out[1][i], out[2][i]];
                let [r, g, b] = with_luminance(rgb, *l, *how, noise);
                (out[0][i], out[1][i], out[2][i]) = (r, g, b);
            }
        }
        for channel in out.iter_mut() {
            for v in channel.iter_mut() {
                *v += sky;
            }
        }
    }
}

impl Composite {
    /// The light of each source above the sky.
    pub fn above_sky(&self, inputs: &[&[f32]]) -> Vec<Vec<f32>> {
        let mut above: Vec<Vec<f32>> = self.sources.iter().map(|s| self.mean(s, inputs)).collect();
        for (i, s) in self.sources.iter().enumerate() {
            if let Some((from, part)) = s.continuum {
                // Another line's continuum is taken off its own broad filter, which has none.
                let (own, broad) = two(&mut above, i, from);
                for (v, b) in own.iter_mut().zip(broad) {
                    *v -= part * *b;
                }
            }
        }
        for (s, light) in self.sources.iter().zip(&mut above) {
            if s.factor != 1.0 {
                for v in light.iter_mut() {
                    *v *= s.factor;
                }
            }
        }
        above
    }

    /// The weighted mean of a source's inputs less the sky; missing where all of them are.
    fn mean(&self, source: &Source, inputs: &[&[f32]]) -> Vec<f32> {
        let sky = self.white.sky;
        if let [one] = &source.inputs[..] {
            return inputs[one.input].iter().map(|v| v - sky).collect();
        }
        let parts = &source.inputs;
        let averaged = Averaged {
            runs: &parts.iter().map(|p| inputs[p.input]).collect::<Vec<_>>(),
            weights: &parts.iter().map(|p| p.weight).collect::<Vec<_>>(),
            noise: &parts.iter().map(|p| p.noise).collect::<Vec<_>>(),
            sky,
        };
        let mut out = vec![0.0; inputs.first().map_or(0, |i| i.len())];
        averaged.mean(&self.left_out, &mut out);
        for v in &mut out {
            *v -= sky;
        }
        out
    }
}

/// Two of several, the first to be changed. They are not the same.
fn two(all: &mut [Vec<f32>], own: usize, other: usize) -> (&mut Vec<f32>, &Vec<f32>) {
    if own < other {
        let (a, b) = all.split_at_mut(other);
        (&mut a[own], &b[0])
    } else {
        let (a, b) = all.split_at_mut(own);
        (&mut b[0], &a[other])
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::colour::mix::parse;

    fn composite(sources: Vec<Source>, mixes: &[&str]) -> Composite {
        let names = ["a", "b"];
        let bound = |text: &&str| {
            let number =
                |n: &crate::colour::mix::Name| names.iter().position(|k| *k == n.text).ok_or(());
            parse(text).unwrap().bind(number).unwrap()
        };
        Composite {
            sources,
            channels: mixes.iter().map(bound).collect(),
            luminance: None,
            white: White {
                sky: 100.0,
                noise: 2.0,
                full: 1000.0,
            },
            left_out: LeftOut::default(),
        }
    }

    fn run(c: &Composite, inputs: &[&[f32]]) -> Vec<Vec<f32>> {
        let mut out = vec![vec![0.0; inputs[0].len()]; c.planes()];
        let mut planes: Vec<&mut [f32]> = out.iter_mut().map(Vec::as_mut_slice).collect();
        c.run(&Row::of(inputs), &mut planes);
        out
    }

    #[test]
    fn several_frames_are_averaged_by_weight_where_they_have_data() {
        let two = Source {
            inputs: [(0, 3.0), (1, 1.0)]
                .map(|(input, weight)| Part {
                    input,
                    weight,
                    noise: 2.0,
                })
                .to_vec(),
            ..Source::of(0)
        };
        let out = run(
            &composite(vec![two], &["a"]),
            &[&[110.0, f32::NAN, f32::NAN], &[150.0, 130.0, f32::NAN]],
        );
        assert_eq!(out[0][..2], [120.0, 130.0]);
        assert!(out[0][2].is_nan());
    }

    #[test]
    fn starlight_is_taken_off_a_line_before_it_is_scaled() {
        let line = Source {
            factor: 2.0,
            continuum: Some((1, 0.1)),
            ..Source::of(0)
        };
        let out = run(
            &composite(vec![line, Source::of(1)], &["a", "b"]),
            &[&[160.0], &[300.0]],
        );
        assert_eq!((out[0][0], out[1][0]), (100.0 + 2.0 * (60.0 - 20.0), 300.0));
    }
}
