"""Where in the data of a spec texts stand that are more than texts: templates, expressions, lines.

The annotations of the document say it, and this module reads them beside data as a file has them:
data of which a part does not validate, so that every fault is reported at once.
"""

import types
from collections.abc import Callable, Iterator, Mapping
from enum import Enum, auto
from functools import cache
from typing import Annotated, Any, NamedTuple, TypeAlias, Union, get_args, get_origin

from pydantic import BaseModel

from keen_matrix.core.spec.document.tables import LazyTable, elsewhere_in
from keen_matrix.core.spec.keys import KeyPath

#: A table as a file has it.
RawTable: TypeAlias = Mapping[str, object]


class Role(Enum):
    """What a text is read as. A list stands for as many texts."""

    #: A text with fields; as it stands where its table is `literal`.
    TEMPLATE = auto()
    #: A number, a range of numbers, or a template for one.
    AMOUNT = auto()
    #: The words of a command, each a template.
    WORDS = auto()
    #: A line of the notation; a list is words.
    LINE = auto()
    EXPRESSION = auto()
    #: The words of a command; a list is several commands.
    COMMANDS = auto()


#: What the items of a list are, where that is something else than the text without a list.
_ITEMS = {Role.LINE: Role.TEMPLATE, Role.WORDS: Role.TEMPLATE, Role.COMMANDS: Role.WORDS}


class PlacedText(NamedTuple):
    """A text, what it is read as, and the table in which it stands."""

    path: KeyPath
    text: str
    role: Role
    table: RawTable
    #: Whether it is the key there, not the value.
    is_key: bool = False


class PlacedTable(NamedTuple):
    """A table, and the class of the document that it should be."""

    path: KeyPath
    model: type[BaseModel]
    data: RawTable


Placed: TypeAlias = PlacedText | PlacedTable
#: What is at a path: the data there, and the table around it.
Walk: TypeAlias = Callable[[KeyPath, object, RawTable], Iterator[Placed]]


def placed_in(model: type[BaseModel], path: KeyPath, data: object) -> Iterator[Placed]:
    """Yield every table in data that should be a `model`, and every text with a role, in the order
    of the document's classes. What is of the wrong type is passed over."""
    return _model_walk(model)(path, data, {})


@cache
def fields_with(model: type[BaseModel], role: Role) -> frozenset[str]:
    """Return the keys of a table whose texts, or lists of texts, have a role."""
    found = set()
    for key, annotation in _annotations(model):
        walk = _walk_of(annotation)
        texts = [each for each in (*walk((), "", {}), *walk((), [""], {})) if isinstance(each, PlacedText)]
        if any(each.role is role for each in texts):
            found.add(key)
    return frozenset(found)


def _annotations(model: type[BaseModel]) -> Iterator[tuple[str, object]]:
    """Yield the keys of a table and what stands under each."""
    for name, field in model.model_fields.items():
        annotation: object = field.annotation
        for each in field.metadata:
            annotation = Annotated[annotation, each]
        yield field.alias or name, annotation


@cache
def _model_walk(model: type[BaseModel]) -> Walk:
    """Return the walk of a table. A text in a table's place stands for its first field."""
    inner: dict[str, Walk] = {}

    def walk(path: KeyPath, data: object, table: RawTable) -> Iterator[Placed]:
        if not inner:  # not before it is needed: tables may contain themselves
            inner.update((key, _walk_of(annotation)) for key, annotation in _annotations(model))
        if isinstance(data, str):
            yield from next(iter(inner.values()))(path, data, {})
        if not isinstance(data, dict):
            return
        yield PlacedTable(path, model, data)
        for key, below in inner.items():
            if key in data:
                yield from below((*path, key), data[key], data)
        others: type[BaseModel] | None = getattr(model, "others", None)
        for key in data.keys() - inner.keys() if others is not None else ():
            yield from _model_walk(others)((*path, key), data[key], data)

    return walk


def _walk_of(annotation: object) -> Walk:
    """Return the walk of what an annotation of the document describes."""
    origin, arguments = get_origin(annotation), get_args(annotation)
    if origin is Annotated:
        table = elsewhere_in(annotation)
        if table is not None:
            return _elsewhere_walk(table)
        role = _role_of(annotation)
        return _walk_of(arguments[0]) if role is None else _text_walk(role)
    if origin in (Union, types.UnionType):
        walks = [walk for each in arguments if (walk := _walk_of(each)) is not _nothing]
        return _joined(walks) if walks else _nothing
    if origin is list:
        return _list_walk(_walk_of(arguments[0]))
    if origin is dict:
        return _dict_walk(_role_of(arguments[0]), _walk_of(arguments[1]))
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return _model_walk(annotation)
    return _nothing


def _elsewhere_walk(table: LazyTable) -> Walk:
    """Return the walk of a table that is loaded when there is data of it."""
    return lambda path, data, _: _model_walk(table.table)(path, data, {})


def _nothing(path: KeyPath, data: object, table: RawTable) -> Iterator[Placed]:
    return iter(())


def _text_walk(role: Role) -> Walk:
    def walk(path: KeyPath, data: Any, table: RawTable) -> Iterator[Placed]:
        if isinstance(data, str) or data == []:
            yield PlacedText(path, data or "", role, table)
        for number, each in enumerate(data if isinstance(data, list) else ()):
            if isinstance(each, str):
                # the items of a list are words already
                single = _ITEMS.get(role, role)
                yield PlacedText((*path, number), each, single, table)

    return walk


def _list_walk(below: Walk) -> Walk:
    """Return the walk of a list. Where one item will do, it may stand without its list."""
    if below is _nothing:
        return _nothing

    def walk(path: KeyPath, data: object, table: RawTable) -> Iterator[Placed]:
        if not isinstance(data, list):
            yield from below(path, data, table)
            return
        for number, each in enumerate(data):
            yield from below((*path, number), each, table)

    return walk


def _role_of(annotation: object) -> Role | None:
    metadata = getattr(annotation, "__metadata__", ())
    return next((each for each in metadata if isinstance(each, Role)), None)


def _dict_walk(role: Role | None, below: Walk) -> Walk:
    """Return the walk of a table whose keys are of the user's choice; they may be texts with a
    role themselves."""
    if below is _nothing and role is None:
        return _nothing

    def walk(path: KeyPath, data: object, table: RawTable) -> Iterator[Placed]:
        for key, each in data.items() if isinstance(data, dict) else ():
            if role is not None and isinstance(key, str):
                yield PlacedText((*path, key), key, role, {}, is_key=True)
            yield from below((*path, key), each, {})

    return walk


def _joined(walks: list[Walk]) -> Walk:
    if len(walks) == 1:
        return walks[0]

    def walk(path: KeyPath, data: object, table: RawTable) -> Iterator[Placed]:
        for each in walks:
            yield from each(path, data, table)

    return walk
