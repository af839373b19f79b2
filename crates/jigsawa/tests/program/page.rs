//! The survey's page in a real browser: a Chromium without a window, driven by a script that is added to
//! a copy of the page. Without a Chromium on the machine these tests say that they are skipped.

use std::path::PathBuf;
use std::process::Command;

use crate::demo::demo;

/// A Chromium, if the machine has one.
fn browser() -> Option<PathBuf> {
    let given = std::env::var_os("CHROMIUM").map(PathBuf::from);
    let names = [
        "chromium",
        "chromium-browser",
        "google-chrome",
        "google-chrome-stable",
    ];
    let path = std::env::var_os("PATH").unwrap_or_default();
    let there = || {
        names
            .iter()
            .flat_map(|n| std::env::split_paths(&path).map(move |p| p.join(n)))
            .find(|p| p.is_file())
    };
    given.or_else(there)
}

/// Runs steps in the page and gives what they wrote into `log`, one line each. `None` without a browser.
fn in_page(steps: &str) -> Option<Vec<String>> {
    let Some(browser) = browser() else {
        eprintln!("skipped: no Chromium found; install one, or name it in CHROMIUM");
        return None;
    };
    let (night, _) = demo();
    let page = std::fs::read_to_string(night.path("d/result/reef-survey.html")).unwrap();
    let script = format!(
        "<pre id=\"log\"></pre><script>addEventListener('load', async () => {{
           const log = t => document.getElementById('log').textContent += t + '\\n';
           const $ = id => document.getElementById(id);
           const key = k => $('stage').dispatchEvent(new KeyboardEvent('keydown', {{ key: k, bubbles: true }}));
           const sum = () => {{ const c = $('view'); const d = c.getContext('2d').getImageData(0, 0, c.width, c.height).data;
             let s = 0; for (let i = 0; i < d.length; i += 4) s += d[i]; return s / (c.width * c.height); }};
           const wait = ms => new Promise(r => setTimeout(r, ms));
           addEventListener('error', e => log('ERROR ' + e.message));
           try {{ {steps} }} catch (e) {{ log('ERROR ' + e); }}
           log('END');
         }});</script></body>"
    );
    let page = page.replace("</body>", &script);
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("page.html");
    std::fs::write(&file, page).unwrap();
    let output = Command::new(browser)
        .args([
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
        ])
        .args([
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
        ])
        .args([
            "--window-size=1280,800",
            "--virtual-time-budget=20000",
            "--dump-dom",
        ])
        .arg(format!(
            "--user-data-dir={}",
            folder.path().join("profile").display()
        ))
        .arg(format!("file://{}", file.display()))
        .output()
        .unwrap();
    let dom = String::from_utf8_lossy(&output.stdout).into_owned();
    let log = dom
        .split("<pre id=\"log\">")
        .last()
        .and_then(|t| t.split("</pre>").next())
        .unwrap_or_default();
    let lines: Vec<String> = log.lines().map(str::to_owned).collect();
    assert!(lines.last().is_some_and(|l| l == "END"), "{lines:?}");
    assert!(!lines.iter().any(|l| l.starts_with("ERROR")), "{lines:?}");
    Some(lines)
}

#[test]
fn the_table_sorts_finds_and_chooses() {
    let Some(log) = in_page(
        "const files = () => [...$('table').tBodies[0].rows].filter(r => !r.hidden).map(r => r.cells[0].textContent);
         log(files().length);
         const head = [...document.querySelectorAll('#table th button')].find(b => b.textContent === 'fwhm');
         head.click(); log(files()[0]);
         head.click(); log(files()[0] + ' ' + head.parentElement.getAttribute('aria-sort'));
         $('which').value = 'out'; $('which').dispatchEvent(new Event('change')); log(files().length);
         $('find').value = 'cloud 007'; $('find').dispatchEvent(new Event('input')); log(files().join());
         log($('count').textContent);",
    ) else {
        return;
    };
    assert_eq!(log[0], "36");
    assert_eq!(log[1], "reef_R_014.fits");
    assert_eq!(log[2], "reef_G_010.fits descending");
    assert_eq!(log[3], "5");
    assert_eq!(log[4], "reef_R_007.fits");
    assert_eq!(log[5], "1 of 36 frames");
}

