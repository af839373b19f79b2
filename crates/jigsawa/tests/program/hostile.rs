//! What comes in and means harm, or just is broken: garbage, impossible headers, bombs, scripts, endless expressions. Nothing
//! hangs, and no file ends the run for all.

use jigsawa_core::number::Convert;
use std::fs;
use std::io::Write;

use jigsawa_core::filter::Filter;
use rstest::rstest;

use crate::night::{Night, frame, plane};

/// A header of these records and its padding.
fn header(records: &[&str]) -> Vec<u8> {
    let mut bytes: Vec<u8> = records
        .iter()
        .chain(&["END"])
        .flat_map(|r| format!("{r:<80}").into_bytes())
        .collect();
    bytes.resize(bytes.len().next_multiple_of(2880), b' ');
    bytes
}

fn floats(width: usize, height: usize, values: &[f32]) -> Vec<u8> {
    let (w, h) = (format!("NAXIS1  = {width}"), format!("NAXIS2  = {height}"));
    let mut bytes = header(&["SIMPLE  = T", "BITPIX  = -32", "NAXIS   = 2", &w, &h]);
    bytes.extend(values.iter().flat_map(|v| v.to_be_bytes()));
    bytes.resize(bytes.len().next_multiple_of(2880), 0);
    bytes
}

/// Packed as a whole.
pub fn zipped(bytes: &[u8]) -> Vec<u8> {
    let mut out = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    out.write_all(bytes).unwrap();
    out.finish().unwrap()
}

/// The bytes of a frame with its pixels changed.
fn changed(night: &Night, name: &str, change: impl FnOnce(&mut [u8])) -> Vec<u8> {
    let mut bytes = fs::read(night.path(name)).unwrap();
    let end = bytes
        .chunks(80)
        .position(|r| r.starts_with(b"END "))
        .unwrap();
    let data = ((end + 1) * 80).next_multiple_of(2880);
    change(&mut bytes[data..data + 560 * 420 * 4]);
    bytes
}

fn swapped(pixels: &mut [u8]) {
    for p in pixels.chunks_exact_mut(4) {
        p.reverse();
    }
}

/// Two bytes are lost on the way, in the middle.
fn lost(pixels: &mut [u8]) {
    let middle = pixels.len() / 2;
    pixels.copy_within(middle + 2.., middle);
}

/// Hydrogen and red of one field.
pub fn pair() -> Night {
    Night::new()
        .frame("ha.fits", frame(Filter::Ha, "Ha"))
        .frame("r.fits", frame(Filter::R, "R").shifted(3.0, 2.0))
}

#[rstest]
#[case::in_the_wrong_order_of_bytes(swapped)]
#[case::with_two_bytes_lost(lost)]
fn garbage_floats_are_refused_by_every_command_and_hang_none(#[case] spoil: fn(&mut [u8])) {
    let night = pair();
    let bytes = changed(&night, "ha.fits", spoil);
    let night = night.file("x.fits", &bytes);
    for line in [
        "compose x.fits ha.fits --red Ha --green Ha --blue Ha",
        "finish x.fits",
        "stars x.fits",
        "show x.fits",
        "hdr x.fits ha.fits",
    ] {
        night
            .run(&format!("{line} --out o"))
            .ends(1)
            .says("its numbers make no sense");
    }
    // Among good ones it costs itself.
    let json = night
        .run("survey . --out s --no-report --json")
        .success()
        .json();
    let rows = json["frames"].as_array().unwrap().iter();
    let out: Vec<_> = rows.filter(|r| r["verdict"] != "used").collect();
    assert!(
        out.len() == 1 && out[0]["file"].as_str().unwrap().ends_with("x.fits"),
        "{out:?}"
    );
    for line in [
        "register x.fits ha.fits r.fits",
        "normalize ha.fits x.fits r.fits",
        "mosaic r.fits ha.fits x.fits --panel r.fits=one --panel ha.fits=one",
    ] {
        let line = format!("{line} --out s --name s --no-report --overwrite --json");
        let json = night.run(&line).success().json();
        let words = json["warnings"].as_array().unwrap();
        let mut words = words.iter().map(|w| w.as_str().unwrap());
        let said = |w: &str| w.starts_with("'x.fits'") && w.contains("its numbers make no sense");
        assert!(words.any(said), "{line}: {json:#}");
        let rows = json["frames"].as_array().unwrap().iter();
        let used = rows.filter(|r| r["verdict"] == "used").count();
        assert_eq!(used, 2, "{line}");
        night.run(&format!("{line} --strict")).ends(3);
    }
    let run = night
        .run("register x.fits ha.fits r.fits --out t --name t")
        .success();
    assert!(
        run.out.contains("left out   x.fits: it cannot be used"),
        "{}",
        run.out
    );
    let page = fs::read_to_string(night.path("t/t-register.html")).unwrap();
    assert!(page.contains("<b>x.fits</b> is left out"));
}

