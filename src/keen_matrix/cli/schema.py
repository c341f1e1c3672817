"""`keen-matrix schema`: the JSON Schema of specs, of descriptions of parsers, and of what commands
write."""

from __future__ import annotations

import argparse
import json
import sys

#: Names of documents that we write, each of which a module that is costly to load knows.
SCHEMAS = (
    "lint",
    "doubt",
    "suspects",
    "narrow",
    "places",
    "coverage",
    "compare",
    "history",
    "settle",
    "calls",
    "journal",
    "case",
)

EPILOG = """\
example:
  keen-matrix schema > keen-matrix.schema.json
  keen-matrix schema --of parser                  the description that draft --from reads

Editors with TOML support complete keys and mark mistakes in a spec that begins with
  #:schema keen-matrix.schema.json
exit status: 0, 2 wrong usage
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of the command."""
    parser.add_argument(
        "--of",
        choices=("spec", "parser", *SCHEMAS),
        default="spec",
        metavar="NAME",
        help="spec (the default), parser (the description that draft --from reads), journal (a line of it), "
        "case (a line of unfold --format json), or a command (what its --format json writes)",
    )


def main(options: argparse.Namespace) -> int:
    """Run the command and return the exit status."""
    if options.of in SCHEMAS:
        from keen_matrix.cli.documents import schema_of

        document = schema_of(options.of)
    elif options.of == "parser":
        from keen_matrix.core.signature.parsers.described import description_schema

        document = description_schema()
    else:
        from keen_matrix.core.spec.schema import json_schema

        document = json_schema()
    # JSON is UTF-8, whatever the terminal takes (RFC 8259, 8.1).
    sys.stdout.flush()
    sys.stdout.buffer.write(json.dumps(document, indent=2, ensure_ascii=False).encode() + b"\n")
    sys.stdout.buffer.flush()
    return 0
