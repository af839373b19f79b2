//! A builder of nights: frames of the made-up sky in a temporary folder, and runs on them.

use jigsawa_core::number::Convert;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use assert_cmd::Command;
use jigsawa_core::doors::TileSink;
use jigsawa_core::filter::Filter;
use jigsawa_core::plane::Plane;
use jigsawa_core::space::Size;
use jigsawa_formats::fits::{Cards, Depth, FitsWriter};
use jigsawa_formats::whole::Unfinished;
use jigsawa_sky::camera::Camera;
use jigsawa_sky::clouds::Clouds;
use jigsawa_sky::demo::bright_crowd;
use jigsawa_sky::glow::SkyGlow;
use jigsawa_sky::optics::Optics;
use jigsawa_sky::pointing::Pointing;
use jigsawa_sky::shot::Shot;
use jigsawa_sky::spoilt::{Spoilt, Trail};
use jigsawa_sky::stars::Crowd;
use tempfile::TempDir;

/// A temporary folder with frames.
pub struct Night {
    folder: TempDir,
}

/// One frame to be taken.
pub struct Frame {
    shot: Shot,
    card: String,
    more: Vec<String>,
    full: f32,
    seconds: Option<f64>,
    /// With the lantern's heart, and stars that are full.
    bright: bool,
    /// What is made of its pixels, one after the other.
    hands: Vec<Box<dyn Fn(Plane) -> Plane>>,
}

/// A frame of 560 x 420 pixels at the lantern's edge.
pub fn frame(filter: Filter, card: &str) -> Frame {
    let seed = card.bytes().map(u64::from).sum();
    Frame {
        shot: Shot {
            filter,
            size: Size::new(560, 420).unwrap(),
            pointing: Pointing::at(700.0, 850.0),
            optics: Optics::round(2.8),
            camera: Camera::usual(),
            glow: SkyGlow {
                across: 15.0,
                along: -8.0,
                ..SkyGlow::even(120.0)
            },
            transparency: 1.0,
            spoilt: Spoilt::default(),
            subs: 300,
            seed,
        },
        card: card.to_owned(),
        more: Vec::new(),
        full: 62_000.0,
        seconds: Some(300.0),
        bright: false,
        hands: Vec::new(),
    }
}

/// An exposure of the lantern's heart, 720 x 560 pixels, so many seconds of 300.
pub fn heart(filter: Filter, card: &str, seconds: f64) -> Frame {
    let mut frame = frame(filter, card);
    let light = 8.0 * seconds / 300.0;
    frame.shot.size = Size::new(720, 560).unwrap();
    frame.shot.pointing = Pointing::at(1030.0, 650.0);
    frame.shot.camera.bloom = 0.2;
    frame.shot.glow = SkyGlow {
        across: 10.0 * light,
        ..SkyGlow::even(60.0 * light)
    };
    frame.shot.transparency = light;
    frame.shot.subs = 30;
    frame.shot.seed += seconds.u64();
    Frame {
        seconds: Some(seconds),
        bright: true,
        ..frame
    }
}

impl Frame {
    pub fn turned(mut self, degrees: f64) -> Self {
        self.shot.pointing.turn_deg = degrees;
        self
    }

    /// Through air that makes stars so wide.
    pub fn blurred(mut self, fwhm_px: f64) -> Self {
        self.shot.optics = Optics::round(fwhm_px);
        self
    }

    /// Through air that lets this part of the light pass.
    pub fn hazy(mut self, transparency: f64) -> Self {
        self.shot.transparency = transparency;
        self
    }

    /// Under another sky: brighter, tilted the other way, with a moon.
    pub fn moonlit(mut self) -> Self {
        self.shot.glow = SkyGlow {
            across: -20.0,
            along: 12.0,
            moon: 60.0,
            ..SkyGlow::even(190.0)
        };
        self
    }

    /// With a trail across it.
    pub fn trailed(mut self, trail: Trail) -> Self {
        self.shot.spoilt.trail = Some(trail);
        self
    }

    /// As noisy as the mean of so many sub-frames.
    pub fn of_subs(mut self, subs: u32) -> Self {
        self.shot.subs = subs;
        self
    }

    /// Another noise.
    pub fn again(mut self, seed: u64) -> Self {
        self.shot.seed += 1000 * seed;
        self
    }

    /// Changed by other hands before it is written.
    pub fn after(mut self, hands: impl Fn(Plane) -> Plane + 'static) -> Self {
        self.hands.push(Box::new(hands));
        self
    }

