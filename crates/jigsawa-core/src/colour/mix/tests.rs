//! The language as a whole: text in, numbers or a column out.

use proptest::prelude::*;
use rstest::rstest;

use super::*;

/// The value of a mix where Ha is 8, OIII 2, SII -3 and "my frame" 100; white is 1000.
fn value(text: &str) -> f32 {
    let known = [
        ("Ha", 8.0f32),
        ("OIII", 2.0),
        ("SII", -3.0),
        ("my frame", 100.0),
    ];
    let bound = parse(text)
        .unwrap()
        .bind(|n| known.iter().position(|k| k.0 == n.text).ok_or(()))
        .unwrap();
    let runs = known.map(|(_, v)| [v]);
    let inputs: Vec<&[f32]> = runs.iter().map(<[f32; 1]>::as_slice).collect();
    let mut out = [0.0];
    bound.eval(&inputs, 1000.0, &mut out);
    out[0]
}

#[rstest]
#[case("Ha", 8.0)]
#[case("70% OIII + 30% Ha", 3.8)]
#[case("70 % OIII", 1.4)]
#[case("2 Ha - OIII", 14.0)]
#[case("Ha - OIII - 1", 5.0)]
#[case("Ha / OIII / 2", 2.0)]
#[case("1 + 2 * 3", 7.0)]
#[case("2 (Ha + OIII)", 20.0)]
#[case("50% Ha^2", 32.0)]
#[case("-Ha^2", -64.0)]
#[case("2^OIII^3", 256.0)]
#[case("Ha / 0", 0.0)]
#[case("SII ^ 0.5", -1.732_050_8)]
#[case("(Ha - 8) ^ -1", 0.0)]
#[case("lighter(Ha, OIII)", 8.0)]
#[case("darker(Ha, OIII)", 2.0)]
#[case("screen(500, 500)", 750.0)]
#[case("within(Ha, 0, 5)", 5.0)]
#[case("when(Ha > OIII and not SII > 0, 1, 2)", 1.0)]
#[case("when(Ha < 3 or OIII == 3, 1, 2)", 2.0)]
#[case("Ha >= 8", 1.0)]
#[case("'my frame' * 1e-2", 1.0)]
#[case("\"my frame\" / .5", 200.0)]
fn mixes_have_the_value_that_they_say(#[case] text: &str, #[case] want: f32) {
    let got = value(text);
    assert!((got - want).abs() < 1e-5, "{text}: {got}, not {want}");
}

#[rstest]
#[case("", 1, "a filter, a frame, a number or '(' is missing")]
#[case("70% OIII + ", 12, "is missing")]
#[case("Ha OIII", 4, "'OIII' follows a complete mix")]
#[case("Ha + (OIII", 11, "')' is missing")]
#[case("Ha ; OIII", 4, "';' means nothing here")]
#[case("brightest(Ha, OIII)", 1, "there is no function 'brightest'")]
#[case("Ha + lighter(Ha)", 6, "lighter takes 2 values, here are 1")]
#[case("'Ha", 1, "a quote is opened and not closed")]
#[case("Ha * * OIII", 6, "is missing before '*'")]
#[case("\u{3b1} + ?", 5, "'?' means nothing here")]
fn errors_point_at_the_column(#[case] text: &str, #[case] column: usize, #[case] says: &str) {
    let e = parse(text).unwrap_err();
    assert_eq!(e.column, column, "{e}");
    assert!(e.to_string().contains(says), "{e}");
}

#[test]
fn what_touches_a_missing_pixel_is_missing() {
    for text in [
        "a + b",
        "a * 0",
        "a ^ 0",
        "lighter(a, b)",
        "darker(b, a)",
        "within(b, a, 3)",
        "a < b",
        "not a",
        "a and b",
        "when(a, 1, 2)",
        "screen(a, b)",
        "b / a",
    ] {
        let bound = parse(text)
            .unwrap()
            .bind(|n| Ok::<_, ()>(usize::from(n.text == "b")))
            .unwrap();
        let mut out = [0.0];
        bound.eval(&[&[f32::NAN], &[2.0]], 10.0, &mut out);
        assert!(out[0].is_nan(), "{text}: {}", out[0]);
    }
}

#[test]
fn long_chains_are_worked_out_or_refused_and_never_crash() {
    let chain = |n: usize, by: &str| vec!["a"; n].join(by);
    assert!(parse(&chain(300, " + ")).is_ok());
    for sign in [" + ", " * ", " - ", " ^ ", " < "] {
        let problem = parse(&chain(50_000, sign)).unwrap_err().problem;
        assert_eq!(problem, Problem::TooDeep, "{sign}");
    }
    let nested = format!(
        "{}a{}",
        "(".repeat(90),
        format!(" + {})", chain(100, " + ")).repeat(90)
    );
    assert_eq!(parse(&nested).unwrap_err().problem, Problem::TooDeep);
    // A rule that names every frame of a year.
    let named: Vec<String> = (0..7_500).map(|i| format!("a != {i}")).collect();
    for sign in [" or ", " and "] {
        let rule = parse(&named.join(sign)).unwrap();
        assert_eq!(rule.root().to_string(), named.join(sign));
        assert_eq!(rule.names().len(), 7_500);
        let bound = rule.bind(|_| Ok::<_, ()>(0)).unwrap();
        let mut out = [0.0; 2];
        bound.eval(&[&[7.0, -1.0]], 1.0, &mut out);
        assert_eq!(
            out,
            if sign == " or " {
                [1.0, 1.0]
            } else {
                [0.0, 1.0]
            }
        );
    }
}

#[test]
fn no_value_of_a_mix_is_infinite() {
    assert!(matches!(
        parse("1e39*a").unwrap_err().problem,
        Problem::Large(_)
    ));
    assert!(matches!(
        parse("1e38*a").unwrap_err().problem,
        Problem::Large(_)
    ));
    let mix = parse("(1e15*a)^3 + a").unwrap();
    let bound = mix.bind(|_| Ok::<_, ()>(0)).unwrap();
    let mut out = [0.0; 2];
    bound.eval(&[&[2.0, 0.0]], 1.0, &mut out);
    assert!(out[0].is_nan() && out[1] == 0.0, "{out:?}");
}

#[test]
fn deep_brackets_are_an_error_and_not_a_crash() {
    let deep = "(".repeat(100_000);
    assert_eq!(parse(&deep).unwrap_err().problem, Problem::TooDeep);
    let negative = "-".repeat(100_000);
    assert_eq!(parse(&negative).unwrap_err().problem, Problem::TooDeep);
}

proptest! {
    #[test]
    fn no_text_makes_the_parser_panic(text in "\\PC{0,40}") {
        let _ = parse(&text);
    }

    #[test]
    fn no_mix_of_words_makes_the_parser_panic(
        words in prop::collection::vec(
            prop::sample::select(vec!["Ha", "(", ")", "+", "-", "2", "%", "when", ",", "^", "not", "<"]),
            0..14,
        )
    ) {
        let _ = parse(&words.join(" "));
    }
}
