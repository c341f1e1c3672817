"""The formats of reports and of calls: a row each, and a module with the function that writes it,
loaded when it is asked for."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from importlib import import_module
from typing import Any

from keen_matrix.core.structs import Struct


class FormatKind(Struct, frozen=True):
    """What the rest of the code knows of a format."""

    #: What it is for.
    about: str
    #: `module:function` in this package; the function takes what is reported and a binary stream.
    writer: str
    #: How its reports begin, as a regular expression: what begins otherwise is no earlier report,
    #: and is never replaced.
    mark: bytes

    @property
    def write(self) -> Callable[..., Any]:
        """The function that writes it."""
        module, _, function = self.writer.partition(":")
        found: Callable[..., Any] = getattr(import_module(f"keen_matrix.reports.{module}"), function)
        return found


#: Name of a format → what is known of it.
FORMATS: Mapping[str, FormatKind] = {
    "junit": FormatKind(
        "XML for CI servers: a suite a matrix",
        "junit:write",
        rb'<\?xml[^>]*>\s*<testsuites name="keen-matrix"',
    ),
    "tap": FormatKind("Test Anything Protocol, version 14", "tap:write", rb"TAP version 14\n"),
    "html": FormatKind(
        "one self-contained page",
        "html:write",
        rb'(?s)<!DOCTYPE html>.{0,200}<meta name="generator" content="Keen Matrix">',
    ),
    "markdown": FormatKind("for a merge request", "markdown:write", rb"### [^\n]* cases?: "),
    "csv": FormatKind("a row a case, axis values as columns", "tables:write_csv", rb"spec,id,matrix,family,"),
    "json": FormatKind("a row a case, axis values as columns", "tables:write_json", rb'\[\s*(\{"spec":|\])'),
    "picture": FormatKind(
        "PNG or SVG, by the file's ending",
        "pictures:write",
        rb"(?s)(\x89PNG\r\n\x1a\n|<\?xml).{0,2000}Keen Matrix",
    ),
    "annotations": FormatKind(
        "workflow commands that point CI systems at rules", "annotations:write", rb"::(error|warning) file="
    ),
}

#: Name of a format that can have every case with its output → what is known of it.
RESULT_FORMATS: Mapping[str, FormatKind] = {
    "html": FormatKind(
        "one self-contained page: every case with its output", "results:write_html", FORMATS["html"].mark
    ),
    "markdown": FormatKind(
        "every case with its output", "results:write_markdown", rb"### (no|[\d,]+) cases? with their output"
    ),
}

#: Name of a format of calls side by side → what is known of it; its function takes a CallTable.
CALL_FORMATS: Mapping[str, FormatKind] = {
    "json": FormatKind("an object", "call_tables:write_calls_json", rb'\{\s*"kind": "calls"'),
    "csv": FormatKind(
        "a row a call", "call_tables:write_calls_csv", rb"call,exit,signal,stdout,stderr,seconds\n"
    ),
    "markdown": FormatKind(
        "for a merge request", "call_tables:write_calls_markdown", rb"### [\d,]+ calls? of "
    ),
    "html": FormatKind("one self-contained page", "call_tables:write_calls_html", FORMATS["html"].mark),
}
