"""`keen-matrix schema`: the JSON Schema of specs, and of descriptions of parsers."""

from __future__ import annotations

import argparse
import json
import sys

EPILOG = """\
example:
  keen-matrix schema > keen-matrix.schema.json
  keen-matrix schema --of parser                  what draft --from reads

Editors with TOML support then complete keys and mark mistakes in a spec that begins with
  #:schema keen-matrix.schema.json
exit status: 0, 2 wrong usage
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of the command."""
    parser.add_argument(
        "--of", choices=("spec", "parser"), default="spec",
        help="a spec (the default), or the description of a parser for draft --from",
    )  # fmt: skip


def main(options: argparse.Namespace) -> int:
    """Run the command and return the exit status."""
    if options.of == "parser":
        from keen_matrix.core.signature.parsers.described import description_schema as schema
    else:
        from keen_matrix.core.spec.schema import json_schema as schema

    json.dump(schema(), sys.stdout, indent=2, ensure_ascii=False)
    print()
    return 0
