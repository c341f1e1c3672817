"""The JSON Schema of specs (draft 2020-12), made from the document's models."""

from __future__ import annotations

from keen_matrix.core.spec.document.tables import table_schemas
from keen_matrix.core.spec.document.whole import SpecDocument


def json_schema() -> dict[str, object]:
    """Return the schema that every spec conforms to as far as a schema can tell."""
    schema, tables = table_schemas(SpecDocument)
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Keen Matrix spec",
        "$defs": tables,
        **{key: value for key, value in schema.items() if key != "title"},
    }