#[test]
fn points_show_their_frame_and_lead_to_it() {
    let Some(log) = in_page(
        "const plots = document.querySelectorAll('.plots svg'); log(plots.length);
         log([...plots].map(p => p.querySelectorAll('.dot').length).join());
         log([...plots].map(p => p.querySelectorAll('.dot.out').length).join());
         log(document.querySelectorAll('.plots .limit').length > 2);
         const dot = plots[0].querySelector('.dot.out'); log(dot.querySelector('title').textContent);
         dot.dispatchEvent(new MouseEvent('click', { bubbles: true })); await wait(300);
         log($('caption').textContent);",
    ) else {
        return;
    };
    assert_eq!(log[0], "6");
    assert_eq!(log[1], "30,30,30,30,30,30");
    assert_eq!(log[2], "5,5,5,5,5,5");
    assert_eq!(log[3], "true");
    let file = log[4].split(':').next().unwrap();
    assert!(log[4].contains("fwhm") && log[5].contains(file), "{log:?}");
    assert!(log[5].contains("left out"));
}

#[test]
fn keys_flip_zoom_and_mark_and_the_place_stays() {
    let Some(log) = in_page(
        "await wait(500); log($('caption').textContent.split(' · ')[1]);
         key('ArrowRight'); key('ArrowRight'); await wait(300); log($('caption').textContent.split(' · ')[1]);
         key('ArrowLeft'); await wait(300); log($('caption').textContent.split(' · ')[1]);
         key('1'); await wait(200); log($('caption').textContent.split('zoom ')[1]);
         key('ArrowRight'); await wait(300); log($('caption').textContent.split('zoom ')[1]);
         log(sum() > 5);
         key('x'); await wait(100); log($('keep').value.includes('file != \"reef_R_003.fits\"'));
         log($('chosen').textContent);
         key('x'); log($('keep').value.includes('reef_R_003'));
         key(' '); await wait(1500); key(' '); log($('caption').textContent.split(' · ')[1] !== 'reef_R_003.fits');
         log($('keep').value);",
    ) else {
        return;
    };
    assert_eq!(
        log[..3],
        ["reef_R_001.fits", "reef_R_003.fits", "reef_R_002.fits"]
    );
    assert_eq!(log[3..5], ["100 %", "100 %"]);
    assert_eq!(log[5..7], ["true", "true"]);
    assert_eq!(log[7], "24 of 30 lights are used, 6 left out.");
    assert_eq!(log[8..10], ["false", "true"]);
    // The command line that the page gives is one that a shell and the program take.
    let (night, _) = demo();
    let line = format!(
        "exec \"$0\" survey d/night --out s2 --no-report --json {}",
        log[10]
    );
    let json = night.shell(&line).success().json();
    let out = json["frames"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|r| r["verdict"] == "left out");
    assert_eq!(out.count(), 5, "{line}");
}

#[test]
fn stretches_and_the_field_follow_the_choice() {
    let Some(log) = in_page(
        "await wait(500); const cloudy = JSON.parse($('data').textContent).findIndex(f => f.file === 'reef_R_007.fits');
         document.querySelector(`.stamp[data-i=\"${cloudy}\"] button`).click(); await wait(400);
         const together = sum(); $('common').click(); await wait(400); const own = sum();
         log(Math.abs(together - own) > 1);
         log($('field-frame').selectedOptions[0].textContent);
         log(document.querySelectorAll('#field-map ellipse').length);
         log([...document.querySelectorAll('.stamp')].filter(s => !s.hidden).length);
         $('lights-only').click(); log([...document.querySelectorAll('.stamp')].filter(s => !s.hidden).length);
         log([...document.querySelectorAll('.stamp img')].every(i => i.complete && i.naturalWidth === 960));",
    ) else {
        return;
    };
    assert_eq!(log[0], "true");
    assert_eq!(log[1], "reef_R_007.fits (left out)");
    assert!(log[2].parse::<usize>().unwrap() >= 7);
    assert_eq!(log[3..6], ["30", "36", "true"]);
}

#[test]
fn the_page_needs_nothing_but_itself() {
    let (night, _) = demo();
    let page = std::fs::read_to_string(night.path("d/result/reef-survey.html")).unwrap();
    for outside in ["http://", "https://", "src=\"/", "@import", "url(\""] {
        let found = page
            .match_indices(outside)
            .filter(|(i, _)| !page[*i..].starts_with("http://www.w3.org/2000/svg"))
            .count();
        assert_eq!(found, 0, "{outside}");
    }
}