    pub fn mirrored(mut self) -> Self {
        self.shot.pointing.mirrored = true;
        self
    }

    pub fn shifted(mut self, dx: f64, dy: f64) -> Self {
        self.shot.pointing.centre.0 += dx;
        self.shot.pointing.centre.1 += dy;
        self
    }

    /// With so many pixels for one of the usual camera.
    pub fn scaled(mut self, scale: f64) -> Self {
        self.shot.pointing.scale = scale;
        self
    }

    pub fn sized(mut self, width: usize, height: usize) -> Self {
        self.shot.size = Size::new(width, height).unwrap();
        self
    }

    /// Values from 0 to 1, as some programs write them, and no word of saturation.
    pub fn up_to_one(mut self) -> Self {
        self.full = 1.0;
        self
    }

    /// A header that does not say how long it was exposed.
    pub fn untimed(mut self) -> Self {
        self.seconds = None;
        self
    }

    /// A header that says another exposure than the true one.
    pub fn called(mut self, seconds: f64) -> Self {
        self.seconds = Some(seconds);
        self
    }

    /// A camera whose pixels are full at this level.
    pub fn full_at(mut self, level: f64) -> Self {
        self.shot.camera.full_adu = level;
        self.full = level.single();
        self
    }

    pub fn with(mut self, record: &str) -> Self {
        self.more.push(record.to_owned());
        self
    }
}

impl Night {
    pub fn new() -> Self {
        Self {
            folder: tempfile::tempdir().unwrap(),
        }
    }

    /// Hydrogen, oxygen after a meridian flip, sulphur mirrored: what most tests need.
    pub fn of_lines() -> Self {
        Self::new()
            .frame(
                "ha.fits",
                frame(Filter::Ha, "H-alpha").with("OBJECT  = 'Lantern Reef'"),
            )
            .frame(
                "oiii.fits",
                frame(Filter::Oiii, "O3").turned(181.2).shifted(4.3, -6.1),
            )
            .frame(
                "sii.fits",
                frame(Filter::Sii, "S2").mirrored().sized(600, 400),
            )
    }

    pub fn frame(self, name: &str, frame: Frame) -> Self {
        static CLOUDS: OnceLock<Clouds> = OnceLock::new();
        static HEART: OnceLock<Clouds> = OnceLock::new();
        std::fs::create_dir_all(self.path(name).parent().unwrap()).unwrap();
        let Frame {
            shot,
            card,
            more,
            full,
            seconds,
            bright,
            hands,
        } = frame;
        let taken = if bright {
            let clouds =
                HEART.get_or_init(|| Clouds::over((600.0, 300.0, 1460.0, 1000.0)).with_heart());
            shot.take(&bright_crowd(), Some(clouds))
        } else {
            let clouds = CLOUDS.get_or_init(|| Clouds::over((200.0, 400.0, 1200.0, 1300.0)));
            shot.take(&Crowd::lantern_reef(), Some(clouds))
        };
        let mut cards = Cards::default();
        if !card.is_empty() {
            cards.text("FILTER", &card, "");
        }
        if let Some(seconds) = seconds {
            cards.number("EXPTIME", seconds, "");
        }
        let made = hands.iter().fold(taken.plane, |plane, hand| hand(plane));
        let mut pixels = made.into_data();
        if full > 1.0 {
            cards.number("SATURATE", f64::from(full), "");
        } else {
            for v in &mut pixels {
                *v /= 62_000.0;
            }
        }
        for record in &more {
            cards.record(record);
        }
        let file = Unfinished::new(&self.path(name), true).unwrap();
        let mut out = FitsWriter::create(file, shot.size, 1, Depth::Float, &cards).unwrap();
        out.put(shot.size.rect(), &[&pixels]).unwrap();
        out.complete().unwrap().finish().unwrap();
        self
    }

    /// The image of a second file behind that of a first one, under a name.
    pub fn joined(self, first: &str, second: &str, name: &str) -> Self {
        let mut behind = std::fs::read(self.path(second)).unwrap();
        let mut replace = |card: &[u8], by: String| {
            let at = behind.chunks(80).position(|c| c.starts_with(card)).unwrap();
            behind[80 * at..80 * (at + 1)].copy_from_slice(format!("{by:<80}").as_bytes());
        };
        replace(b"SIMPLE", "XTENSION= 'IMAGE   '".to_owned());
        replace(b"EXPTIME", format!("EXTNAME = '{name}'"));
        let mut all = std::fs::read(self.path(first)).unwrap();
        all.extend(behind);
        std::fs::write(self.path(first), all).unwrap();
        self
    }

