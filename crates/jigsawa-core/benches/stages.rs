//! Stage benches: how long one megapixel of each inner loop takes. `cargo bench -p jigsawa-core`.

use divan::{Bencher, black_box};
use jigsawa_core::balance::{Balance, Surface};
use jigsawa_core::binned;
use jigsawa_core::calibrate::average::Set;
use jigsawa_core::calibrate::defects::{Defects, Flaw};
use jigsawa_core::calibrate::interpolate::Interpolated;
use jigsawa_core::calibrate::light::{Calibrated, Calibration, Dark};
use jigsawa_core::calibrate::pattern::Pattern;
use jigsawa_core::calibrate::set::SetNoise;
use jigsawa_core::doors::{DoorError, FrameSource};
use jigsawa_core::finish::{
    Crop, FinishSettings, Link, Plan, Quiet, SkyFrom, Sources, Stretch, Tone, WhiteFrom,
    develop_part, overview,
};
use jigsawa_core::matching::{FrameSpots, Spot, ties};
use jigsawa_core::measured::Measured;
use jigsawa_core::merge::{Budget, Input, merge};
use jigsawa_core::mosaic::border::Coverage;
use jigsawa_core::mosaic::cells::{Cells, Cover};
use jigsawa_core::mosaic::seams::{Costs, Shining, lay};
use jigsawa_core::number::Convert;
use jigsawa_core::placement::{Distortion, Map};
use jigsawa_core::plane::Plane;
use jigsawa_core::resample::{Kernel, Resampling, Scratch, Shape, Window, resample, window_for};
use jigsawa_core::space::{Point, Rect, Size};
use jigsawa_core::stack::{
    Group, Light, PLANES, Pass, Rejected, Rejection, Residuals, Rule, Stacked,
};
use jigsawa_core::starless::find;
use jigsawa_core::stars::{Settings, SkyMesh, detect};
use jigsawa_core::survey::{measure, trails};
use jigsawa_sky::chance::uniform;

fn main() {
    divan::main();
}

/// A megapixel of noise with 600 stars.
fn plane() -> Plane {
    let noise = |x: usize, y: usize| ((x * 7919 + y * 104_729) % 1009).single() / 100.0;
    let mut p = Plane::from_fn(Size::new(1024, 1024).unwrap(), |x, y| 1000.0 + noise(x, y));
    for i in 0..600usize {
        let (cx, cy) = (20 + (i * 397) % 980, 20 + (i * 613) % 980);
        let height = 40.0 + 40_000.0 / (1.0 + i.single());
        for y in cy - 8..cy + 9 {
            for x in cx - 8..cx + 9 {
                let d2 =
                    (x.single() - cx.single()).powi(2) + (y.single() - cy.single() - 0.3).powi(2);
                p.data_mut()[y * 1024 + x] += height * (-d2 / 3.2).exp();
            }
        }
    }
    p
}

/// The kernels and ratios that are timed, and a lens.
const WAYS: [(Shape, f64, bool); 7] = [
    (Shape::Lanczos3, 1.0, false),
    (Shape::Lanczos3, 1.0, true),
    (Shape::Bilinear, 1.0, false),
    (Shape::Cubic, 1.0, false),
    (Shape::Lanczos4, 1.0, false),
    (Shape::Lanczos3, 2.0, false),
    (Shape::Area, 2.0, false),
];

/// A megapixel under a turn of 1.2 degrees, on one thread; time is for each pixel of the output.
#[divan::bench(args = WAYS)]
fn resample_a_megapixel(bencher: Bencher<'_, '_>, (shape, scale, lens): (Shape, f64, bool)) {
    let plane = plane();
    let (s, c) = 1.2f64.to_radians().sin_cos();
    let map = Map::from_rows([
        [scale * c, -scale * s, 10.3],
        [scale * s, scale * c, -7.4],
        [0.0, 0.0, 1.0],
    ])
    .unwrap();
    let (mut bx, mut by) = (vec![0.0; 10], vec![0.0; 10]);
    (bx[6], bx[8], by[7], by[9]) = (1.0, 1.0, 1.0, 1.0);
    let distortion = Distortion::new([512.0; 2], [512.0; 2], bx, by).unwrap();
    let map = if lens {
        map.distorted(distortion).unwrap()
    } else {
        map
    };
    let kernel = Kernel::new(shape, map.area_ratio(Point::new(0.0, 0.0)).sqrt());
    let how = Resampling {
        kernel: &kernel,
        map: &map,
        frame: plane.size(),
        saturation: f32::INFINITY,
    };
    let tile = Rect {
        x: 32,
        y: 32,
        width: (960.0 / scale).index(),
        height: (960.0 / scale).index(),
    };
    let rect = window_for(&how, tile).unwrap();
    let mut data = vec![0.0; rect.area()];
    plane.window(rect, &mut data);
    let window = Window { rect, data: &data };
    let (mut out, mut scratch) = (vec![0.0; tile.area()], Scratch::default());
    bencher
        .counter(divan::counter::ItemsCount::new(tile.area()))
        .bench_local(|| resample(&how, black_box(&window), tile, &mut scratch, &mut out));
}

