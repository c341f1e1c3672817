"""Files that a program may want: one small valid sample of each kind, by its name.

A kind is a row: what it is called, the endings and the names by which it is recognised, and its
content. Binary kinds are made by the standard library where they are used, since a spec holds text.
"""

from __future__ import annotations

import os
import re
from collections.abc import Iterator

from keen_matrix.core.structs import Struct


class Sample(Struct, frozen=True):
    """One small valid file of a kind."""

    kind: str
    #: Endings of names, with their dots, and whole names.
    names: tuple[str, ...]
    content: str


SAMPLES: tuple[Sample, ...] = (
    Sample("JSON", (".json", "package.json"), '{"port": "Skerry", "riders": [1, 2]}\n'),
    Sample("CSV", (".csv",), "port,riders\nSkerry,1\nHolm,2\n"),
    Sample("TSV", (".tsv", ".tab"), "port\triders\nSkerry\t1\nHolm\t2\n"),
    Sample("XML", (".xml", ".xsl", ".xsd", ".rss"), "<crossing><port>Skerry</port></crossing>\n"),
    Sample("YAML", (".yaml", ".yml"), "port: Skerry\nriders:\n  - 1\n  - 2\n"),
    Sample("TOML", (".toml",), 'port = "Skerry"\nriders = 2\n'),
    Sample("INI", (".ini", ".cfg", ".conf", "config"), "[crossing]\nport = Skerry\n"),
    Sample("environment", (".env",), "PORT=Skerry\nRIDERS=2\n"),
    Sample("properties", (".properties",), "port=Skerry\nriders=2\n"),
    Sample(
        "Python",
        (".py", ".pyi"),
        "import os\n\n\ndef fare(riders, port):\n    cost = riders * 2\n    return cost\n\n\nprint(fare(2, 1))\n",
    ),
    Sample("JavaScript", (".js", ".mjs", ".cjs"), "const riders = 2;\nconsole.log(riders);\n"),
    Sample("TypeScript", (".ts",), "const riders: number = 2;\nconsole.log(riders);\n"),
    Sample("CSS", (".css", ".scss", ".less"), "p { color: navy; margin: 0 }\n"),
    Sample(
        "HTML",
        (".html", ".htm"),
        "<!DOCTYPE html>\n<html><head><title>Skerry</title></head><body><p>Two riders</p></body></html>\n",
    ),
    Sample("Markdown", (".md", ".markdown"), "# Skerry\n\nTwo *riders*.\n\n- one\n- two\n"),
    Sample("reStructuredText", (".rst",), "Skerry\n======\n\nTwo *riders*.\n"),
    Sample(
        "gettext",
        (".po", ".pot"),
        'msgid ""\nmsgstr "Content-Type: text/plain; charset=UTF-8\\n"\n\nmsgid "port"\nmsgstr "havn"\n',
    ),
    Sample(
        "SVG",
        (".svg",),
        '<svg xmlns="http://www.w3.org/2000/svg" width="4" height="4"><rect width="2" height="2"/></svg>\n',
    ),
    Sample("SQL", (".sql",), "select port, riders from crossings where riders > 1;\n"),
    Sample("shell", (".sh", ".bash"), "#!/bin/sh\nriders=2\necho $riders\n"),
    Sample("C", (".c", ".h"), "int main(void)\n{\n    return 0;\n}\n"),
    Sample("C++", (".cpp", ".cc", ".hpp"), "int main() {\n  return 0;\n}\n"),
    Sample("Java", (".java",), "class Ferry {\n    int riders = 2;\n}\n"),
    Sample("Go", (".go",), 'package main\n\nfunc main() {\n\tprintln("Skerry")\n}\n'),
    Sample("Rust", (".rs",), 'fn main() {\n    println!("Skerry");\n}\n'),
    Sample("Perl", (".pl", ".pm"), "my $riders = 2;\nprint $riders;\n1;\n"),
    Sample("POD", (".pod",), "=head1 NAME\n\nferry - what crosses\n\n=cut\n"),
    Sample("roff", (".man", ".1"), ".TH FERRY 1\n.SH NAME\nferry \\- what crosses\n"),
    Sample("TeX", (".tex",), "\\documentclass{article}\n\\begin{document}\nSkerry\n\\end{document}\n"),
    Sample("dot", (".dot", ".gv"), "digraph ferry { skerry -> holm }\n"),
    Sample("Makefile", ("Makefile", ".mk"), "all:\n\techo Skerry\n"),
    Sample("requirements", ("requirements.txt",), "ferry==1.0\n"),
    Sample("difference", (".diff", ".patch"), "--- a\n+++ b\n@@ -1 +1 @@\n-Skerry\n+Holm\n"),
    Sample("FASTA", (".fa", ".fasta"), ">one\nACGTACGT\n>two\nACGTTCGT\n"),
    Sample(
        "calendar",
        (".ics",),
        "BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:ferry\nBEGIN:VEVENT\nUID:1\nDTSTAMP:20260601T080000Z\n"
        "DTSTART:20260601T080000Z\nSUMMARY:Skerry\nEND:VEVENT\nEND:VCALENDAR\n",
    ),
    Sample(
        "STL",
        (".stl",),
        "solid ferry\n"
        + "".join(
            f"facet normal 0 0 0\nouter loop\nvertex {a}\nvertex {b}\nvertex {c}\nendloop\nendfacet\n"
            for a, b, c in (
                ("0 0 0", "0 1 0", "1 0 0"),
                ("0 0 0", "1 0 0", "0 0 1"),
                ("0 0 0", "0 0 1", "0 1 0"),
                ("1 0 0", "0 1 0", "0 0 1"),
            )
        )
        + "endsolid ferry\n",
    ),
    Sample("OBJ", (".obj",), "v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n"),
    Sample("PPM", (".ppm", ".pnm"), "P3\n2 1\n255\n255 0 0 0 0 255\n"),
    Sample("PGM", (".pgm",), "P2\n2 1\n255\n0 255\n"),
    Sample("BibTeX", (".bib",), "@book{ferry, author = {Ada T.}, title = {Skerry}, year = {2026}}\n"),
    Sample("SRT", (".srt",), "1\n00:00:01,000 --> 00:00:02,000\nSkerry\n"),
    Sample("vCard", (".vcf",), "BEGIN:VCARD\nVERSION:3.0\nN:T;Ada\nFN:Ada T\nEND:VCARD\n"),
    Sample("LDIF", (".ldif",), "dn: cn=ada\ncn: ada\n"),
    Sample(
        "GPX",
        (".gpx",),
        '<?xml version="1.0"?>\n<gpx version="1.1" creator="ferry" xmlns="http://www.topografix.com/GPX/1/1">'
        '<wpt lat="60.1" lon="1.2"/></gpx>\n',
    ),
    Sample(
        "GeoJSON",
        (".geojson",),
        '{"type": "Feature", "geometry": {"type": "Point", "coordinates": [1.2, 60.1]}, "properties": {}}\n',
    ),
    Sample("lines", (".txt", ".log", ".lst", ".list", ".dat"), "1 anchor\n2 bow\n3 cabin\n"),
)
#: A file that a message says is missing: its name in quotes or after the words.
_MISSING = re.compile(
    r"""(?:['"‘“`](?P<quoted>[\w./-]{2,60})['"’”`]|(?P<bare>[\w./-]*\.?[\w-]+\.[A-Za-z]{1,10}|\.[a-z]\w{1,20}))"""
)
_IS_MISSING = re.compile(
    r"no such file|not found|cannot (?:open|find|read)|can't (?:open|find|read)|could not (?:open|find|read)|"
    r"couldn't (?:open|find|read)|does not exist|doesn't exist|missing|ENOENT|unable to (?:open|read|find)",
    re.IGNORECASE,
)


