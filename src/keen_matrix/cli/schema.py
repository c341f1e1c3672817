"""`keen-matrix schema`: the JSON Schema of specs."""

from __future__ import annotations

import argparse
import json
import sys

EPILOG = """\
example:
  keen-matrix schema > keen-matrix.schema.json

Editors with TOML support then complete keys and mark mistakes in a spec that begins with
  #:schema keen-matrix.schema.json
exit status: 0, 2 wrong usage
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of the command: it has none."""


def main(options: argparse.Namespace) -> int:
    """Run the command and return the exit status."""
    from keen_matrix.core.spec.schema import json_schema

    json.dump(json_schema(), sys.stdout, indent=2, ensure_ascii=False)
    print()
    return 0
