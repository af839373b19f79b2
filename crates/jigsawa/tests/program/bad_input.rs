//! Bad input: a clear message with the way out, the right exit code, nothing written.

use jigsawa_core::filter::Filter;
use jigsawa_core::number::Convert;
use rstest::rstest;

use crate::night::{Night, frame};

/// A night with every kind of bad file beside good ones.
fn bad_night() -> Night {
    let night = Night::of_lines()
        .frame("nofilter.fits", frame(Filter::Ha, ""))
        .frame("slot.fits", frame(Filter::Ha, "filter 3"))
        .frame("stray.fits", frame(Filter::Sii, "S2").shifted(9000.0, 0.0))
        .frame(
            "flat.fits",
            frame(Filter::Sii, "S2").with("IMAGETYP= 'Flat Field'"),
        )
        .frame("ha2.fits", frame(Filter::Ha, "H_Alpha"))
        .file("empty.fits", b"")
        .file("text.fits", b"this is no picture\n")
        .even("nan.fits", f32::NAN)
        .even("even.fits", 500.0)
        .file("wrong.layout.json", b"{ \"format\": 1, ")
        .file("newer.layout.json", b"{ \"format\": 99 }");
    let whole = std::fs::read(night.path("ha.fits")).unwrap();
    let night = night.file("cut.fits", &whole[..whole.len() / 2]);
    let text = String::from_utf8_lossy(&whole[..2880]).into_owned();
    let huge = text.replace(
        "NAXIS1  =                  560",
        "NAXIS1  =               900000",
    );
    assert_ne!(text, huge);
    night.file("huge.fits", huge.as_bytes())
}

#[rstest]
fn every_kind_of_bad_input_is_said_with_the_way_out() {
    let night = bad_night();
    let cases: &[(&str, i32, &[&str])] = &[
        (
            "no/such.fits oiii.fits --palette HOO",
            1,
            &["'no/such.fits' cannot be used", "Check the name"],
        ),
        (
            "empty.fits oiii.fits --palette HOO",
            1,
            &["the file is empty"],
        ),
        (
            "text.fits oiii.fits --palette HOO",
            1,
            &["not a FITS file (it looks like a text file)"],
        ),
        (
            "cut.fits oiii.fits --palette HOO",
            1,
            &["cut short", "part of it is lost"],
        ),
        (
            "huge.fits oiii.fits --palette HOO",
            1,
            &["cut short: the header promises"],
        ),
        (
            "nan.fits oiii.fits --palette HOO",
            1,
            &["every pixel is missing"],
        ),
        (
            "even.fits oiii.fits --palette HOO",
            1,
            &["all pixels have the same value"],
        ),
        (
            "ha.fits oiii.fits stray.fits --palette SHO",
            1,
            &["cannot place 'stray.fits' on", "same field"],
        ),
        (
            "ha.fits oiii.fits flat.fits --palette SHO",
            1,
            &["is a flat frame by its header"],
        ),
        (
            "nofilter.fits slot.fits oiii.fits --palette HOO",
            1,
            &[
                "nofilter.fits: its header has no filter",
                "slot.fits: its header says 'filter 3'",
                "--filter NAME=nofilter.fits",
            ],
        ),
        (
            "ha.fits oiii.fits --palette SHO",
            1,
            &["the palette SHO needs SII", "only Ha, OIII", "HOO"],
        ),
        (
            "ha.fits oiii.fits --palette SH0",
            2,
            &["there is no palette 'SH0'", "Did you mean SHO?"],
        ),
        (
            "ha.fits oiii.fits --red Ha --green 'Ha +' --blue OIII",
            2,
            &[
                "the green mix cannot be understood",
                "at column 5",
                "  Ha +\n      ^",
            ],
        ),
        (
            "ha.fits oiii.fits --red Ha --green 'Ha + OII' --blue OIII",
            2,
            &["names 'OII'", "Did you mean OIII?", "       ^"],
        ),
        (
            "ha.fits oiii.fits --red 'lightr(Ha, OIII)' --green Ha --blue OIII",
            2,
            &["Did you mean lighter?"],
        ),
        (
            "ha.fits oiii.fits --palette HOO --reference hb.fits",
            2,
            &["--reference names 'hb.fits'", "Did you mean ha.fits?"],
        ),
        (
            "ha.fits oiii.fits --palette HOO --filter Ha=hx.fits",
            2,
            &["--filter names 'hx.fits'"],
        ),
        (
            "ha.fits oiii.fits --palette HOO --filter 'two words=ha.fits'",
            2,
            &["cannot be the name of a filter"],
        ),
        (
            "ha.fits oiii.fits --palette HOO --filter Ha",
            2,
            &["write it as NAME=FRAME"],
        ),
        (
            "ha.fits oiii.fits --palette HOO --name a/b",
            2,
            &["'a/b' cannot be part of a file's name"],
        ),
        ("ha.fits oiii.fits", 2, &["--palette"]),
        ("ha.fits oiii.fits --palette HOO --red Ha", 2, &["--red"]),
        (
            "ha.fits oiii.fits --palette HOO --memory lots",
            2,
            &["500M or 2G"],
        ),
        (
            "wrong.layout.json --palette HOO",
            1,
            &["'wrong.layout.json' cannot be read", "line 1"],
        ),
        (
            "newer.layout.json --palette HOO",
            1,
            &["it has format 99, this program knows up to 1"],
        ),
        (
            "none.layout.json --palette HOO",
            1,
            &["'none.layout.json' cannot be used", "Check the name"],
        ),
        (
            "ha.fits wrong.layout.json --palette HOO",
            2,
            &["a layout is given together with other files"],
        ),
        (
            "wrong.layout.json --palette HOO --filter Ha=ha.fits",
            2,
            &["--filter has no effect on a layout"],
        ),
    ];
    let before = night.files(".");
    for (line, status, texts) in cases {
        let mut run = night
            .run(&format!("compose {line} --out out"))
            .ends(*status);
        for text in *texts {
            run = run.says(text);
        }
        assert!(!run.err.contains("panicked"), "{line}\n{}", run.err);
        let written: Vec<String> = night.files("out");
        assert!(written.is_empty(), "{line}: {written:?}");
        assert!(
            night
                .files(".")
                .iter()
                .all(|f| f == "out" || before.contains(f)),
            "{line}"
        );
    }
}

