#!/usr/bin/env bash
# Makes the guide's own pictures from the demo:  tools/guide.sh target/release/jigsawa
# Those that the guide shares with the README lie in docs/screenshots.
set -euo pipefail
program=$(realpath "$1")
out=$(realpath "$(dirname "$0")/../docs/guide")
work=$(mktemp -d)
trap 'rm -r "$work"' EXIT
cd "$work"
"$program" demo demo --all --data-only --quiet
show() { "$program" show "$@" --out . --overwrite --quiet; }
show demo/frames/reef_Ha.fits demo/frames/reef_SII.fits --difference --zoom 0.4 --name difference
show demo/panels/reef_A1_Ha.fits demo/panels/reef_A2_Ha.fits demo/panels/reef_B1_Ha.fits demo/panels/reef_B2_Ha.fits \
  --together --zoom 0.35 --name panels
for way in as-is matched; do
  seeing=""
  [ "$way" = as-is ] || seeing="--match-seeing"
  "$program" compose demo/frames --palette RGB --linear-only --out . --name "$way" --quiet $seeing
done
show as-is-RGB.fits matched-RGB.fits --together --region 880,560,120,90 --zoom 4 --name rims
for picture in difference panels rims; do
  mv $picture*.png "$out/$picture.png"
done