    /// A file of these bytes.
    pub fn file(self, name: &str, bytes: &[u8]) -> Self {
        std::fs::create_dir_all(self.path(name).parent().unwrap()).unwrap();
        std::fs::write(self.path(name), bytes).unwrap();
        self
    }

    /// A frame of one value, or of NaN.
    pub fn even(self, name: &str, value: f32) -> Self {
        let size = Size::new(200, 150).unwrap();
        let mut cards = Cards::default();
        cards.text("FILTER", "Ha", "");
        let file = Unfinished::new(&self.path(name), true).unwrap();
        let mut out = FitsWriter::create(file, size, 1, Depth::Float, &cards).unwrap();
        out.put(size.rect(), &[&vec![value; size.area()]]).unwrap();
        out.complete().unwrap().finish().unwrap();
        self
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// Names of the files in a folder of the night, sorted.
    pub fn files(&self, folder: &str) -> Vec<String> {
        let Ok(list) = std::fs::read_dir(self.path(folder)) else {
            return Vec::new();
        };
        let mut names: Vec<String> = list
            .map(|e| e.unwrap().file_name().to_string_lossy().into_owned())
            // What was measured is kept beside the results, out of sight.
            .filter(|name| name != ".jigsawa-cache")
            .collect();
        names.sort();
        names
    }

    /// Runs the program in the night's folder with words parted by blanks; `'…'` keeps blanks.
    pub fn run(&self, line: &str) -> Run {
        let mut words = Vec::new();
        for (i, part) in line.split('\'').enumerate() {
            if i % 2 == 1 {
                words.push(part.to_owned());
            } else {
                words.extend(part.split_whitespace().map(str::to_owned));
            }
        }
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        self.run_words(&words)
    }

    /// Runs the program in the night's folder with these words.
    pub fn run_words(&self, words: &[&str]) -> Run {
        self.run_with(words, |c| c)
    }

    /// The same in surroundings of the test's own.
    pub fn run_with(
        &self,
        words: &[&str],
        surroundings: impl FnOnce(&mut Command) -> &mut Command,
    ) -> Run {
        let mut command = Command::cargo_bin("jigsawa").unwrap();
        command.args(words);
        surroundings(&mut command);
        self.output_of(&mut command, words.join(" "))
    }

    /// Runs a shell's line, in which `"$0"` is the program.
    pub fn shell(&self, line: &str) -> Run {
        let program = assert_cmd::cargo::cargo_bin!("jigsawa");
        let mut command = Command::new("bash");
        command.args(["-c", line]).arg(program);
        self.output_of(&mut command, line.to_owned())
    }

    fn output_of(&self, command: &mut Command, line: String) -> Run {
        let output = command.current_dir(self.folder.path()).output().unwrap();
        Run {
            line,
            status: output.status.code(),
            out: String::from_utf8(output.stdout).unwrap(),
            err: String::from_utf8(output.stderr).unwrap(),
        }
    }
}

/// What a run has said and how it ended.
pub struct Run {
    line: String,
    pub status: Option<i32>,
    pub out: String,
    pub err: String,
}

impl Run {
    #[track_caller]
    pub fn success(self) -> Self {
        self.ends(0)
    }

    #[track_caller]
    pub fn ends(self, status: i32) -> Self {
        assert_eq!(
            self.status,
            Some(status),
            "{}\n{}\n{}",
            self.line,
            self.out,
            self.err
        );
        self
    }

    /// Says this on standard output or standard error.
    #[track_caller]
    pub fn says(self, text: &str) -> Self {
        let all = format!("{}\n{}", self.out, self.err);
        assert!(all.contains(text), "{}: no '{text}' in\n{all}", self.line);
        self
    }

    /// Standard output as JSON.
    #[track_caller]
    pub fn json(&self) -> serde_json::Value {
        serde_json::from_str(&self.out).unwrap_or_else(|e| panic!("{e}:\n{}", self.out))
    }
}

/// A plane of a result.
pub fn plane(path: &Path, plane: usize) -> Plane {
    jigsawa_formats::fits::FitsFrame::open(path)
        .unwrap()
        .read_plane(plane, Vec::new())
        .unwrap()
}