/// What reading through masters adds to reading: dark, flat, and one flawed pixel in five hundred.
#[divan::bench]
fn calibrate_a_megapixel(bencher: Bencher<'_, '_>) {
    let raw = plane();
    let size = raw.size();
    let flaws = (0..2000).map(|i| ((i * 397) % 1024, (i * 613) % 1024, Flaw::Hot));
    let light = Calibrated::new(
        raw,
        Calibration {
            dark: Some(Dark {
                master: Plane::filled(size, 500.0),
                factor: 1.0,
                glow: None,
            }),
            flat: Some(Plane::filled(size, 0.9)),
            defects: Some(Defects::new(size, flaws.collect())),
            gain: 0.8,
            ..Calibration::default()
        },
    );
    let mut out = vec![0.0; 512 * 128];
    let tiles: Vec<Rect> = (0..16)
        .map(|k| Rect {
            x: 512 * (k % 2),
            y: 128 * (k / 2),
            width: 512,
            height: 128,
        })
        .collect();
    bencher.bench_local(|| {
        tiles
            .iter()
            .try_for_each(|t| light.read(*t, black_box(&mut out)))
    });
}

/// A colour of a megapixel behind a pattern.
#[divan::bench]
fn a_colour_of_a_megapixel(bencher: Bencher<'_, '_>) {
    let Some(pattern) = Pattern::from_letters("RGGB") else {
        return;
    };
    let red = Interpolated {
        source: plane(),
        pattern,
        colour: 0,
    };
    let mut out = vec![0.0; 1024 * 64];
    bencher.bench_local(|| {
        (0..16).try_for_each(|k| {
            let band = Rect {
                x: 0,
                y: 64 * k,
                width: 1024,
                height: 64,
            };
            red.read(band, black_box(&mut out))
        })
    });
}

/// Twenty darks of a megapixel into a master.
#[divan::bench]
fn average_twenty_megapixels(bencher: Bencher<'_, '_>) {
    let planes: Vec<Plane> = (0..20).map(|_| plane()).collect();
    let frames: Vec<&dyn FrameSource> = planes.iter().map(|p| p as &dyn FrameSource).collect();
    let set = Set {
        frames: &frames,
        noise: SetNoise {
            level: 1000.0,
            sigma: 3.0,
            of_light: 1.0,
        },
    };
    bencher.bench_local(|| {
        set.average(|band| {
            black_box(band);
            Ok::<(), DoorError>(())
        })
    });
}

/// Thirty-two placed frames of a megapixel into a master, and the same with pixels that are copied.
#[divan::bench(args = [0.37, 0.0], sample_count = 8)]
fn stack_thirty_two_megapixels(bencher: Bencher<'_, '_>, shift: f64) {
    const FRAMES: usize = 32;
    let planes: Vec<Plane> = (0..FRAMES)
        .map(|k| {
            // The same stars, each time with other noise.
            let mut p = plane();
            for (i, v) in p.data_mut().iter_mut().enumerate() {
                *v += ((i * (2 * k + 1) * 7919) % 1013).single() / 101.3 - 5.0;
            }
            p
        })
        .collect();
    let inputs: Vec<Input<'_>> = (0..FRAMES)
        .map(|k| {
            let (dx, dy) = ((k % 3).real() * shift / 10.0, shift);
            Input::new(
                &planes[k],
                Map::shift(dx, dy),
                Balance {
                    scale: Measured::exact(1.0 + 1e-6 * k.real()),
                    surface: Surface::constant(1e-3 * k.real()),
                    ..Balance::unchanged(1000.0, 3.0)
                },
            )
        })
        .collect();
    let size = planes[0].size();
    let op = Stacked {
        groups: vec![Group {
            inputs: 0..FRAMES,
            lights: (0..FRAMES).map(|_| Light::even(1.0, 4.0)).collect(),
            sky: 1000.0,
            rejection: Rejection::new(Rule::Sigma, None, None),
        }],
        rejected: Rejected::new(size, FRAMES),
        pass: Pass::First(Residuals::new(size, FRAMES)),
    };
    let mut out = vec![Plane::filled(size, 0.0); PLANES];
    let budget = Budget { bytes: 512 << 20 };
    bencher.bench_local(|| merge(&inputs, size, &op, budget, &mut out, &|_, _| ()));
}

#[divan::bench]
fn sky_of_a_megapixel(bencher: Bencher<'_, '_>) {
    let plane = plane();
    bencher.bench_local(|| SkyMesh::measure(black_box(&plane)));
}

#[divan::bench]
fn stars_of_a_megapixel(bencher: Bencher<'_, '_>) {
    let plane = plane();
    bencher.bench_local(|| detect(black_box(&plane), None, &Settings::default()));
}