def sample_for(name: str) -> Sample | None:
    """Return the sample that suits a file's name; None for a name that tells nothing."""
    base = os.path.basename(name)
    ending = os.path.splitext(base)[1].lower()
    whole = next((each for each in SAMPLES if base in each.names), None)
    return whole or next((each for each in SAMPLES if ending and ending in each.names), None)


def samples_spoken_of(text: str) -> Iterator[Sample]:
    """Yield the samples of kinds that a text names, as a help that speaks of STL files does."""
    for sample in SAMPLES:
        endings = [re.escape(each) for each in sample.names if each.startswith(".")]
        named = rf"(?<![\w.]){re.escape(sample.kind)}(?!\w)" if sample.kind not in _COMMON_WORDS else r"(?!)"
        if re.search("|".join([named, *(rf"\w{each}\b" for each in endings)]), text):
            yield sample


#: Kinds whose names are words of every text.
_COMMON_WORDS = frozenset(
    {
        "C",
        "Go",
        "Java",
        "dot",
        "lines",
        "shell",
        "properties",
        "environment",
        "difference",
        "calendar",
        "requirements",
    }
)


def named_files(said: str) -> Iterator[str]:
    """Yield the names of files that a message says are missing, relative ones alone."""
    for line in said.splitlines():
        if not _IS_MISSING.search(line):
            continue
        found = list(_MISSING.finditer(line))
        for match in found:
            name = match["quoted"] or match["bare"]
            # who speaks stands in front: `fare.py: cannot open ports.csv`
            is_speaker = line[match.end() :].startswith(":") and match is not found[-1]
            if name and not is_speaker and not name.startswith(("/", "-", "..")) and sample_for(name):
                yield name


def as_spec_text(content: str) -> str:
    """Return the content of a sample as a spec writes it: braces are doubled there."""
    return content.replace("{", "{{").replace("}", "}}")
