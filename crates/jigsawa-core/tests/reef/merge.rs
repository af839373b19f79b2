//! The same merge by every path gives the same bits.

use jigsawa_core::balance::Balance;
use jigsawa_core::colour::mix::parse;
use jigsawa_core::colour::{Composite, Luminance, Source, White};
use jigsawa_core::doors::{DoorError, FrameSource, TileSink};
use jigsawa_core::merge::{Budget, Input, LeftOut, MergeError, SideBySide, merge};
use jigsawa_core::plane::Plane;
use jigsawa_core::space::{Rect, Size};

use crate::setup::narrow;

fn inputs() -> Vec<Input<'static>> {
    let group = narrow();
    (0..3)
        .map(|i| Input {
            saturation: 62_000.0,
            ..Input::new(
                &group.members[i].taken.plane,
                group.placements[i].clone(),
                group.balances[i].clone(),
            )
        })
        .collect()
}

fn composite() -> Composite {
    let bind = |text: &str| {
        parse(text)
            .unwrap()
            .bind(|n| {
                ["Ha", "OIII", "SII"]
                    .iter()
                    .position(|k| *k == n.text)
                    .ok_or(())
            })
            .unwrap()
    };
    Composite {
        sources: (0..3).map(Source::of).collect(),
        channels: vec![bind("SII"), bind("80% Ha + 20% OIII"), bind("OIII")],
        luminance: Some((bind("Ha"), Luminance { weight: 1.0 })),
        white: White {
            sky: 590.0,
            noise: 2.0,
            full: 60_000.0,
        },
        left_out: LeftOut::default(),
    }
}

fn bits(planes: &[Plane]) -> Vec<u32> {
    planes
        .iter()
        .flat_map(|p| p.data().iter().map(|v| v.to_bits()))
        .collect()
}

#[test]
fn any_number_of_threads_and_any_budget_give_the_same_bits() {
    // Not a multiple of any tile.
    let canvas = Size::new(1100, 701).unwrap();
    let run = |threads: usize, bytes: usize| {
        let pool = rayon::ThreadPoolBuilder::new()
            .num_threads(threads)
            .build()
            .unwrap();
        let mut out = vec![Plane::filled(canvas, 0.0); 3];
        pool.install(|| {
            merge(
                &inputs(),
                canvas,
                &composite(),
                Budget { bytes },
                &mut out,
                &|_, _| (),
            )
            .unwrap();
        });
        bits(&out)
    };
    let first = run(1, 1);
    assert!(first == run(2, 1));
    assert!(first == run(3, 1 << 30));
}

#[test]
fn the_reference_alone_comes_out_bit_for_bit() {
    let group = narrow();
    let placed = group.on_canvas(0, true);
    assert!(placed == group.reference().taken.plane);
}

/// A source that fails in its lower half.
struct Broken<'a>(&'a Plane);

impl FrameSource for Broken<'_> {
    fn size(&self) -> Size {
        self.0.size()
    }

    fn read(&self, rect: Rect, out: &mut [f32]) -> Result<(), DoorError> {
        if rect.bottom() > 300 {
            return Err(DoorError("the disk is gone".into()));
        }
        FrameSource::read(self.0, rect, out)
    }
}

/// A sink that takes three tiles.
struct Full(usize);

impl TileSink for Full {
    fn put(&mut self, _: Rect, _: &[&[f32]]) -> Result<(), DoorError> {
        self.0 += 1;
        if self.0 > 3 {
            Err(DoorError("no space".into()))
        } else {
            Ok(())
        }
    }
}

#[test]
fn a_failing_source_or_sink_stops_the_merge_with_its_own_words() {
    let group = narrow();
    let canvas = group.reference().size();
    let budget = Budget { bytes: 1 };
    let own = &group.reference().stars;
    let input = |source| Input::new(source, group.placements[0].clone(), Balance::identity(own));
    let plane = &group.reference().taken.plane;
    let mut out = vec![Plane::filled(canvas, 0.0)];
    let broken = Broken(plane);
    let e = merge(
        &[input(&broken)],
        canvas,
        &SideBySide { inputs: 1 },
        budget,
        &mut out,
        &|_, _| (),
    )
    .unwrap_err();
    assert!(matches!(e, MergeError::Source { input: 0, .. }), "{e}");
    assert!(e.to_string().contains("the disk is gone"));
    let e = merge(
        &[input(plane)],
        canvas,
        &SideBySide { inputs: 1 },
        budget,
        &mut Full(0),
        &|_, _| (),
    )
    .unwrap_err();
    assert!(matches!(e, MergeError::Sink(_)) && e.to_string().contains("no space"));
}
