"""SARIF 2.1.0 (OASIS standard): problems of specs for systems that show results of code
scanning."""

from __future__ import annotations

import json
import os
from collections.abc import Sequence
from typing import BinaryIO
from urllib.parse import quote

from keen_matrix.core.errors import Problem
from keen_matrix.core.version import VERSION
from keen_matrix.wording.rules import rule_id

SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"


def write_sarif(problems: Sequence[Problem], stream: BinaryIO) -> None:
    """Write problems as one run of SARIF. Paths go from the current directory."""
    rules = sorted({rule_id(each.message) for each in problems})
    document = {
        "$schema": SCHEMA,
        "version": "2.1.0",
        "runs": [
            {
                "tool": {
                    "driver": {
                        "name": "keen-matrix lint",
                        "version": VERSION,
                        "rules": [{"id": each} for each in rules],
                    }
                },
                "columnKind": "unicodeCodePoints",
                "originalUriBaseIds": {"ROOT": {"uri": f"file://{quote(os.getcwd())}/"}},
                "results": [_result(each, rules) for each in problems],
            }
        ],
    }
    text = json.dumps(document, indent=2, ensure_ascii=False) + "\n"
    stream.write(text.encode("utf-8", "backslashreplace"))


def _result(problem: Problem, rules: Sequence[str]) -> dict[str, object]:
    rule = rule_id(problem.message)
    text = problem.message + (f"; {problem.wanted}" if problem.expected else "")
    if problem.suggestion:
        text += f'; did you mean "{problem.suggestion}"?'
    location: dict[str, object] = {
        "artifactLocation": {"uri": quote(os.path.relpath(problem.path)), "uriBaseId": "ROOT"}
    }
    if problem.line:
        location["region"] = {"startLine": problem.line, "startColumn": max(1, problem.column)}
    return {
        "ruleId": rule,
        "ruleIndex": rules.index(rule),
        "level": problem.severity,
        "message": {"text": text},
        "locations": [{"physicalLocation": location}],
    }
