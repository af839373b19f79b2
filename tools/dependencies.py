#!/usr/bin/env python3
"""Lists what the program is built of: names, versions, licences, and where each licence's text lies.

    python3 tools/dependencies.py              # a table; ends with 1 when a package names no licence or an unknown one
    python3 tools/dependencies.py --texts      # the licence texts themselves, to go with a package of the program
    python3 tools/dependencies.py --sbom       # a CycloneDX 1.5 document (ECMA-424)

What only tests, benches and build scripts use does not count. Needs cargo and nothing else.
"""

import json
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent

# Licences under which others may use the program as they like. The last is for one decoder, as a library of its own.
KNOWN = {
    "MIT", "MIT-0", "Apache-2.0", "Apache-2.0 WITH LLVM-exception", "BSD-2-Clause", "BSD-3-Clause", "0BSD", "ISC", "Zlib",
    "Unlicense", "CC0-1.0", "BSL-1.0", "Unicode-3.0", "CDLA-Permissive-2.0", "OFL-1.1", "MPL-2.0", "LGPL-2.1", "LGPL-2.1-only", "IJG",
}


def packages():
    """Packages of the program besides its own, by name and version."""
    command = ["cargo", "metadata", "--format-version", "1", "--locked"]
    told = json.loads(subprocess.run(command, cwd=ROOT, check=True, capture_output=True, text=True).stdout)
    by_id = {p["id"]: p for p in told["packages"]}
    nodes = {n["id"]: n for n in told["resolve"]["nodes"]}
    wanted, seen = [p["id"] for p in told["packages"] if p["name"] == "jigsawa"], set()
    while wanted:
        package = wanted.pop()
        if package in seen:
            continue
        seen.add(package)
        for dependency in nodes[package]["deps"]:
            if any(kind["kind"] is None for kind in dependency["dep_kinds"]):
                wanted.append(dependency["pkg"])
    found = [by_id[i] for i in seen if by_id[i]["source"]]
    return sorted(found, key=lambda p: (p["name"], p["version"]))


def texts(package):
    """Files with the licence."""
    folder = Path(package["manifest_path"]).parent
    named = [folder / package["license_file"]] if package["license_file"] else []
    starts = ("license", "licence", "copying", "copyright", "unlicense", "notice")
    others = [f for f in folder.iterdir() if f.is_file() and f.name.lower().startswith(starts)]
    return sorted(set(named + others))


def is_known(expression):
    """Is one of the choices that a licence expression leaves known, and all that it asks for together?"""
    if not expression:
        return False
    text = expression.replace("/", " OR ").replace("(", " ").replace(")", " ")
    names = [name.strip() for name in text.replace(" AND ", " OR ").split(" OR ")]
    # Where several count together every one must be known, whatever choices there are among them.
    return (all if " AND " in text else any)(name in KNOWN for name in names)


def sbom(found):
    components = [
        {
            "type": "library",
            "name": p["name"],
            "version": p["version"],
            "purl": f"pkg:cargo/{p['name']}@{p['version']}",
            "licenses": [{"expression": (p["license"] or "NOASSERTION").replace("/", " OR ")}],
        }
        for p in found
    ]
    program = {"type": "application", "name": "jigsawa"}
    return {"bomFormat": "CycloneDX", "specVersion": "1.5", "version": 1, "metadata": {"component": program}, "components": components}


def main():
    found = packages()
    if "--sbom" in sys.argv[1:]:
        print(json.dumps(sbom(found), indent=1))
        return 0
    if "--texts" in sys.argv[1:]:
        for p in found:
            for file in texts(p):
                print(f"{'=' * 100}\n{p['name']} {p['version']}: {file.name}\n{'=' * 100}\n{file.read_text(errors='replace')}")
        return 0
    unknown = 0
    for p in found:
        names = ", ".join(f.name for f in texts(p)) or "no file: by its name alone"
        mark = "" if is_known(p["license"]) else "  NOT KNOWN"
        unknown += bool(mark)
        print(f"{p['name']:<28} {p['version']:<14} {p['license'] or '-':<40} {names}{mark}")
    print(f"{len(found)} packages, {unknown} with a licence that is not known to be free to use")
    return 1 if unknown else 0


sys.exit(main())
