"""What every table of the document is: read key by key, and not made before it is needed."""

from functools import cached_property
from importlib import import_module
from typing import Annotated, Any, ClassVar

from pydantic import BaseModel, ConfigDict, GetCoreSchemaHandler, GetJsonSchemaHandler
from pydantic.json_schema import JsonSchemaValue
from pydantic_core import CoreSchema
from pydantic_core.core_schema import no_info_plain_validator_function


def kebab(name: str) -> str:
    """Return the key of a spec for a field of ours."""
    return name.rstrip("_").replace("_", "-")


#: Marks in a JSON Schema where a table stands: pydantic looks up references itself, among its
#: own.
_TABLE = "x-table"


class Table(BaseModel):
    """A table of the spec: unknown keys are errors.

    Its validator is made when the first value of it is read, also where it is in another table:
    a spec has few of the tables, and to make the validators of all would take a fifth of the time
    in which a small one is read."""

    model_config = ConfigDict(
        extra="forbid", frozen=True, alias_generator=kebab, validate_by_name=False, defer_build=True
    )
    #: The table whose own validator is being made.
    _made: ClassVar[type[BaseModel] | None] = None

    @classmethod
    def model_rebuild(cls, *, _parent_namespace_depth: int = 2, **how: Any) -> bool | None:
        """Make the validator, as pydantic does where the first value is read."""
        Table._made = cls
        try:
            return super().model_rebuild(_parent_namespace_depth=_parent_namespace_depth + 1, **how)
        finally:
            Table._made = None

    @classmethod
    def __get_pydantic_core_schema__(cls, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        """Return the schema of the table whose validator is made, and in another's a call of it."""
        if Table._made is cls:
            Table._made = None
            return handler(source)
        # errors that it raises keep their places, below that of the table (pydantic-core,
        # ValidationError)
        return no_info_plain_validator_function(
            lambda value: cls.__pydantic_validator__.validate_python(value)
        )

    @classmethod
    def __get_pydantic_json_schema__(
        cls, schema: CoreSchema, handler: GetJsonSchemaHandler
    ) -> JsonSchemaValue:
        """Return the JSON Schema of the table, and in another's a reference to it (see
        `table_schemas`)."""
        if schema["type"] != "function-plain":
            return handler(schema)
        return {_TABLE: cls}


def table_schemas(table: type[Table]) -> tuple[JsonSchemaValue, JsonSchemaValue]:
    """Return the JSON Schema of a table, and those of all tables that are in it, by name."""
    found: JsonSchemaValue = {}
    named: dict[str, type[BaseModel]] = {}
    outer = _table_schema(table, named)
    while missing := [each for name, each in named.items() if name not in found]:
        found.update((each.__name__, _table_schema(each, named)) for each in missing)
    return outer, dict(sorted(found.items()))


def _table_schema(table: type[BaseModel], named: dict[str, type[BaseModel]]) -> Any:
    """Return the JSON Schema of one table; the tables that it refers to join `named`."""
    schema = table.model_json_schema()
    # one that contains itself is a reference to its definition
    return _tidied(schema.get("$defs", {}).get(table.__name__, schema), named)


def _tidied(schema: Any, named: dict[str, type[BaseModel]]) -> Any:
    """Return a JSON Schema with references instead of the marks of tables, and without the titles
    of keys, which only say the keys again."""
    if isinstance(schema, list):
        return [_tidied(each, named) for each in schema]
    if not isinstance(schema, dict):
        return schema
    tidied = {key: _tidied(each, named) for key, each in schema.items() if key != _TABLE}
    if _TABLE in schema:
        table = schema[_TABLE]
        named[table.__name__] = table
        tidied["$ref"] = f"#/$defs/{table.__name__}"
    for each in tidied.get("properties", {}).values():
        each.pop("title", None)
    return tidied


class LazyTable:
    """Stands in an annotation for a table whose module is loaded when the first value of it is
    read."""

    def __init__(self, place: str) -> None:
        self._place = place

    @cached_property
    def table(self) -> type[Table]:
        """The table itself."""
        module, _, name = self._place.partition(":")
        found: type[Table] = getattr(import_module(module), name)
        return found

    def __get_pydantic_core_schema__(self, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        return no_info_plain_validator_function(lambda value: self.table.model_validate(value))

    def __get_pydantic_json_schema__(
        self, schema: CoreSchema, handler: GetJsonSchemaHandler
    ) -> JsonSchemaValue:
        return self.table.__get_pydantic_json_schema__(schema, handler)


def lazy_table(place: str) -> object:
    """Return the annotation of a table that is loaded when it is needed, by its place
    `MODULE:NAME`."""
    return Annotated[object, LazyTable(place)]


def elsewhere_in(annotation: object) -> LazyTable | None:
    """Return what is in an annotation for a table that is loaded when it is needed."""
    metadata = getattr(annotation, "__metadata__", ())
    return next((each for each in metadata if isinstance(each, LazyTable)), None)