#[test]
fn frames_without_stars_say_so() {
    // A narrow field of a sky without stars: noise only.
    let night = Night::new().frame("ha.fits", frame(Filter::Ha, "Ha"));
    let noise: Vec<u8> = (0..200 * 150u32)
        .flat_map(|i| {
            (500.0 + ((i.wrapping_mul(2_654_435_761) >> 16) % 997).single() / 50.0).to_be_bytes()
        })
        .collect();
    let mut bytes: Vec<u8> = Vec::new();
    for record in [
        "SIMPLE  =                    T",
        "BITPIX  =                  -32",
        "NAXIS   =                    2",
        "NAXIS1  =                  200",
        "NAXIS2  =                  150",
        "FILTER  = 'O3'",
        "END",
    ] {
        bytes.extend(format!("{record:<80}").bytes());
    }
    bytes.resize(2880, b' ');
    bytes.extend(noise);
    let night = night.file("o3.fits", &bytes);
    night
        .run("compose ha.fits o3.fits --palette HOO --out out")
        .ends(1)
        .says("cannot place 'o3.fits' on 'ha.fits'")
        .says("usable stars in the frame, 6 are needed");
    assert!(night.files("out").is_empty());
}

#[test]
fn an_existing_result_is_only_replaced_when_asked() {
    let night = Night::of_lines();
    let line = "compose ha.fits oiii.fits --palette HOO --out out --name x";
    night.run(line).success();
    std::fs::write(night.path("out/x-HOO.png"), "mine").unwrap();
    night
        .run(line)
        .ends(1)
        .says("x-HOO.png")
        .says("exist already")
        .says("--overwrite");
    assert_eq!(std::fs::read(night.path("out/x-HOO.png")).unwrap(), b"mine");
    night.run(&format!("{line} --overwrite")).success();
    assert!(
        std::fs::metadata(night.path("out/x-HOO.png"))
            .unwrap()
            .len()
            > 1000
    );
}

#[test]
fn a_folder_that_takes_no_files_is_said_before_the_work() {
    let night = Night::of_lines().file("notafolder", b"x");
    let run = night
        .run("compose ha.fits oiii.fits --palette HOO --out notafolder --json")
        .ends(1);
    let error = &run.json()["error"];
    assert!(
        error["message"]
            .as_str()
            .unwrap()
            .contains("'notafolder' takes no files")
    );
    assert_eq!(error["file"], "notafolder");
    assert!(error["hint"].as_str().unwrap().contains("--out FOLDER"));
}