#[test]
fn values_that_are_none_count_as_missing_and_are_said() {
    let night = pair();
    let bytes = changed(&night, "ha.fits", |pixels| {
        for row in pixels.chunks_exact_mut(560 * 4) {
            for (x, p) in row[..56 * 4].chunks_exact_mut(4).enumerate() {
                let mark = if x < 20 { f32::MAX } else { f32::INFINITY };
                p.copy_from_slice(&mark.to_be_bytes());
            }
        }
    });
    let night = night.file("marked.fits", &bytes);
    for line in [
        "survey marked.fits r.fits --no-report",
        "register marked.fits r.fits --name x",
        "compose marked.fits r.fits --red Ha --green R --blue R --linear-only",
        "finish marked.fits",
        "stars marked.fits",
    ] {
        night
            .run(&format!("{line} --out o --json"))
            .success()
            .says("some 10 % of its values are infinite or beyond 1e18");
    }
    let behind = plane(&night.path("o/marked-starless.fits"), 0);
    assert!(behind.at(10, 200).is_nan() && behind.at(60, 200).is_finite());
}

#[test]
fn stars_on_a_sky_of_exactly_zero_are_registered() {
    let night = pair();
    let bytes = changed(&night, "r.fits", |pixels| {
        for p in pixels.chunks_exact_mut(4) {
            let v = f32::from_be_bytes([p[0], p[1], p[2], p[3]]) - 800.0;
            p.copy_from_slice(&v.max(0.0).to_be_bytes());
        }
    });
    let night = night.file("stars.fits", &bytes);
    night
        .run("register stars.fits ha.fits --out w --name x --json")
        .success();
    night.run("stars stars.fits --out p").success();
}

/// A table that says it is an image of 16-bit numbers, packed in ten tiles.
fn table(cards: &[&str]) -> Vec<u8> {
    let mut bytes = header(&["SIMPLE  = T", "BITPIX  = 8", "NAXIS   = 0"]);
    let mut records = vec![
        "XTENSION= 'BINTABLE'",
        "BITPIX  = 8",
        "NAXIS   = 2",
        "NAXIS1  = 8",
        "NAXIS2  = 10",
        "PCOUNT  = 0",
        "GCOUNT  = 1",
        "TFIELDS = 1",
        "TTYPE1  = 'COMPRESSED_DATA'",
        "TFORM1  = '1PB(0)'",
        "ZIMAGE  = T",
        "ZCMPTYPE= 'RICE_1'",
        "ZBITPIX = 16",
        "ZNAXIS  = 2",
    ];
    records.extend(cards);
    bytes.extend(header(&records));
    bytes.resize(bytes.len() + 2880, 0);
    bytes
}

