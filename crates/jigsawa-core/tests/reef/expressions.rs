//! Mixes and conditions spoilt by chance: worked out or refused, and never a crash. `JIGSAWA_FUZZ_RUNS` says how many.

use std::path::Path;

use jigsawa_core::colour::mix::parse;
use jigsawa_core::frame::FrameFacts;
use jigsawa_core::space::Size;
use jigsawa_core::survey::condition::Condition;
use jigsawa_core::survey::quantity::Known;
use jigsawa_sky::garble::{Garble, runs};

const USUAL: u64 = 20_000;

fn corpus(name: &str) -> Garble {
    Garble::of_folder(
        &Path::new(env!("CARGO_MANIFEST_DIR"))
            .join("tests/corpus")
            .join(name),
    )
}

#[test]
fn spoilt_mixes_are_worked_out_or_refused() {
    let mut garble = corpus("mixes");
    let input = [1.0, -3.0, 0.0, f32::NAN, 1e18, -1e18, 1e-30, 250.0];
    let (runs, mut worked) = (runs(USUAL), 0);
    for number in 0..runs {
        let text = garble.text(number);
        let letters = text.chars().count();
        let mix = match parse(&text) {
            Ok(mix) => mix,
            Err(e) => {
                assert!(
                    (1..=letters + 1).contains(&e.column),
                    "{number}: column {}",
                    e.column
                );
                continue;
            }
        };
        let bound = mix.bind(|_| Ok::<_, ()>(0)).unwrap();
        let mut out = [0.0; 8];
        bound.eval(&[&input], 1000.0, &mut out);
        assert!(
            out.iter().all(|v| !v.is_infinite()),
            "{number}: '{text}' is {out:?}"
        );
        worked += 1;
    }
    assert!(worked > runs / 20, "{worked} of {runs}");
}

#[test]
fn spoilt_conditions_are_understood_or_refused() {
    let mut garble = corpus("conditions");
    let facts = FrameFacts::of_size(Size::new(30, 20).unwrap(), 1);
    let known = Known {
        file: "a b.fits",
        facts: &facts,
        night: None,
        measures: None,
        compared: None,
        score: None,
    };
    let (runs, mut understood) = (runs(USUAL), 0);
    for number in 0..runs {
        if let Ok(rule) = Condition::parse(&garble.text(number)) {
            let _ = (rule.fails(&known), rule.limits(&known));
            understood += 1;
        }
    }
    assert!(understood > runs / 20, "{understood} of {runs}");
}