#[test]
fn a_command_line_that_cannot_be_read_is_told_as_json_too() {
    let run = Night::new()
        .run("compose a.fits --json --palete SHO")
        .ends(2);
    let error = &run.json()["error"];
    assert!(error["message"].as_str().unwrap().contains("--palete"));
    assert!(error["hint"].as_str().unwrap().contains("--palette"));
    assert!(run.err.is_empty(), "{}", run.err);
}

#[test]
fn an_edited_layout_with_impossible_numbers_is_refused() {
    let night = Night::of_lines();
    night
        .run("compose ha.fits oiii.fits --palette HOO --out r --name x")
        .success();
    let path = night.path("r/x-HOO.layout.json");
    let text = std::fs::read_to_string(&path).unwrap();
    let refused = |edited: &str, words: &[&str]| {
        std::fs::write(&path, edited).unwrap();
        let run = night
            .run("compose r/x-HOO.layout.json --palette HOO --out r --name y")
            .ends(1);
        for word in words {
            assert!(run.err.contains(word), "no {word} in {}", run.err);
        }
    };
    let line = |what: &str, nth: usize| {
        let mut found = text.lines().enumerate().filter(|(_, l)| l.contains(what));
        found.nth(nth).unwrap().0 + 1
    };
    // A matrix that maps the second frame to a point.
    let mut layout: serde_json::Value = serde_json::from_str(&text).unwrap();
    layout["frames"][1]["placement"]["matrix"][0] = serde_json::json!([0.0, 0.0, 0.0]);
    let edited = serde_json::to_string_pretty(&layout).unwrap();
    refused(&edited, &["line ", "placement is missing or impossible"]);
    let edited = text.replacen("\"scale\": 1.0", "\"scale\": 0.0", 1);
    let at = format!("line {}: its canvas is impossible", line("\"canvas\"", 0));
    refused(&edited, &[&at]);
    let edited = text.replacen("\"format\": 1", "\"format\": 99", 1);
    refused(&edited, &["line 2", "format 99", "version of the program"]);
    // A slip of the pen: what is wrong, and in which line.
    let edited = text.replacen("\"matrix\": [", "\"matrix\": [ oops", 1);
    refused(
        &edited,
        &[
            &format!("line {}", line("\"matrix\"", 0)),
            "Mend that place",
        ],
    );
    let edited = text.replacen("\"verdict\": \"used\"", "\"verdict\": \"perhaps\"", 1);
    refused(&edited, &["perhaps"]);
}

#[test]
fn frames_that_have_moved_or_changed_are_told_and_found_again() {
    let night = Night::of_lines();
    night
        .run("register ha.fits oiii.fits sii.fits --out r --name x --no-report")
        .success();
    std::fs::create_dir(night.path("moved")).unwrap();
    for f in ["oiii.fits", "sii.fits"] {
        std::fs::rename(night.path(f), night.path(&format!("moved/{f}"))).unwrap();
    }
    let line = "compose r/x.layout.json --palette SHO --out s --name y";
    night
        .run(line)
        .ends(1)
        .says("'oiii.fits', 'sii.fits'")
        .says("--relocate");
    night
        .run(&format!("{line} --relocate elsewhere=moved"))
        .ends(2)
        .says("--relocate names 'elsewhere'");
    night
        .run(&format!(
            "{line} --relocate oiii.fits=moved/oiii.fits --relocate sii.fits=moved/sii.fits"
        ))
        .success();
    // The new layout knows where they are.
    night
        .run("compose s/y-SHO.layout.json --palette HOO --out t --name z")
        .success();
    // Another image of the same size in the place of one that was measured.
    let mut bytes = std::fs::read(night.path("moved/oiii.fits")).unwrap();
    for pixel in bytes[20_000..].chunks_mut(2) {
        pixel[1] ^= 5;
    }
    std::fs::write(night.path("moved/oiii.fits"), bytes).unwrap();
    night
        .run("compose s/y-SHO.layout.json --palette HOO --out u --name z")
        .ends(1)
        .says("has changed since it was measured");
    night
        .run("compose ha.fits moved/sii.fits --palette HOO --relocate a=b --out v")
        .ends(2)
        .says("--relocate has no effect on frames");
}
