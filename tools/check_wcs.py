#!/usr/bin/env python3
"""Checks the sky coordinates of jigsawa's outputs against an independent implementation (astropy).

    python3 tools/check_wcs.py path/to/jigsawa

Frames with known skies are written: plain and distorted tangent planes, their matrices as CD, as PC with
CDELT and as CROTA, one frame without any. The program places them on four canvases. Each output's WCS, as astropy
reads it, must put every place of the sky on the pixel where the frame's own WCS and the placement put it, to
0.01 px; this script's own arithmetic is only a matrix. Needs numpy and astropy. Ends with 1 when something is off.
"""

import json
import subprocess
import sys
import tempfile
import warnings
from pathlib import Path

import numpy as np
from astropy.io import fits
from astropy.wcs import WCS

warnings.filterwarnings("ignore")
WIDTH, HEIGHT, SCALE = 700, 520, 1.4 / 3600
LIMIT_PX = 0.01


def header(turn_deg, at, way, sip):
    """A sky around one point, turned and moved; the same place for every way to write the matrix."""
    h = fits.Header()
    kind = "-SIP" if sip else ""
    h["CTYPE1"], h["CTYPE2"] = "RA---TAN" + kind, "DEC--TAN" + kind
    h["CRVAL1"], h["CRVAL2"] = 211.3, 54.2
    h["CRPIX1"], h["CRPIX2"] = at
    h["RADESYS"] = "ICRS"
    turn = np.radians(turn_deg)
    c, s = np.cos(turn), np.sin(turn)
    if way == "cd":
        h["CD1_1"], h["CD1_2"], h["CD2_1"], h["CD2_2"] = -SCALE * c, SCALE * s, SCALE * s, SCALE * c
    else:
        h["CDELT1"], h["CDELT2"] = -SCALE, SCALE
        if way == "crota":
            h["CROTA2"] = -turn_deg
        else:
            h["PC1_1"], h["PC1_2"], h["PC2_1"], h["PC2_2"] = c, -s, s, c
    if sip:
        h["A_ORDER"], h["B_ORDER"] = 3, 3
        for name, value in {"A_2_0": 4e-6, "A_1_1": -3e-6, "A_3_0": 2e-8, "A_1_2": 2e-8,
                            "B_0_2": 3e-6, "B_2_0": -2e-6, "B_0_3": 2e-8, "B_2_1": 2e-8}.items():
            h[name] = value
    return h


def frame(path, h, stars, seed, keep_wcs=True):
    """Writes a frame whose stars lie where astropy says."""
    rng = np.random.default_rng(seed)
    image = rng.normal(1000.0, 4.0, (HEIGHT, WIDTH))
    x, y = WCS(h).all_world2pix(stars[:, 0], stars[:, 1], 0, tolerance=1e-8)
    yy, xx = np.mgrid[-12:13, -12:13]
    for px, py, flux in zip(x, y, stars[:, 2]):
        if not (13 < px < WIDTH - 14 and 13 < py < HEIGHT - 14):
            continue
        ix, iy = int(round(px)), int(round(py))
        r2 = (xx - (px - ix)) ** 2 + (yy - (py - iy)) ** 2
        image[iy - 12:iy + 13, ix - 12:ix + 13] += flux * np.exp(-r2 / (2 * 1.3 ** 2))
    hdu = fits.PrimaryHDU(image.astype(np.float32))
    if keep_wcs:
        hdu.header.update(h)
    hdu.header["FILTER"] = "R"
    hdu.writeto(path)


def main():
    program = str(Path(sys.argv[1] if len(sys.argv) > 1 else "target/release/jigsawa").resolve())
    worst = 0.0
    with tempfile.TemporaryDirectory() as folder:
        folder = Path(folder)
        rng = np.random.default_rng(1)
        stars = np.column_stack([211.3 + rng.uniform(-0.4, 0.4, 700), 54.2 + rng.uniform(-0.2, 0.2, 700),
                                 10 ** rng.uniform(2.2, 4.2, 700)])
        frames = {
            "cd.fits": header(12.0, (350.5, 260.5), "cd", False),
            "crota.fits": header(-35.0, (300.0, 280.0), "crota", False),
            "pc.fits": header(171.0, (380.0, 250.0), "pc", False),
            "sip.fits": header(3.0, (340.0, 270.0), "cd", True),
            "none.fits": header(95.0, (360.0, 255.0), "cd", False),
        }
        for k, (name, h) in enumerate(frames.items()):
            frame(folder / name, h, stars, k, keep_wcs=name != "none.fits")
        for reference in ["cd.fits", "sip.fits", "crota.fits", "none.fits"]:
            for options in [[], ["--canvas", "union"], ["--scale", "2"], ["--scale", "1.5", "--north-up", "--canvas", "union"]]:
                out = folder / f"{reference}-{'-'.join(options).replace('--', '')}"
                subprocess.run([program, "register", *sorted(frames), "--reference", reference, "--out", str(out),
                                "--name", "x", "--no-report", "--write-frames", str(out / "placed"), "-q", *options],
                               cwd=folder, check=True)
                layout = json.loads((out / "x.layout.json").read_text())
                used = [f for f in layout["frames"] if f["verdict"] == "used"]
                assert len(used) == len(frames), f"{reference} {options}: only {len(used)} frames were placed"
                canvas = layout["canvas"]
                turn, s = np.radians(canvas.get("turn_deg", 0.0)), canvas["scale"]
                for name in frames:
                    sky = WCS(fits.getheader(out / "placed" / name))
                    # Canvas pixels to the reference's, then by the reference's true sky: no star is measured here.
                    x, y = np.meshgrid(np.linspace(0, canvas["width"] - 1, 9), np.linspace(0, canvas["height"] - 1, 9))
                    rx = canvas["origin"][0] + (np.cos(turn) * x - np.sin(turn) * y) / s
                    ry = canvas["origin"][1] + (np.sin(turn) * x + np.cos(turn) * y) / s
                    ra, dec = WCS(frames[reference]).all_pix2world(rx, ry, 0)
                    bx, by = sky.all_world2pix(ra, dec, 0, tolerance=1e-8, maxiter=100)
                    off = np.hypot(bx - x, by - y).max() / s
                    if reference != "none.fits":
                        worst = max(worst, off)
                    told = "ok" if off < LIMIT_PX or (reference == "none.fits" and off < 0.2) else "OFF"
                    if told == "OFF" or name == "cd.fits":
                        print(f"{told}  reference {reference:10} {' '.join(options):40} {name:10} {off:.5f} px")
                    if told == "OFF":
                        sys.exit(1)
    print(f"all outputs agree with astropy to {worst:.5f} px where the reference has a WCS of its own; "
          "where it has none, to what its stars allow")


if __name__ == "__main__":
    main()
