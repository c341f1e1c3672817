"""The formats of reports: a row each, and a module with the function that writes it, loaded when
it is asked for."""

from __future__ import annotations

from collections.abc import Mapping

from keen_matrix.core.structs import Struct


class FormatKind(Struct, frozen=True):
    """What the rest of the code knows of a format."""

    #: What it is for.
    about: str
    #: `module:function` in this package; the function takes a report and a binary stream.
    writer: str
    #: How its reports begin, as a regular expression: what begins otherwise is no earlier report,
    #: and is never replaced.
    mark: bytes


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