#[divan::bench]
fn stretch_a_megapixel(bencher: Bencher<'_, '_>) {
    let plane = plane();
    let pixels: Vec<[f32; 3]> = plane
        .data()
        .iter()
        .map(|v| [*v, 0.9 * v, 1.1 * v])
        .collect();
    let stretch = Stretch::measure(&pixels, Link::Each).unwrap();
    bencher.bench_local(|| {
        pixels
            .iter()
            .map(|p| stretch.apply(*p).0[0])
            .fold(0.0, f32::max)
    });
}

/// The settings of a usual picture, all steps but the gradient.
fn settings() -> FinishSettings {
    FinishSettings {
        crop: Crop::None,
        gradient: None,
        neutral: Some(SkyFrom::Darkest),
        white: WhiteFrom::AsItIs,
        green: 0.8,
        quiet: Quiet {
            brightness: 0.6,
            colour: 0.9,
        },
        deconvolution_rounds: 0,
        tone: Tone::usual(Link::Linked),
        linear: false,
        range_compression: 0.0,
        contrast: 0.3,
        saturation: 1.2,
        hues: Vec::new(),
        stars: 1.0,
        sharpen: 0.25,
    }
}

/// A megapixel developed, measured before.
#[divan::bench]
fn finish_a_megapixel(bencher: Bencher<'_, '_>) {
    let plane = plane();
    let sources: Sources<'_> = [&plane, &plane, &plane];
    let overview = overview(sources).unwrap();
    let plan = Plan::measure(sources, &overview, &settings(), None).unwrap();
    let whole = plane.size().rect();
    bencher.bench_local(|| develop_part(&plan, sources, None, black_box(whole)));
}

/// Stars of a megapixel found, measured, and taken out.
#[divan::bench]
fn stars_out_of_a_megapixel(bencher: Bencher<'_, '_>) {
    let plane = plane();
    bencher.bench_local(|| {
        let (_, stars) = find(&[&plane]).unwrap();
        stars.take_out(&[&plane], |_, _, rows| -> Result<(), DoorError> {
            black_box(rows);
            Ok(())
        })
    });
}

/// A megapixel surveyed: stars, shapes, sky, trails.
#[divan::bench]
fn survey_a_megapixel(bencher: Bencher<'_, '_>) {
    let plane = plane();
    bencher.bench_local(|| measure(black_box(&plane), (0, 0), None));
}

/// Trails looked for on a plane of the usual size.
#[divan::bench]
fn trails_of_a_frame(bencher: Bencher<'_, '_>) {
    let small = binned(&plane(), 2);
    bencher.bench_local(|| trails(black_box(&small)));
}

/// Twelve panels of 1000 stars each, all against all: three columns and four rows that share 12 %.
#[divan::bench]
fn ties_of_twelve_panels(bencher: Bencher<'_, '_>) {
    let size = Size::new(6000, 4000).unwrap();
    // By chance: of a lattice, which a remainder of multiples is, every pattern lies everywhere, and matching it takes a minute.
    let star = |i: usize| {
        let of = |k: u64, side: f64| side * uniform(i as u64, k);
        (of(0, 16_560.0), of(1, 14_560.0))
    };
    let lists: Vec<Vec<Spot<_>>> = (0..12)
        .map(|k| {
            let (x0, y0) = (f64::from(k % 3) * 5280.0, f64::from(k / 3) * 3520.0);
            (0..10_000)
                .map(star)
                .map(|(x, y)| Point::new(x - x0, y - y0))
                .filter(|p| size.holds(*p))
                .take(1000)
                .enumerate()
                .map(|(index, at)| Spot {
                    at,
                    sigma_px: 0.05,
                    clean: true,
                    index,
                })
                .collect()
        })
        .collect();
    let frames: Vec<FrameSpots<'_>> = lists
        .iter()
        .map(|spots| FrameSpots { spots, size })
        .collect();
    bencher.bench_local(|| ties(black_box(&frames)));
}

/// One panel of 24 megapixels cut against another: 12 % in common, among 200 stars.
#[divan::bench]
fn a_seam_of_two_panels(bencher: Bencher<'_, '_>) {
    let cells = Cells::of_side(Size::new(11_280, 4000).unwrap(), 16);
    let plane = Plane::filled(Size::new(6000, 4000).unwrap(), 1.0);
    let cover = |x: f64| Cover::of(&plane, &Map::shift(-x, 0.0), &Coverage::of(&plane), cells);
    let covers = [cover(0.0), cover(5280.0)];
    let stars: Vec<Shining> = (0..200usize)
        .map(|i| Shining {
            at: Point::new(5280.0 + ((i * 397) % 720).real(), ((i * 613) % 4000).real()),
            radius: 12.0,
            height: 50.0,
        })
        .collect();
    let costs = Costs::of_stars(cells, &stars);
    bencher.bench_local(|| lay(black_box(&covers), &costs, 0, None));
}