#[test]
fn one_bad_file_is_a_row_with_its_reason_and_the_rest_is_surveyed() {
    let sky: Vec<f32> = (0..10_000)
        .map(|i| 100.0 + (i * 7919 % 97).single() * 0.1)
        .collect();
    let mut bomb = floats(100, 100, &sky);
    bomb.resize(bomb.len() + (64 << 20), 0);
    let promise = header(&[
        "SIMPLE  = T",
        "BITPIX  = -32",
        "NAXIS   = 2",
        "NAXIS1  = 200000",
        "NAXIS2  = 200000",
    ]);
    let night = pair()
        .file("n/bomb.fits.gz", &zipped(&bomb))
        .file("n/promise.fits.gz", &zipped(&promise))
        .file(
            "n/axes.fits",
            &header(&["SIMPLE  = T", "BITPIX  = -32", "NAXIS   = 500"]),
        )
        .file(
            "n/tile.fits.fz",
            &table(&["ZNAXIS1 = 10", "ZNAXIS2 = 10", "ZTILE1  = 0", "ZTILE2  = 1"]),
        )
        .file("n/rows.fits.fz", &table(&["ZNAXIS1 = 10", "ZNAXIS2 = 99"]))
        .file(
            "n/huge.fits.fz",
            &table(&[
                "ZNAXIS1 = 200000",
                "ZNAXIS2 = 200000",
                "ZTILE1  = 200000",
                "ZTILE2  = 20000",
            ]),
        )
        .file("n/scale.fits", &{
            let mut bytes = header(&[
                "SIMPLE  = T",
                "BITPIX  = 16",
                "NAXIS   = 2",
                "NAXIS1  = 60",
                "NAXIS2  = 48",
                "BSCALE  = 1E34",
            ]);
            bytes.extend((0..5760).map(|i| (i % 251).byte()));
            bytes
        });
    fs::copy(night.path("ha.fits"), night.path("n/good.fits")).unwrap();
    #[cfg(unix)]
    {
        let made = std::process::Command::new("mkfifo")
            .arg(night.path("n/pipe.fits"))
            .status();
        assert!(made.unwrap().success());
    }
    let json = night
        .run("survey n --out s --no-report --json")
        .success()
        .json();
    let reason = |name: &str| {
        let rows = json["frames"].as_array().unwrap();
        let row = rows
            .iter()
            .find(|r| r["file"].as_str().unwrap().ends_with(name))
            .unwrap();
        row["reason"].as_str().map(str::to_owned)
    };
    assert_eq!(reason("good.fits"), None);
    for (name, words) in [
        (
            "promise.fits.gz",
            "cut short: the header promises 160000002880",
        ),
        ("axes.fits", "NAXIS1 is missing"),
        ("tile.fits.fz", "ZTILE1 = 0 cannot be"),
        ("rows.fits.fz", "10 rows are not the 99 tiles"),
        ("huge.fits.fz", "cannot be packed into"),
        ("scale.fits", "its numbers make no sense"),
        #[cfg(unix)]
        ("pipe.fits", "a pipe"),
    ] {
        let reason = reason(name).unwrap();
        assert!(reason.contains(words), "{name}: {reason}");
    }
}

#[test]
fn a_small_file_that_inflates_to_much_costs_what_its_header_promises() {
    let sky: Vec<f32> = (0..40_000)
        .map(|i| 100.0 + (i * 7919 % 97).single() * 0.1)
        .collect();
    let mut bomb = floats(200, 200, &sky);
    bomb.resize(bomb.len() + (256 << 20), 0);
    let night = Night::new().file("bomb.fits.gz", &zipped(&bomb));
    let tmp = tempfile::tempdir().unwrap();
    let words = ["show", "bomb.fits.gz", "--out", "o"];
    night
        .run_with(&words, |c| c.env("TMPDIR", tmp.path()))
        .success();
    assert_eq!(
        fs::read_dir(tmp.path()).unwrap().count(),
        0,
        "what was inflated is gone"
    );
}

#[test]
fn text_of_headers_and_names_steers_neither_terminal_nor_page() {
    let script = "PANEL   = '</title><script>alert(1)</script>'";
    let object = "OBJECT  = 'Reef $(touch owned) `x`'";
    let night = Night::new()
        .frame("a.fits", frame(Filter::Ha, "Ha").with(script).with(object))
        .frame(
            "b.fits",
            frame(Filter::Ha, "Ha")
                .with("PANEL   = 'B'")
                .shifted(300.0, 0.0),
        );
    night
        .run("mosaic a.fits b.fits --out m --name x --linear-only")
        .success();
    let page = fs::read_to_string(night.path("m/x-mosaic.html")).unwrap();
    assert!(page.contains("&lt;script&gt;") && !page.contains("<script>alert"));
    let name = "n/\u{1b}[31mred\nnight.fits";
    fs::create_dir(night.path("n")).unwrap();
    fs::copy(night.path("a.fits"), night.path(name)).unwrap();
    let run = night.run("survey n --out s").success();
    assert!(
        !run.out.contains('\u{1b}') && run.out.contains("%1B[31mred%0Anight.fits"),
        "{}",
        run.out
    );
    let run = night.run_words(&["show", &format!("{name}.gone")]).ends(1);
    assert!(!run.err.contains('\u{1b}'), "{:?}", run.err);
    // Bytes of a header that are no letters.
    let mut bytes = fs::read(night.path("a.fits")).unwrap();
    let at = bytes.windows(4).position(|w| w == b"Reef").unwrap();
    bytes[at..at + 4].copy_from_slice(b"\x1b[2J");
    let night = night.file("esc.fits", &bytes);
    let run = night
        .run("compose esc.fits b.fits --red Ha --green Ha --blue Ha --out c --json")
        .success();
    assert!(!run.out.contains("\\u001b") && !run.out.contains('\u{1b}'));
}

