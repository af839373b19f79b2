#!/usr/bin/env python3
"""Opens jigsawa's pictures with other programs' readers, and holds them against each other.

    python3 tools/read_back.py path/to/jigsawa

A small linear frame is written (three planes, black border, stars), and finished into every format: FITS (read by astropy), TIFF of
16 bits and of 32-bit float (tifffile), PNG and JPEG XL (libpng and libjxl, in imagecodecs), EXR (the OpenEXR library) and JPEG
(libjpeg-turbo). All show the same picture: what 16 bits hold is the float one rounded, EXR is its light, JPEG is near it. Needs numpy,
astropy, tifffile, imagecodecs and OpenEXR. Ends with 1 when something is off.
"""

import subprocess
import sys
import tempfile
import warnings
from pathlib import Path

import imagecodecs
import numpy as np
import OpenEXR
import tifffile
from astropy.io import fits

warnings.filterwarnings("ignore")
WIDTH, HEIGHT = 640, 431


def linear(path):
    """A colour frame: sky, a nebula, stars of many colours."""
    chance = np.random.default_rng(5)
    y, x = np.mgrid[0:HEIGHT, 0:WIDTH]
    planes = np.empty((3, HEIGHT, WIDTH), np.float32)
    colours = chance.uniform(0.4, 1.6, (150, 3))
    places = chance.uniform(0, 1, (150, 2)) * (WIDTH, HEIGHT)
    light = chance.pareto(1.2, 150) * 600
    for k in range(3):
        nebula = (300, 120, 60)[k] * np.exp(-((x - 330) ** 2 + (y - 190) ** 2) / 2 / 90**2)
        plane = 400 + nebula + chance.normal(0, 6, x.shape)
        for (sx, sy), of_star, colour in zip(places, light, colours):
            near = (slice(max(int(sy) - 9, 0), int(sy) + 10), slice(max(int(sx) - 9, 0), int(sx) + 10))
            r2 = (x[near] - sx) ** 2 + (y[near] - sy) ** 2
            plane[near] += of_star * colour[k] * np.exp(-r2 / 2 / 1.3**2)
        planes[k] = plane
    planes[:, :7, :] = np.nan
    header = fits.Header()
    header["FILTERS"] = "R,G,B"
    header["ROWORDER"] = "TOP-DOWN"
    fits.writeto(path, planes, header)


def decoded(display):
    """Light of values that are encoded as sRGB (IEC 61966-2-1)."""
    return np.where(display <= 0.04045, display / 12.92, ((display + 0.055) / 1.055) ** 2.4)


def main(program):
    with tempfile.TemporaryDirectory() as folder:
        here = Path(folder)
        linear(here / "reef-RGB.fits")
        endings = ["tif", "png", "jxl", "jpg", "exr", "fits"]
        outs = [word for e in endings for word in ("--out", f"reef.{e}")]
        subprocess.run([program, "finish", "reef-RGB.fits", *outs, "--no-report", "--quiet"], cwd=here, check=True)
        subprocess.run(
            [program, "finish", "reef-RGB.fits", "--out", "float.tif", "--float", "--no-report", "--quiet"], cwd=here, check=True
        )
        whole = tifffile.imread(here / "float.tif")
        sixteen = np.round(np.clip(whole, 0, 1).astype(np.float64) * 65535)
        found = {
            "TIFF, 16 bits (tifffile)": (tifffile.imread(here / "reef.tif"), sixteen, 1),
            "PNG (libpng)": (imagecodecs.png_decode((here / "reef.png").read_bytes()), sixteen, 1),
            "JPEG XL (libjxl)": (imagecodecs.jpegxl_decode((here / "reef.jxl").read_bytes()), sixteen, 1),
            "JPEG (libjpeg-turbo)": (imagecodecs.jpeg_decode((here / "reef.jpg").read_bytes()), sixteen / 257, 40),
            "EXR (OpenEXR)": (OpenEXR.File(str(here / "reef.exr")).channels()["RGB"].pixels, decoded(whole), 2e-6),
            # The first row stored is the lowest where the cards do not say otherwise.
            "FITS (astropy)": (np.moveaxis(fits.getdata(here / "reef.fits"), 0, -1), whole, 0),
        }
        off = False
        for name, (got, wanted, limit) in found.items():
            same = got.shape == wanted.shape
            most = float(np.nanmax(np.abs(got.astype(np.float64) - wanted))) if same else float("nan")
            wrong = not same or not most <= limit
            off |= wrong
            print(f"{name:26} {got.shape} {got.dtype}, off by {most:.3g} at most{'  WRONG' if wrong else ''}")
        return int(off)


if __name__ == "__main__":
    sys.exit(main(str(Path(sys.argv[1]).resolve())))