#[test]
fn long_and_endless_expressions_are_worked_out_or_refused() {
    let night = pair();
    let sum = vec!["Ha"; 1900].join(" + ");
    night
        .run_words(&[
            "compose", "ha.fits", "r.fits", "--red", &sum, "--green", "R", "--blue", "R",
        ])
        .ends(2)
        .says("too long or nested too deeply");
    let rule = (0..7500).map(|i| format!("fwhm<{i}")).collect::<Vec<_>>();
    night
        .run_words(&[
            "survey",
            "ha.fits",
            "--no-report",
            "--out",
            "s",
            "--keep",
            &rule.join(" or "),
        ])
        .success();
    night
        .run_words(&[
            "compose", "ha.fits", "r.fits", "--red", "1e38*Ha", "--green", "R", "--blue", "R",
        ])
        .ends(2)
        .says("too large to be computed with");
    night
        .run_words(&[
            "compose",
            "ha.fits",
            "r.fits",
            "--red",
            "(1e15*(Ha+1e6))^3",
            "--green",
            "R",
            "--blue",
            "R",
            "--out",
            "c",
        ])
        .ends(1)
        .says("the composite is empty");
    assert!(night.files("c").is_empty());
}

#[test]
fn a_frame_of_one_row_is_no_end_of_anything() {
    let row: Vec<f32> = (0..49_152)
        .map(|i| 100.0 + (i * 7919 % 997).single() * 0.01)
        .collect();
    let night = pair()
        .file("row.fits", &floats(49_152, 1, &row))
        .file("column.fits", &floats(1, 49_152, &row));
    night
        .run("register ha.fits r.fits row.fits column.fits --out w --name x")
        .success()
        .says("left out   row.fits");
    night.run("survey . --out s --no-report").success();
    night
        .run("stars row.fits --out p")
        .success()
        .says("no stars");
    night.run("show column.fits --out p").success();
}

#[rstest]
#[case::folded("[-1.0,", "its placement is missing or impossible")]
#[case::shrunk("[0.0001,", "its placement is missing or impossible")]
#[case::endless("[1e300,", "its placement is missing or impossible")]
fn a_layout_whose_map_makes_no_sense_is_refused_at_once(#[case] first: &str, #[case] words: &str) {
    let night = pair();
    night
        .run("register ha.fits r.fits --reference ha.fits --out w --name x")
        .success();
    let path = night.path("w/x.layout.json");
    let mut json: serde_json::Value =
        serde_json::from_str(&fs::read_to_string(&path).unwrap()).unwrap();
    let number: f64 = first.trim_matches(['[', ',']).parse().unwrap();
    if number < 0.0 {
        // Mirrored to the left of a line, not to its right.
        json["frames"][1]["placement"]["matrix"][2][0] = (-2.0 / 560.0).into();
    } else {
        json["frames"][1]["placement"]["matrix"][0][0] = number.into();
    }
    fs::write(&path, json.to_string()).unwrap();
    night
        .run("compose w/x.layout.json --red Ha --green R --blue R --out c")
        .ends(1)
        .says(words);
    json["frames"][1]["placement"]["matrix"] = json["frames"][0]["placement"]["matrix"].clone();
    json["format"] = 0.into();
    fs::write(&path, json.to_string()).unwrap();
    night
        .run("compose w/x.layout.json --red Ha --green R --blue R --out c")
        .ends(1)
        .says("it says format 0");
}

#[test]
fn an_exposure_that_could_not_be_placed_is_the_reason_why_there_is_only_one() {
    let night = Night::new()
        .frame("long.fits", frame(Filter::Ha, "Ha"))
        .frame(
            "far.fits",
            frame(Filter::Ha, "Ha").shifted(9000.0, 0.0).called(30.0),
        );
    night
        .run("hdr long.fits far.fits --out o --name x")
        .ends(1)
        .says("only one exposure of Ha")
        .says("'far.fits' is left out");
}
